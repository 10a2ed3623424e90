"""`ovek audit`: is the fleet fit to reload, and where not, why?"""

import sys
from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.cli.options import (
    Devices,
    fail_on_option,
    reaches,
    snapshot_options,
    write_bytes,
    write_lines,
)
from ovek.engine.audit import audit_device
from ovek.files.site import Site
from ovek.files.spool import Spool
from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit


@click.command("audit")
@snapshot_options
@fail_on_option
def command(site_folder: Path, snapshot_file: Path | None, format_: str, fail_on: str) -> None:
    """Is the fleet fit to reload, and where not, why?

    Holds every image against what was released, walks the next start of every member, and says
    what is wrong, where it was seen and what to do. Exit code 1 where a finding is at or above
    --fail-on.
    """
    from ovek.render import json
    from ovek.render.audit import AuditRow, AuditTable

    site = Site(site_folder)
    devices = Devices(site, site.snapshot(snapshot_file))
    summary, table = AuditSummary(), AuditTable()
    as_json = format_ == "json"
    results, rows = Spool(DeviceAudit), Spool(AuditRow)
    for device, judge in devices:
        audit = audit_device(device, judge, site.policy)
        summary.add(audit)
        if as_json:
            results.add(audit)
        else:
            rows.add(table.add(audit))
    if as_json:
        now = datetime.now(UTC).replace(microsecond=0)
        write_bytes(json.audit(now, results.lines(), devices.not_read, summary))
    else:
        write_lines(table.lines(summary, lambda: rows, _about(devices)))
    found = (name for name in SEVEREST_FIRST if getattr(summary, name))
    if any(reaches(severity, fail_on) for severity in found):
        sys.exit(1)


def _about(devices: Devices) -> list[str]:
    """Where the facts come from, and which devices of the fleet they leave out."""
    from ovek.render.lines import count, listed

    site = devices.site
    number = len(devices.releases.releases)
    lines = [
        f"{site.fleet.name}, snapshot {devices.file.name}, held against {count(number, 'release')}"
    ]
    if devices.not_read:
        names = listed(devices.not_read)
        lines.append(f"Not in this snapshot, so not audited: {names}")
    return lines

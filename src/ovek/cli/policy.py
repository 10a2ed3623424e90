"""`ovek policy`: what is wanted, checked against the fleet and the catalog."""

from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.app.devices import releases_of, site_context
from ovek.app.marking import mark_changes
from ovek.app.policy import check_policy
from ovek.cli.command import Group
from ovek.cli.options import SITE, format_option, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.files.site import Site
from ovek.model.waiver import Waiver


@click.group("policy", cls=Group)
def command() -> None:
    """What is wanted of the devices: policy.toml, and the findings accepted in waivers.toml."""


@command.command("check", examples=("policy check", "policy check --format json"))
@SITE
@format_option(lists=False)
def check(site_folder: Path, format_: str) -> None:
    """Is the policy sound, and does it name what there is?

    Tells every mistake at once: contradictions, and rules, devices, sheets and releases that do
    not exist, each with the nearest name that does. Waivers that are expired, and those that no
    device needs by its latest reading, are marked.
    """
    site = Site(site_folder)
    check_policy(site, releases_of(site), strict=True)
    mark_changes(site)
    marks = _marks(site)
    if format_ == "json":
        from ovek.render import json

        whole = json.policy(site_context(site), site.policy, site.waivers, marks)
        write_json(whole, format_, "waivers")
    else:
        from ovek.render.policy import policy

        write_lines(policy(site.policy, site.waivers, site.fleet, marks))


def _marks(site: Site) -> list[str | None]:
    """What is wrong with each waiver: it is over, or no device has what it is for; else None.

    Of what is for a device that was not read, nobody knows whether it is used.
    """
    if not site.waivers:
        return []
    from ovek.app.devices import Devices
    from ovek.app.shelves import shelf_facts
    from ovek.cli.audit import Auditing, unused
    from ovek.cli.fleetwide import each_part

    now = datetime.now(UTC).replace(microsecond=0)
    devices = Devices(site, site.state(), releases=releases_of(site))
    used, idle = set[Waiver](), list[Waiver]()
    if devices.names:
        shelf = shelf_facts(site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
        for part in each_part(devices, Auditing, now, shelf, frozenset({""}), False):
            used |= part.used
        idle = unused(devices, used)
    today = now.date()
    return [
        "expired" if one.until < today else "unused" if one in idle else None
        for one in site.waivers
    ]

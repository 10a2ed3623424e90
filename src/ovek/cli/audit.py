"""`ovek audit`: is the fleet fit to reload, and where not, why?"""

from datetime import UTC, datetime, timedelta
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from ovek.cli.fleetwide import each_part
from ovek.cli.options import (
    Devices,
    exit_code,
    fail_on_option,
    reaches,
    snapshot_options,
    unknown_rule,
    write_bytes,
    write_lines,
)
from ovek.cli.policy import check_policy, contradiction, wants_of
from ovek.cli.shelf import shelf_facts
from ovek.engine.audit import audit_device, rule_cards
from ovek.engine.rules.every import RULES
from ovek.engine.verdicts import Judge
from ovek.engine.wanted import ContradictionError
from ovek.files.site import Site
from ovek.files.spool import Spool
from ovek.model.age import show_age
from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device
from ovek.model.waiver import Waiver
from ovek.render.forms import FORMS, AuditResult, written
from ovek.render.unread import Unreads

if TYPE_CHECKING:
    from ovek.render.audit import RowMaker


_TELLING = timedelta(days=2)  # an age of a proof that is worth a line


@click.command("audit")
@click.option(
    "--only", multiple=True, metavar="RULE", help="Only this rule's findings (may be repeated)."
)
@click.option(
    "--device", "globs", multiple=True, metavar="GLOB", help="Only these devices (may be repeated)."
)
@click.option(
    "--group-by",
    type=click.Choice(["device", "rule", "image"]),
    default="device",
    help="Put the findings together by this (default: device; for table and markdown).",
)
@snapshot_options(*(name for name in FORMS if name != "json"))
@fail_on_option
def command(
    only: tuple[str, ...],
    globs: tuple[str, ...],
    group_by: str,
    site_folder: Path,
    snapshot_file: str | None,
    format_: str,
    fail_on: str,
) -> None:
    """Is the fleet fit to reload, and where not, why?

    Holds every image against what was released, walks the next start of every member, and says
    what is wrong, where it was seen and what to do: `ovek rules` lists all that is looked for.
    Exit code 1 where a finding that nobody has waived is at or above --fail-on.
    """
    for slug in only:
        if slug not in RULES:
            raise unknown_rule(slug, RULES, "--only")
    if group_by != "device" and format_ not in ("table", "markdown"):
        raise click.UsageError(f"--group-by is for table and markdown; {format_} is by device")
    site = Site(site_folder)
    devices = Devices(site, site.state(snapshot_file), globs=globs)
    check_policy(site, devices.releases)
    now = datetime.now(UTC).replace(microsecond=0)
    as_table = format_ == "table" and group_by == "device"
    summary, used, lines = AuditSummary(), set[Waiver](), Spool(DeviceAudit)
    widths: list[list[int]] = []
    stranded: list[str] = []
    shelf = shelf_facts(site, devices.releases, devices.state.lines.keys())
    unread = {one.device: one.why for one in devices.not_read if one.last_read is not None}
    for part in each_part(devices, Auditing, now, shelf, frozenset(only), as_table, unread):
        summary.join(part.summary)
        used |= part.used
        widths.append(part.widths)
        stranded += part.stranded
        for line in part.lines:
            lines.add_line(line)
    never = [one for one in devices.not_read if one.last_read is None]
    summary.devices += len(never)
    summary.not_read += len(never)
    whole = not globs and not only
    if as_table:
        from ovek.render.audit import audit_table

        about = _about(devices, summary, used, now, whole=whole)
        told = Unreads(devices.not_read, now)
        write_lines(audit_table(summary, lines.lines, widths, stranded, about, told))
    else:
        _write(
            format_,
            AuditResult(
                audits=lines,
                lines=lines.lines,
                summary=summary,
                as_of=now,
                group_by=group_by,
                not_read=devices.not_read,
                unused=_unused(devices, used) if whole else [],
                about=_about(devices, summary, set(), now, whole=False),
                cards=rule_cards(),
                fails=lambda severity: reaches(severity, fail_on),
            ),
        )
    found = (name for name in SEVEREST_FIRST if getattr(summary, name))
    exit_code(any(reaches(severity, fail_on) for severity in found), devices)


def _write(format_: str, result: AuditResult) -> None:
    """Write the result in any form but the usual table."""
    if format_ == "table":
        from ovek.render.groups import grouped

        write_lines(
            grouped(
                result.audits,
                result.summary,
                result.group_by,
                result.cards,
                Unreads(result.not_read, result.as_of),
            )
        )
    else:
        write_bytes(written(format_, result))


class Part(Struct):
    """The audit of some devices: a line of JSON each, and what they add up to.

    The lines are of DeviceAudit, or of AuditRow for the table; `widths` are those of its columns.
    """

    lines: list[bytes] = []
    summary: AuditSummary = field(default_factory=AuditSummary)
    used: set[Waiver] = field(default_factory=set)
    looked_at: set[str] = field(default_factory=set)
    widths: list[int] = []
    stranded: list[str] = []


class Auditing:
    """Audits the devices of a site, as rows of the table or whole."""

    def __init__(
        self,
        devices: Devices,
        now: datetime,
        shelf: ShelfFacts | None,
        only: frozenset[str],
        as_table: bool,
        unread: dict[str, str],
    ) -> None:
        site = devices.site
        self.devices, self.unread = devices, unread
        self.site, self.waivers = site, site.waivers
        self.wants = wants_of(site)
        self.now, self.shelf, self.only = now, shelf, only
        self.part = Part()
        self._encode = msgspec.json.Encoder(order="sorted").encode
        self._rows: RowMaker | None = None
        if as_table:
            from ovek.render import audit as table

            self._rows = table.RowMaker()

    def take(self, device: Device, judge: Judge) -> None:
        """Audit one device."""
        part = self.part
        try:
            audit = audit_device(
                device,
                judge,
                self.wants,
                now=self.now,
                shelf=self.shelf,
                waivers=self.waivers,
                used=part.used,
                expected=self.devices.expected(device.device),
                not_read=self.unread.get(device.device),
                advise=self.only or True,
            )
        except ContradictionError as error:
            raise contradiction(self.site, error) from None
        if self.only:
            findings = tuple(each for each in audit.findings if each.rule in self.only)
            audit = replace(audit, findings=findings)
        part.summary.add(audit)
        made = audit if self._rows is None else self._rows.row(audit)
        part.lines.append(self._encode(made))
        part.looked_at.add(audit.device)
        if audit.reload == "stranded" and audit.not_read is None:
            part.stranded.append(audit.device)

    def result(self) -> Part:
        """The part that is done."""
        done, self.part = self.part, Part()
        if self._rows is not None:
            done.widths = self._rows.columns.widths
        return done


def _unused(devices: Devices, used: set[Waiver]) -> list[Waiver]:
    """The waivers that were of no use; one for a device that was not read may be of use yet."""
    unread = [one.device for one in devices.not_read]
    return [
        waiver
        for waiver in devices.site.waivers
        if waiver not in used and not any(fnmatchcase(name, waiver.device) for name in unread)
    ]


def _about(
    devices: Devices, summary: AuditSummary, used: set[Waiver], now: datetime, *, whole: bool
) -> list[str]:
    """Where the facts come from, how old they are, and which waivers were of no use."""
    from ovek.render.lines import count

    site = devices.site
    number = len(devices.releases.releases)
    lines = [f"{site.fleet.name}, {devices.label}, held against {count(number, 'release')}"]
    if summary.oldest_proof is not None and now - summary.oldest_proof >= _TELLING:
        age = show_age(now - summary.oldest_proof)
        lines.append(f"The oldest proof was measured {age} ago: {summary.oldest_proven}")
    for waiver in _unused(devices, used) if whole else []:
        where = f" at {waiver.place}" if waiver.place else ""
        lines.append(
            f"A waiver of no use: {waiver.rule} on {waiver.device}{where}, by {waiver.by} until "
            f"{waiver.until}; remove it from waivers.toml"
        )
    return lines

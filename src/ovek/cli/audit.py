"""`ovek audit`: is the fleet fit to reload, and where not, why?"""

from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING

import click
import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from ovek.app.again import Again, Basis, Result, basis_of
from ovek.app.answering import Answering
from ovek.app.devices import Devices
from ovek.app.marking import mark_changes
from ovek.app.policy import check_policy, contradiction
from ovek.app.shelves import shelf_facts
from ovek.app.work import Work
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command, OneOf
from ovek.cli.completing import rules
from ovek.cli.fleetwide import each_part
from ovek.cli.options import (
    MAY_DROP,
    exit_code,
    fail_on_option,
    reaches,
    unknown_rule,
    write_bytes,
    write_lines,
)
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, device_options, on_option
from ovek.engine.answer import unread
from ovek.engine.audit import answer_in, audit_within, rule_cards
from ovek.engine.rules.every import RULES
from ovek.engine.verdicts import Judge, judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.kept import Row, keep
from ovek.files.spool import Spool
from ovek.files.state import Line
from ovek.model.age import show_age
from ovek.model.answer import Answered
from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit
from ovek.model.plan import Unlock
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device
from ovek.model.waiver import Waiver
from ovek.render.forms import FORMS, AuditResult, written

if TYPE_CHECKING:
    from ovek.render.audit import RowMaker


_TELLING = timedelta(days=2)  # an age of a proof that is worth a line


@click.command(
    "audit",
    cls=Command,
    examples=('audit --where site="Port Arle"', "audit --only boot-target-missing --format csv"),
)
@click.option(
    "--only",
    multiple=True,
    metavar="RULE",
    shell_complete=rules,
    help="Only this rule's findings, and the devices that have one (may be repeated).",
)
@click.option(
    "--group-by",
    type=OneOf(["device", "rule", "image"]),
    default="device",
    help="Put the findings together by this (default: device; for table and markdown).",
)
@click.option(
    "--rows",
    type=OneOf(["findings", "devices"]),
    default="findings",
    help="With --format csv: a row for each of these (default: findings).",
)
@MAY_DROP
@click.option("-v", "--verbose", is_flag=True, help="Name every device that is held back.")
@as_of_options
@on_option
@device_options(*(name for name in FORMS if name not in ("json", "jsonl")))
@fail_on_option
def command(
    only: tuple[str, ...],
    group_by: str,
    rows: str,
    may_drop: tuple[Unlock, ...],
    verbose: bool,
    selected: Selection,
    format_: str,
    fail_on: str,
) -> None:
    """Is the fleet (or each DEVICE, a name or glob) fit to reload, and where not, why?

    Holds every image against what was released, walks the next start of every member, and says
    what is wrong, where it was seen and what to do: `ovek rules` lists all that is looked for.
    Exit code 1 where a finding that nobody has waived is at or above --fail-on.
    """
    for slug in only:
        if slug not in RULES:
            raise unknown_rule(slug, RULES, "--only")
    if group_by != "device" and format_ not in ("table", "markdown"):
        raise click.UsageError(f"--group-by is for table and markdown; {format_} is by device")
    if rows != "findings" and format_ != "csv":
        raise click.UsageError(f"--rows is for csv; {format_} has both")
    site, devices = selected.site, selected.devices()
    check_policy(site, devices.releases)
    now = selected.now
    as_table = format_ == "table" and group_by == "device"
    summary, used, lines = AuditSummary(), set[Waiver](), Spool(DeviceAudit)
    widths: list[list[int]] = []
    held: list[Answered] = []
    last: Answered | None = None
    shelf = shelf_facts(site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
    afresh = bool(only) or selected.snapshot is not None or bool(may_drop)
    basis = None if afresh else basis_of(devices, shelf)
    allowed = frozenset(may_drop)
    fresh = Spool(Row)
    for part in each_part(devices, Auditing, now, shelf, frozenset(only), as_table, basis, allowed):
        for row in part.fresh:
            fresh.add(row)
        summary.join(part.summary)
        used |= part.used
        widths.append(part.widths)
        held += part.held
        last = part.last or last
        for line in part.lines:
            lines.add_line(line)
    never = [unread(one) for one in devices.not_read if one.last_read is None]
    for _ in never:
        summary.add_never()
    last = never[-1] if never else last
    whole = selected.everything and not only
    result = AuditResult(
        audits=lines,
        lines=lines.lines,
        summary=summary,
        held=[*held, *never],
        one=last if summary.devices == 1 else None,
        only=only,
        context=devices.context(now, selected.told()),
        group_by=group_by,
        rows=rows,
        not_read=devices.not_read,
        unused=unused(devices, used) if whole else [],
        about=_about(devices, summary, now),
        cards=rule_cards(),
        verbose=verbose,
        fails=lambda severity: reaches(severity, fail_on),
    )
    if as_table:
        from ovek.render.audit import audit_table

        write_lines(audit_table(result, widths))
    elif format_ == "table":
        from ovek.render.groups import grouped

        write_lines(grouped(result))
    else:
        write_bytes(written(format_, result))
    if basis is not None and (fresh.number or whole):
        keep(basis.file, fresh, devices.state.names if whole else None)
    mark_changes(site)
    found = (name for name in SEVEREST_FIRST if getattr(summary, name))
    no_go = summary.no_go > 0 and not only and reaches("critical", fail_on)
    exit_code(no_go or any(reaches(severity, fail_on) for severity in found), devices)


class Part(Struct):
    """The audit of some devices: a line of JSON each, and what they add up to.

    The lines are of DeviceAudit, or of AuditRow for the table; `widths` are those of its columns.
    `held` are the answers that are no plain go, `last` is that of the last device. `fresh` are the
    results that were not known from before.
    """

    lines: list[bytes] = []
    summary: AuditSummary = field(default_factory=AuditSummary)
    used: set[Waiver] = field(default_factory=set)
    held: list[Answered] = []
    last: Answered | None = None
    widths: list[int] = []
    fresh: list[Row] = []


class Auditing(Work[Part]):
    """Audits the devices of a site, as rows of the table or whole."""

    makes = Part

    def __init__(
        self,
        devices: Devices,
        now: datetime,
        shelf: ShelfFacts | None,
        only: frozenset[str],
        as_table: bool,
        basis: Basis | None = None,
        may_drop: frozenset[Unlock] = frozenset(),
    ) -> None:
        self.answering = Answering(devices, now, shelf, plans=True, may_drop=may_drop)
        self.site, self.only = devices.site, only
        self.part = Part()
        self._again = Again(basis, devices, now) if basis is not None else None
        self._encode = msgspec.json.Encoder(order="sorted").encode
        self._rows: RowMaker | None = None
        if as_table:
            from ovek.render import audit as table

            self._rows = table.RowMaker()

    def knows(self, name: str, line: Line, text: bytes) -> bool:
        """Take in what was found for a device before, where it still holds."""
        if self._again is None:
            return False
        result = self._again.find(name, line, text, self.answering.terms_of(name))
        if result is None:
            return False
        self._take(result)
        return True

    def take(self, device: Device, judge: Judge) -> None:
        """Audit one device."""
        answering, used = self.answering, set[Waiver]()
        terms = answering.terms_of(device.device)
        try:
            audit, bounds = audit_within(judge_device(device, judge), answering.wants, terms, used)
        except ContradictionError as error:
            raise contradiction(self.site, error) from None
        result = Result(audit, bounds, tuple(used))
        if self._again is not None:
            self._again.put(device, result)
        self._take(result)

    def _take(self, result: Result) -> None:
        part, audit = self.part, result.audit
        part.used.update(result.used)
        if self.only:
            findings = tuple(each for each in audit.findings if each.rule in self.only)
            audit = replace(audit, findings=findings)
        part.summary.add(audit)
        part.last = answer = answer_in(audit)
        if self.only and not audit.findings:
            return
        if answer.answer != "go" or answer.waived:
            part.held.append(answer)
        made = audit if self._rows is None else self._rows.row(audit)
        part.lines.append(self._encode(made))

    def result(self) -> Part:
        """The part that is done."""
        done, self.part = self.part, Part()
        if self._again is not None:
            done.fresh, self._again.rows = self._again.rows, []
        if self._rows is not None:
            done.widths = self._rows.columns.widths
        return done


def unused(devices: Devices, used: set[Waiver]) -> list[Waiver]:
    """The waivers that were of no use; one for a device that was not read may be of use yet."""
    unread = [one.device for one in devices.not_read]
    return [
        waiver
        for waiver in devices.site.waivers
        if waiver not in used and not any(fnmatchcase(name, waiver.device) for name in unread)
    ]


def _about(devices: Devices, summary: AuditSummary, now: datetime) -> list[str]:
    """What the devices are held against, and how old the oldest proof is."""
    from ovek.render.lines import count

    lines = [f"Held against {count(len(devices.releases.releases), 'release')}"]
    if summary.oldest_proof is not None and now - summary.oldest_proof >= _TELLING:
        age = show_age(now - summary.oldest_proof)
        lines.append(f"The oldest proof was measured {age} ago: {summary.oldest_proven}")
    return lines

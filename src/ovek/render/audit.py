"""The audit, for a terminal: the answer, one line a device, then the findings by device."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import timedelta

import msgspec
from msgspec import Struct
from rich.text import Span, Text

from ovek.model.age import show_age
from ovek.model.answer import ANSWERS_WORST_FIRST, Answer, Answered
from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit
from ovek.model.plain_word import typed
from ovek.model.results.audit import FleetAudit
from ovek.model.size import show_mib, show_share
from ovek.model.unread import Unread
from ovek.model.walk import RELOADS_WORST_FIRST
from ovek.render.answer import MOST, answers, of_fleet, of_one
from ovek.render.cells import (
    UNKNOWN,
    counted,
    least_free,
    next_boot,
    open_severities,
    proven_of,
    running,
    worst_of,
)
from ovek.render.context import told
from ovek.render.lines import STYLES, Columns, Line, Toned, count, hanging, plain
from ovek.render.steps import which_of
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible

_DEVICE = "device"  # of a line that names one
_TELLING = timedelta(days=2)  # an age of a proof that is worth a line
TITLES = (
    "DEVICE", "RUNNING", "NEXT BOOT", "ANSWER", "BOOT STATE", "IMAGES PROVEN", "LEAST FREE",
    "FINDINGS",
)  # fmt: skip


class AuditRow(Struct, frozen=True):
    """What the table shows of one device: its line, and the lines of its findings.

    `next_boot` and `worst` are what the cells of those columns say, as values; a line of a finding
    is of a severity, or of none.
    """

    answer: Answer
    next_boot: str
    worst: str
    cells: tuple[str, ...]
    findings: tuple[tuple[str, str], ...]

    @property
    def toned(self) -> tuple[str, ...]:
        """The cells, with their colours."""
        values = {3: self.answer, 4: self.next_boot, 7: self.worst}
        return tuple(
            Toned(cell, values[at]) if at in values else cell for at, cell in enumerate(self.cells)
        )


class RowMaker:
    """Makes rows and measures them: what can be done device by device, wherever that is."""

    def __init__(self) -> None:
        self._columns = _columns()

    @property
    def widths(self) -> list[int]:
        """How wide the columns of the rows are."""
        return self._columns.widths

    def row(self, audit: DeviceAudit) -> AuditRow:
        """The row of one device."""
        shown = cells(audit)
        self._columns.measure(shown)
        found = open_severities(audit.findings)
        worst = found[0] if found else "waived" if audit.findings else ""
        return AuditRow(audit.answer, _reload(audit), worst, shown, tuple(_findings(audit)))


def _columns() -> Columns:
    return Columns(
        TITLES, right=(5, 6), wrap={1: 7, 2: 9, 3: 19, 7: 14}, whole=(4,), least=(4, 5, 6, 7)
    )


def by_device(result: FleetAudit, view: View) -> Iterator[Line]:
    """Go through the lines; what is shaped are AuditRows, as a RowMaker makes them.

    They are gone through for the table, then for the findings: those of `no-go` devices first.
    """
    unread = Unreads(result.not_read, result.as_of)
    shaped, widths = _shaped(result)
    yield from heading(result, view)
    yield ""
    table = _columns()
    for measured in widths:
        table.widen(measured)
    never = [_never(one) for one in unread.devices if one.last_read is None and not result.only]
    for cells_ in never:
        table.measure(cells_)
    table.fit()
    decode = msgspec.json.Decoder(AuditRow).decode
    if result.summary.devices:
        yield table.head()
    for row in map(decode, shaped()):
        yield from table.rows(row.toned)
    for cells_ in never:
        yield from table.rows(cells_)
    yield from unread.lines()
    found = False
    for answer in ANSWERS_WORST_FIRST:
        for row in map(decode, shaped()):
            if row.findings and row.answer == answer:
                if not found:
                    yield from ("", Text("FINDINGS", "bold"))
                found = True
                yield from (_coloured(line, severity) for line, severity in row.findings)


def _shaped(result: FleetAudit) -> tuple[Callable[[], Iterable[bytes]], Iterable[Sequence[int]]]:
    """The rows as JSON, and how wide their columns are: made now where they were not before."""
    if result.shaped is not None:
        return result.shaped.lines, result.widths
    maker = RowMaker()
    rows = [msgspec.json.encode(maker.row(one)) for one in result.devices]
    return lambda: rows, [maker.widths]


def heading(result: FleetAudit, view: View, most: int = MOST) -> Iterator[Line]:
    """Go through the first lines: the answer, who is held back, the totals, where it is from."""
    summary = result.summary
    yield from answers(first(result), held(result), whole=view.verbose, most=most)
    if result.only:
        yield from hanging("", only(result), indent=0)
    reloads = [*reversed(RELOADS_WORST_FIRST), *(["not_read"] if summary.not_read else [])]
    yield _totals("Next boot", reloads, summary)
    names = (*SEVEREST_FIRST, "waived") if summary.waived else SEVEREST_FIRST
    yield _totals("Findings", names, summary)
    for line in about(result):
        yield from hanging("", line, indent=0)


def first(result: FleetAudit) -> str:
    """The first line: how many go; of one device, whether it does, and why not."""
    if result.one is not None:
        return of_one(result.one, result)
    return of_fleet(result.tally, result)


def held(result: FleetAudit) -> Sequence[Answered]:
    """Who is held back, where there are several devices."""
    return result.answered if result.one is None else ()


def only(result: FleetAudit) -> str:
    """Which devices are shown, where only some rules were asked for."""
    shown = result.devices if result.shaped is None else result.shaped
    number = sum(1 for _ in shown.lines())
    have = "has" if number == 1 else "have"
    shown_ = f"Showing only the {number} of {count(result.summary.devices, 'device')} that {have} "
    return shown_ + f"{' or '.join(result.only)}. The first line counts all of them."


def about(result: FleetAudit) -> list[str]:
    """Where the facts come from, how old they are, and which waivers were of no use."""
    lines = [
        told(result),
        f"Checked against {count(result.releases, 'published release')} (catalog/)",
    ]
    summary = result.summary
    if summary.oldest_proof is not None and result.as_of - summary.oldest_proof >= _TELLING:
        age, whose = (
            show_age(result.as_of - summary.oldest_proof),
            visible(summary.oldest_proven or ""),
        )
        lines.append(f"Oldest digest relied on: {age} ({whose})")
    for waiver in result.unused_waivers:
        where = f" at {waiver.place}" if waiver.place else ""
        lines.append(
            f"Unused waiver: {waiver.rule} on {waiver.device}{where} (by {waiver.by}, until "
            f"{waiver.until}) matches no finding. Remove it from waivers.toml"
        )
    return lines


def _never(unread: Unread) -> tuple[str, ...]:
    """The row of a device of which nothing is known."""
    return (
        visible(unread.device), UNKNOWN, UNKNOWN, Toned("unclear: not read", "unclear"),
        Toned("not read"), "-", "-",
        "-",
    )  # fmt: skip


def _totals(title: str, names: Iterable[str], summary: AuditSummary) -> Text:
    line = Text(f"{title}: ")
    for at, name in enumerate(names):
        number = getattr(summary, name)
        line.append(", " if at else "")
        words = counted(number, name.replace("_", " "))
        line.append(words, STYLES.get(name, "bold red") if number else "dim")
    return line


def cells(audit: DeviceAudit) -> tuple[str, ...]:
    """What the table shows of one device, in the order of TITLES."""
    return (
        visible(audit.device),
        visible(running(audit.boots)),
        visible(next_boot(audit.boots, audit.next_boot)),
        f"{audit.answer}: {visible(audit.reason)}" if audit.reason else audit.answer,
        _reload(audit),
        proven_of(audit.images),
        _free(audit),
        _worst(audit),
    )


def _reload(audit: DeviceAudit) -> str:
    return audit.next_boot if audit.not_read is None else "not read"


def _worst(audit: DeviceAudit) -> str:
    """How many findings there are of the worst severity, how many others, how many waived.

    A plan with a dangerous step is marked here: whoever reads only the table has to see it.
    """
    found = open_severities(audit.findings)
    waived = len(audit.findings) - len(found)
    danger = "DANGER in plan" if any(step.harm for step in audit.steps) else ""
    parts = [worst_of(found), f"{waived} waived" if waived else "", danger]
    return ", ".join(filter(None, parts)) or "none"


def _free(audit: DeviceAudit) -> str:
    """The free space of the member that has least."""
    least = least_free(audit.space)
    if least is None or any(space.free is None for space in audit.space):
        return UNKNOWN if audit.space else "-"
    free, capacity = least.free or 0, least.capacity
    return show_mib(free) + (f", {show_share(free, capacity)}" if capacity else "")


def _findings(audit: DeviceAudit) -> Iterator[tuple[str, str]]:
    """The lines of the findings of one device, each with what gives it a colour."""
    if audit.findings:
        yield visible(audit.device), _DEVICE
    for finding in audit.findings:
        place = f"  {visible(finding.place)}" if finding.place else ""
        head = finding.severity if finding.waived is None else "waived"
        yield f"  {head:<8}  {finding.rule}{place}", head
        yield from _quiet(plain("            seen:", finding.seen, indent=18))
        if finding.fixed_after is not None:
            after = f"after step {finding.fixed_after} of the plan below"
            yield from _quiet(plain("            gone:", after, indent=18))
        else:
            yield from _quiet(plain("            do:", finding.words, indent=18))
        if finding.waived is not None:
            yield from _quiet(plain("            waived:", finding.waived, indent=20))
    if audit.steps:
        yield from _quiet(plain("  plan:", plan_of(audit), indent=10))


def _quiet(lines: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Lines without a colour."""
    return ((line, "") for line in lines)


_SHOWN = 4  # steps that the audit names; of more it names the first ones


def plan_of(audit: DeviceAudit) -> str:
    """The plan of a device in one line, short: its first steps, and where the rest is."""
    words = [f"{step.number}. {step.words}" for step in audit.steps[:_SHOWN]]
    danger = [step.number for step in audit.steps if step.harm]
    text = "; ".join(words)
    more = len(audit.steps) - len(words)
    if more:
        text += f"; {more} more: ovek runbook {typed(audit.device, 'DEVICE')}"
    return f"DANGER in {which_of(danger)}: {text}" if danger else text


def _coloured(line: str, value: str) -> Line:
    """A line of findings: a device is bold, a severity has its colour."""
    if value == _DEVICE:
        return Text(line, "bold")
    style = STYLES.get(value)
    return line if style is None else Text(line, spans=[Span(2, 10, style)])

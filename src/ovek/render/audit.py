"""The audit, for a terminal: the answer, one line a device, then the findings by device."""

from collections.abc import Iterable, Iterator, Sequence

import msgspec
from msgspec import Struct
from rich.text import Span, Text

from ovek.model.answer import ANSWERS_WORST_FIRST, Answer, Answered
from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit
from ovek.model.size import show_mib, show_share
from ovek.model.typed import typed
from ovek.model.unread import Unread
from ovek.model.walk import RELOADS_WORST_FIRST
from ovek.render.answer import answers, of_one, tonight, when
from ovek.render.context import told
from ovek.render.forms import AuditResult
from ovek.render.lines import STYLES, Columns, Line, count, hanging, plain
from ovek.render.steps import which_of
from ovek.render.unread import Unreads
from ovek.render.visible import visible

TITLES = (
    "DEVICE", "RUNS", "STARTS NEXT", "ANSWER", "RELOAD", "PROVEN", "FREE", "FINDINGS",
)  # fmt: skip


class AuditRow(Struct, frozen=True):
    """What the table shows of one device: its line, and the lines of its findings."""

    answer: Answer
    cells: tuple[str, ...]
    findings: tuple[str, ...]


class RowMaker:
    """Makes rows and measures them: what can be done device by device, wherever that is."""

    def __init__(self) -> None:
        self.columns = _columns()

    def row(self, audit: DeviceAudit) -> AuditRow:
        """The row of one device."""
        shown = cells(audit)
        self.columns.measure(shown)
        return AuditRow(audit.answer, shown, tuple(_findings(audit)))


def _columns() -> Columns:
    return Columns(
        TITLES, right=(5, 6), wrap={1: 7, 2: 11, 3: 19, 7: 14}, whole=(4,), least=(4, 5, 6, 7)
    )


def audit_table(result: AuditResult, widths: Iterable[Iterable[int]]) -> Iterator[Line]:
    """Go through the lines. The audits are AuditRows; `widths` are what they were measured to have.

    They are gone through for the table, then for the findings: those of `no-go` devices first.
    """
    unread = Unreads(result.not_read, result.context.as_of)
    yield from heading(result)
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
    for row in map(decode, result.lines()):
        yield from table.rows(row.cells)
    for cells_ in never:
        yield from table.rows(cells_)
    yield from unread.lines()
    found = False
    for answer in ANSWERS_WORST_FIRST:
        for row in map(decode, result.lines()):
            if row.findings and row.answer == answer:
                if not found:
                    yield from ("", Text("FINDINGS", "bold"))
                found = True
                yield from map(_coloured, row.findings)


def heading(result: AuditResult) -> Iterator[Line]:
    """Go through the first lines: the answer, who is held back, the totals, where it is from."""
    summary = result.summary
    yield from answers(first(result), held(result), whole=result.verbose)
    if result.only:
        yield from hanging("", only(result), indent=0)
    reloads = [*reversed(RELOADS_WORST_FIRST), *(["not_read"] if summary.not_read else [])]
    yield _totals("Reload", reloads, summary)
    names = (*SEVEREST_FIRST, "waived") if summary.waived else SEVEREST_FIRST
    yield _totals("Findings", names, summary)
    for line in about(result):
        yield from hanging("", line, indent=0)


def first(result: AuditResult) -> str:
    """The first line: how many go; of one device, whether it does, and why not."""
    night = when(result.context)
    return of_one(result.one, night) if result.one is not None else tonight(result.tally, night)


def held(result: AuditResult) -> Sequence[Answered]:
    """Who is held back, where there are several devices."""
    return result.held if result.one is None else ()


def only(result: AuditResult) -> str:
    """Which devices are shown, where only some rules were asked for."""
    number = sum(1 for _ in result.lines())
    have = "has" if number == 1 else "have"
    told = f"Shown: the {count(number, 'device')} of {result.summary.devices} that {have} "
    return told + f"{' or '.join(result.only)}; all others are left out."


def about(result: AuditResult) -> list[str]:
    """Where the facts come from, how old they are, and which waivers were of no use."""
    lines = [told(result.context), *map(visible, result.about)]
    for waiver in result.unused:
        where = f" at {waiver.place}" if waiver.place else ""
        lines.append(
            f"A waiver of no use: {waiver.rule} on {waiver.device}{where}, by {waiver.by} until "
            f"{waiver.until}; remove it from waivers.toml"
        )
    return lines


def _never(one: Unread) -> tuple[str, ...]:
    """The row of a device of which nothing is known."""
    return (
        visible(one.device), "not known", "not known", "unclear: not read", "not read", "-", "-",
        "-",
    )  # fmt: skip


def _totals(title: str, names: Iterable[str], summary: AuditSummary) -> Text:
    line = Text(f"{title}: ")
    for at, name in enumerate(names):
        number = getattr(summary, name)
        line.append(" · " if at else "")
        told = name.replace("_", " ")
        line.append(f"{number} {told}", STYLES.get(name, "bold red") if number else "dim")
    return line


def cells(audit: DeviceAudit) -> tuple[str, ...]:
    """What the table shows of one device, in the order of TITLES."""
    needed = [image for image in audit.images if image.needed]
    proven = sum(image.verdict == "proven" for image in needed)
    return (
        visible(audit.device),
        _several(start.runs or "not known" for start in audit.starts) or "not known",
        _several(_next(start.version, start.place, audit.reload) for start in audit.starts)
        or "not known",
        f"{audit.answer}: {visible(audit.reason)}" if audit.reason else audit.answer,
        audit.reload if audit.not_read is None else "not read",
        f"{proven} of {len(needed)}" if needed else "-",
        _free(audit),
        _worst(audit),
    )


def _worst(audit: DeviceAudit) -> str:
    """How many findings are of the severest kind, and how many more there are."""
    found = [finding.severity for finding in audit.findings if finding.waived is None]
    waived = len(audit.findings) - len(found)
    told = f"{waived} waived" if waived else ""
    if not found:
        return told or "none"
    worst = found.count(found[0])
    more = len(found) - worst
    return f"{worst} {found[0]}" + (f" + {more}" if more else "") + (told and f", {told}")


def _next(version: str | None, place: str | None, reload: str) -> str:
    if version is not None or place is not None:
        return version or place or ""
    return "nothing" if reload == "stranded" else "not known"


def _several(values: Iterable[str]) -> str:
    """The values of all members; one where they are the same."""
    return " / ".join(dict.fromkeys(visible(value) for value in values))


def _free(audit: DeviceAudit) -> str:
    """The free space of the member that has least."""
    if not audit.space:
        return "-"
    known = [space for space in audit.space if space.free is not None]
    if len(known) < len(audit.space):
        return "not known"
    least = min(known, key=lambda space: space.free or 0)
    free, capacity = least.free or 0, least.capacity
    return show_mib(free) + (f", {show_share(free, capacity)}" if capacity else "")


def _findings(audit: DeviceAudit) -> Iterator[str]:
    """The lines of the findings of one device, still without colour."""
    if audit.findings:
        yield visible(audit.device)
    for finding in audit.findings:
        place = f"  {visible(finding.place)}" if finding.place else ""
        head = finding.severity if finding.waived is None else "waived"
        yield f"  {head:<8}  {finding.rule}{place}"
        yield from plain("            seen:", finding.saw, indent=18)
        if finding.fixed_after is not None:
            after = f"after step {finding.fixed_after} of the plan below"
            yield from plain("            gone:", after, indent=18)
        else:
            yield from plain("            do:", finding.words, indent=18)
        if finding.waived is not None:
            yield from plain("            waived:", finding.waived, indent=20)
    if audit.steps:
        yield from plain("  plan:", plan_of(audit), indent=10)


_SHOWN = 4  # steps that the audit names; of more it names the first ones


def plan_of(audit: DeviceAudit) -> str:
    """The plan of a device in one line, short: its first steps, and where the rest is."""
    words = [f"{step.number}. {step.words}" for step in audit.steps[:_SHOWN]]
    danger = [step.number for step in audit.steps if step.harm]
    told = "; ".join(words)
    more = len(audit.steps) - len(words)
    if more:
        told += f"; {more} more: ovek runbook {typed(audit.device, 'DEVICE')}"
    return f"DANGER in {which_of(danger)}: {told}" if danger else told


def _coloured(line: str) -> Line:
    """A line of findings: a device is bold, a severity has its colour."""
    if not line.startswith(" "):
        return Text(line, "bold")
    style = STYLES.get(line[2:10].rstrip())
    return line if style is None else Text(line, spans=[Span(2, 10, style)])

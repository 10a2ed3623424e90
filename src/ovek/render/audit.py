"""The audit, for a terminal: the answer, one line a device, then the findings by device."""

from collections.abc import Callable, Iterable, Iterator

import msgspec
from msgspec import Struct
from rich.text import Span, Text

from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit
from ovek.model.size import show_size
from ovek.model.unread import Unread
from ovek.model.walk import RELOADS_WORST_FIRST
from ovek.render.lines import STYLES, Columns, Line, count, hanging, listed, plain
from ovek.render.unread import Unreads
from ovek.render.visible import visible

TITLES = ("DEVICE", "RUNS", "STARTS NEXT", "RELOAD", "PROVEN", "FREE", "FINDINGS")


class AuditRow(Struct, frozen=True):
    """What the table shows of one device: its line, and the lines of its findings."""

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
        return AuditRow(shown, tuple(_findings(audit)))


def _columns() -> Columns:
    return Columns(TITLES, right=(4,))


def audit_table(
    summary: AuditSummary,
    rows: Callable[[], Iterable[bytes]],
    widths: Iterable[Iterable[int]],
    stranded: list[str],
    about: Iterable[str],
    unread: Unreads,
) -> Iterator[Line]:
    """Go through the lines.

    `rows` starts over each time and gives each AuditRow as JSON; `widths` are those that its rows
    were measured to have. `stranded` are devices, `about` tells of the snapshots, `unread` are the
    devices that were not read.
    """
    yield from hanging("", answer(summary, stranded), indent=0)
    reloads = [*reversed(RELOADS_WORST_FIRST), *(["not_read"] if summary.not_read else [])]
    yield _totals("Reload", reloads, summary)
    names = (*SEVEREST_FIRST, "waived") if summary.waived else SEVEREST_FIRST
    yield _totals("Findings", names, summary)
    for line in about:
        yield from hanging("", line, indent=0)
    yield ""
    table = _columns()
    for measured in widths:
        table.widen(measured)
    never = [_never(one) for one in unread.devices if one.last_read is None]
    for cells_ in never:
        table.measure(cells_)
    table.fit()
    yield table.head()
    decode = msgspec.json.Decoder(AuditRow).decode
    for row in map(decode, rows()):
        yield table.row(row.cells)
    for cells_ in never:
        yield table.row(cells_)
    yield from unread.lines()
    found = False
    for row in map(decode, rows()):
        if row.findings:
            if not found:
                yield from ("", Text("FINDINGS", "bold"))
            found = True
            yield from map(_coloured, row.findings)


def _never(one: Unread) -> tuple[str, ...]:
    """The row of a device of which nothing is known."""
    return (visible(one.device), "not known", "not known", "not read", "-", "-", "-")


def answer(summary: AuditSummary, stranded: list[str]) -> str:
    """The first line: is the fleet fit to reload, and where not?"""
    all_of, unread = count(summary.devices, "device"), summary.not_read
    if summary.stranded:
        names = listed([visible(name) for name in stranded])
        more = f"; {unread} {'was' if unread == 1 else 'were'} not read" if unread else ""
        return f"Do not reload {summary.stranded} of {all_of}: {names} would not start again{more}."
    if summary.unknown or summary.unproven or unread:
        parts = []
        if summary.unproven:
            parts.append(f"{summary.unproven} would start on an image that nobody has proven")
        if summary.unknown:
            parts.append(f"of {summary.unknown} the next start is not known")
        if unread:
            parts.append(f"{unread} {'was' if unread == 1 else 'were'} not read")
        return f"{all_of}: {summary.ready} ready to reload; {', and '.join(parts)}."
    if summary.devices == 1:
        return "The device is ready to reload."
    return f"All {all_of} are ready to reload."


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
    proven = sum(1 for image in audit.images if image.verdict == "proven")
    return (
        visible(audit.device),
        _several(start.runs or "not known" for start in audit.starts) or "not known",
        _several(_next(start.version, start.place, audit.reload) for start in audit.starts)
        or "not known",
        audit.reload if audit.not_read is None else "not read",
        f"{proven} of {len(audit.images)}" if audit.images else "none",
        _free(audit),
        _worst(audit),
    )


def _worst(audit: DeviceAudit) -> str:
    """How many findings are of the severest kind, and how many more there are."""
    found = [finding.severity for finding in audit.findings if finding.waived is None]
    if not found:
        return "all waived" if audit.findings else "none"
    worst = found.count(found[0])
    more = len(found) - worst
    return f"{worst} {found[0]}" + (f", {more} more" if more else "")


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
    share = f" ({least.free * 100 // least.capacity}%)" if least.capacity and least.free else ""
    return f"{show_size(least.free or 0)}{share}"


def _findings(audit: DeviceAudit) -> Iterator[str]:
    """The lines of the findings of one device, still without colour."""
    if audit.findings:
        yield visible(audit.device)
    for finding in audit.findings:
        place = f"  {visible(finding.place)}" if finding.place else ""
        head = finding.severity if finding.waived is None else "waived"
        yield f"  {head:<8}  {finding.rule}{place}"
        yield from plain("            seen:", finding.saw, indent=18)
        yield from plain("            do:", finding.words, indent=18)
        if finding.waived is not None:
            yield from plain("            waived:", finding.waived, indent=20)


def _coloured(line: str) -> Line:
    """A line of findings: a device is bold, a severity has its colour."""
    if not line.startswith(" "):
        return Text(line, "bold")
    if line[2] == " ":
        return line
    return Text(line, spans=[Span(2, 10, STYLES[line[2:10].rstrip()])])

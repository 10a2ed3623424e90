"""The audit, for a terminal: the answer, one line a device, then the findings by device."""

from collections.abc import Callable, Iterable, Iterator

from msgspec import Struct
from rich.text import Span, Text

from ovek.model.finding import SEVEREST_FIRST, AuditSummary, DeviceAudit, Finding
from ovek.model.size import show_size
from ovek.model.walk import RELOADS_WORST_FIRST
from ovek.render.lines import STYLES, Columns, Line, count, hanging
from ovek.render.visible import visible

TITLES = ("DEVICE", "RUNS", "STARTS NEXT", "RELOAD", "PROVEN", "FREE", "FINDINGS")
_NAMED = 5


class AuditRow(Struct, frozen=True):
    """What the table shows of one device."""

    device: str
    cells: tuple[str, ...]
    findings: tuple[Finding, ...]


class AuditTable:
    """What has to be known of all devices before the first line can be written."""

    def __init__(self) -> None:
        self.columns = Columns(TITLES, right=(4,))
        self.stranded: list[str] = []

    def add(self, audit: DeviceAudit) -> AuditRow:
        """Take one device in; return what has to be kept of it."""
        cells = _cells(audit)
        self.columns.measure(cells)
        if audit.reload == "stranded" and len(self.stranded) < _NAMED:
            self.stranded.append(visible(audit.device))
        return AuditRow(audit.device, cells, audit.findings)

    def lines(
        self,
        summary: AuditSummary,
        rows: Callable[[], Iterable[AuditRow]],
        about: Iterable[str],
    ) -> Iterator[Line]:
        """Go through the lines; `about` tells of the snapshot, `rows` starts over each time."""
        yield from hanging("", answer(summary, self.stranded), indent=0)
        yield _totals("Reload", reversed(RELOADS_WORST_FIRST), summary)
        yield _totals("Findings", SEVEREST_FIRST, summary)
        for line in about:
            yield from hanging("", line, indent=0)
        yield ""
        self.columns.fit()
        yield self.columns.head()
        for row in rows():
            yield self.columns.row(row.cells)
        found = False
        for row in rows():
            if row.findings:
                if not found:
                    yield from ("", Text("FINDINGS", "bold"))
                found = True
                yield from _findings(row)


def answer(summary: AuditSummary, stranded: list[str]) -> str:
    """The first line: is the fleet fit to reload, and where not?"""
    all_of = count(summary.devices, "device")
    if summary.stranded:
        more = summary.stranded - len(stranded)
        names = ", ".join(stranded) + (f" and {more} more" if more else "")
        return f"Do not reload {summary.stranded} of {all_of}: {names} would not start again."
    if summary.unknown or summary.unproven:
        parts = []
        if summary.unproven:
            parts.append(f"{summary.unproven} would start on an image that nobody has proven")
        if summary.unknown:
            parts.append(f"of {summary.unknown} the next start is not known")
        return f"{all_of}: {summary.ready} ready to reload; {', and '.join(parts)}."
    if summary.devices == 1:
        return "The device is ready to reload."
    return f"All {all_of} are ready to reload."


def _totals(title: str, names: Iterable[str], summary: AuditSummary) -> Text:
    line = Text(f"{title}: ")
    for at, name in enumerate(names):
        number = getattr(summary, name)
        line.append(" · " if at else "")
        line.append(f"{number} {name}", STYLES[name] if number else "dim")
    return line


def _cells(audit: DeviceAudit) -> tuple[str, ...]:
    proven = sum(1 for image in audit.images if image.verdict == "proven")
    return (
        visible(audit.device),
        _several(start.runs or "not known" for start in audit.starts) or "not known",
        _several(_next(start.version, start.place, audit.reload) for start in audit.starts)
        or "not known",
        audit.reload,
        f"{proven} of {len(audit.images)}" if audit.images else "none",
        _free(audit),
        ", ".join(
            f"{number} {severity}"
            for severity in SEVEREST_FIRST
            if (number := sum(1 for f in audit.findings if f.severity == severity))
        )
        or "none",
    )


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


def _findings(row: AuditRow) -> Iterator[Line]:
    yield Text(visible(row.device), "bold")
    for finding in row.findings:
        place = f"  {visible(finding.place)}" if finding.place else ""
        line = f"  {finding.severity:<8}  {finding.rule}{place}"
        yield Text(line, spans=[Span(2, 10, STYLES[finding.severity])])
        yield from hanging("            seen:", finding.saw, indent=18)
        yield from hanging("            do:", finding.do, indent=18)

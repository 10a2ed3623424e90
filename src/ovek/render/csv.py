"""Findings as CSV (RFC 4180), one a row, with cells that no spreadsheet runs."""

import csv
import io
from collections.abc import Iterable, Iterator

from ovek.model.runbook import Runbook
from ovek.render.forms import AuditResult
from ovek.render.unread import why
from ovek.render.visible import visible

COLUMNS = ("device", "reload", "severity", "rule", "place", "saw", "do", "waived")
_RUN = ("=", "+", "-", "@", "\t", "\r")


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write a header, then a row for each finding, then one for each device that was not read."""
    yield row(COLUMNS)
    for audit in result.audits:
        reload = audit.reload if audit.not_read is None else "not read"
        for one in audit.findings:
            yield row(
                (
                    audit.device,
                    reload,
                    one.severity,
                    one.rule,
                    one.place or "",
                    one.saw,
                    one.words,
                    one.waived or "",
                )
            )
    for unread in result.not_read:
        told = why(unread, result.as_of)
        yield row((unread.device, "not read", "", "", "", told, unread.do, ""))


STEPS = ("device", "number", "stage", "change", "words", "line", "minutes", "reload", "starts")


def write_runbooks(found: Iterable[Runbook]) -> Iterator[bytes]:
    """Write a header, then a row for each change, or for what has to be found out."""
    yield row(STEPS)
    for one in found:
        for told in one.find_out:
            yield row((one.device, "", "find out", "", told, "", "", one.reload, ""))
        for number, step in enumerate(one.steps, 1):
            do = step.do
            minutes = "" if do.minutes is None else str(do.minutes)
            yield row(
                (
                    one.device,
                    str(number),
                    step.stage,
                    do.change,
                    step.words,
                    " | ".join(do.lines),
                    minutes,
                    do.reload,
                    do.starts or "",
                )
            )


def row(cells: Iterable[str]) -> bytes:
    """One row, with cells that no spreadsheet runs."""
    out = io.StringIO()
    csv.writer(out).writerow([_defused(visible(cell)) for cell in cells])
    return out.getvalue().encode()


def _defused(cell: str) -> str:
    """A cell that a spreadsheet would run as a formula gets an apostrophe in front."""
    return f"'{cell}" if cell.startswith(_RUN) else cell

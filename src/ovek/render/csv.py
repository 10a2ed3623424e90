"""Findings as CSV (RFC 4180), one a row, with cells that no spreadsheet runs."""

import csv
import io
from collections.abc import Iterable, Iterator

from ovek.model.context import Context
from ovek.model.finding import SEVEREST_FIRST
from ovek.model.ofdevice import OfDevice
from ovek.model.results.audit import FleetAudit
from ovek.model.results.runbooks import FleetRunbooks
from ovek.model.unread import Unread
from ovek.render.cells import least_free, of_members, open_severities, proven, running
from ovek.render.unread import why
from ovek.render.view import View
from ovek.render.visible import visible

PLACED = ("network", "site", "role", "sheet", "model", "taken_at")
FINDINGS = ("device", "answer", "next_boot", "severity", "rule", "place", "seen", "do", "waived")
DEVICES = (
    "device", "answer", "why", "next_boot", "running", "boots", "proven", "needed", "free_bytes",
    "capacity_bytes", "critical", "warning", "note", "waived", "not_read",
)  # fmt: skip
_RUN = ("=", "+", "-", "@", "\t", "\r")


def audit(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Write a header, then a row for each finding, or for each device.

    Of the findings, those devices have a row without one that have none to tell, and so have
    those that were not read.
    """
    if view.rows == "devices":
        yield from _devices(result)
        return
    yield row((*FINDINGS, *PLACED))
    old = {finding.device for finding in result.not_read}
    for device in result.devices:
        reload = device.next_boot if device.not_read is None else "not read"
        for finding in device.findings:
            yield row(
                (
                    device.device,
                    device.answer,
                    reload,
                    finding.severity,
                    finding.rule,
                    finding.place or "",
                    finding.seen,
                    finding.words,
                    finding.waived or "",
                    *placed(device, result),
                )
            )
        if not device.findings and device.device not in old:
            yield row((device.device, device.answer, reload, *[""] * 6, *placed(device, result)))
    for unread in result.not_read:
        told = why(unread, result.as_of)
        yield row(
            (
                unread.device, "unclear", "not read", "", "", "", told, unread.do, "",
                *unread_placed(unread, result),
            )
        )  # fmt: skip


def _devices(result: FleetAudit) -> Iterator[bytes]:
    """A row for each device."""
    yield row((*DEVICES, *PLACED))
    for device in result.devices:
        number, needed = proven(device.images)
        least, open_ = least_free(device.space), open_severities(device.findings)
        yield row(
            (
                device.device,
                device.answer,
                device.why,
                device.next_boot,
                running(device.boots, unknown=""),
                of_members(one.version or "" for one in device.boots),
                str(number),
                str(needed),
                "" if least is None else str(least.free),
                "" if least is None or least.capacity is None else str(least.capacity),
                *(str(open_.count(one)) for one in SEVEREST_FIRST),
                str(len(device.findings) - len(open_)),
                device.not_read or "",
                *placed(device, result),
            )
        )
    for unread in result.not_read:
        if unread.last_read is None:
            told = why(unread, result.as_of)
            yield row((unread.device, "unclear", "not read", *[""] * 11, told,
                       *unread_placed(unread, result)))  # fmt: skip


def placed(device: OfDevice, context: Context) -> tuple[str, ...]:
    """The network, where a device stands, what it is and when it was read; empty is not known."""
    taken = device.taken_at.isoformat() if device.taken_at is not None else ""
    return (
        context.site, device.site or "", device.role or "", device.sheet or "", device.model or "",
        taken.replace("+00:00", "Z"),
    )  # fmt: skip


def unread_placed(unread: Unread, context: Context) -> tuple[str, ...]:
    """The same for a device that was not read."""
    of = OfDevice(
        device=unread.device,
        site=unread.site,
        role=unread.role,
        sheet=unread.sheet,
        taken_at=unread.last_read,
    )
    return placed(of, context)


STEPS = (
    "device",
    "answer",
    "number",
    "stage",
    "change",
    "words",
    "line",
    "minutes",
    "next_boot",
    "boots",
)


def runbooks(result: FleetRunbooks, view: View) -> Iterator[bytes]:
    """Write a header, then a row for each change, or for what has to be found out."""
    yield row((*STEPS, *PLACED))
    for device in result.devices:
        for told in device.find_out:
            head = (
                device.device,
                device.answer or "",
                "",
                "find out",
                "",
                told,
                "",
                "",
                device.next_boot,
                "",
            )
            yield row((*head, *placed(device, result)))
        for number, step in enumerate(device.steps, 1):
            do = step.do
            minutes = "" if do.minutes is None else str(do.minutes)
            yield row(
                (
                    device.device,
                    device.answer or "",
                    str(number),
                    step.stage,
                    do.change,
                    step.words,
                    " | ".join(do.lines),
                    minutes,
                    do.next_boot,
                    do.boots or "",
                    *placed(device, result),
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

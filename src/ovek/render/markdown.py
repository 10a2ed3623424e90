"""An audit as Markdown (CommonMark with tables), for a ticket or a page."""

import re
from collections.abc import Iterable, Iterator, Sequence

from ovek.model.answer import ANSWERS_WORST_FIRST
from ovek.model.finding import Finding
from ovek.model.ofdevice import OfDevice
from ovek.model.results.audit import FleetAudit
from ovek.render.answer import held_back
from ovek.render.audit import TITLES, about, cells, first, held, only
from ovek.render.groups import groups
from ovek.render.lines import count
from ovek.render.unread import why
from ovek.render.view import View
from ovek.render.visible import visible

_MARKS = re.compile(r"([\\`*_{}\[\]<>#|~])")


def audit(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Write the answer, a table of the devices, then the findings."""
    audits, group_by = list(result.devices), view.group_by
    lines = [f"# {escaped(first(result))}", ""]
    lines += [f"- **{one.answer}** {escaped(f'{one.device}: {one.detail}')}"
              for one in held_back(held(result))]  # fmt: skip
    lines += [escaped(only(result))] if result.only else []
    lines += ["", *(f"{escaped(line)}  " for line in about(result)), ""]
    lines += table((*TITLES, *PLACED), [(*cells(one), *placed(one)) for one in audits])
    if group_by == "device":
        for one in sorted(audits, key=lambda one: ANSWERS_WORST_FIRST.index(one.answer)):
            if one.findings:
                lines += ["", f"## {escaped(one.device)}", ""]
                lines += [line for each in one.findings for line in _finding(each, each.rule)]
    else:
        for group in groups(audits, group_by, result.cards):
            told = f"{count(len(group.found), 'finding')}, {count(len(group.devices), 'device')}"
            lines += ["", f"## {escaped(group.title)} ({group.severity}; {told})", ""]
            lines += [f"{head.capitalize()} {escaped(text)}\n" for head, text in group.told]
            for device, each in group.found:
                lines += _finding(each, f"{device} {each.rule if group_by == 'image' else ''}")
    if result.not_read:
        lines += ["", "## Not read", ""]
        for unread in result.not_read:
            lines.append(f"- **{escaped(unread.device)}**: {escaped(why(unread, result.as_of))}")
            lines.append(f"  - do: {escaped(unread.do)}")
    yield ("\n".join(lines) + "\n").encode("utf-8", "backslashreplace")


PLACED = ("SITE", "ROLE", "SHEET", "MODEL", "READ")


def placed(device: OfDevice) -> tuple[str, ...]:
    """Where a device stands, what it is, and when it was read."""
    read = f"{device.taken_at:%Y-%m-%d %H:%M}" if device.taken_at is not None else "not read"
    return (device.site or "-", device.role or "-", device.sheet or "-", device.model or "-", read)


def _finding(finding: Finding, title: str) -> Iterator[str]:
    place = f" at {escaped(finding.place)}" if finding.place else ""
    yield f"- **{finding.severity}: {escaped(title.strip())}**{place}"
    yield f"  - seen: {escaped(finding.seen)}"
    yield f"  - do: {escaped(finding.words)}"
    if finding.waived is not None:
        yield f"  - waived {escaped(finding.waived)}"


def table(titles: Sequence[str], rows: Iterable[Sequence[str]]) -> list[str]:
    """Lay out a table."""
    lines = [f"| {' | '.join(titles)} |", f"|{' --- |' * len(titles)}"]
    return lines + [f"| {' | '.join(map(escaped, row))} |" for row in rows]


def escaped(text: str) -> str:
    """Text whose marks mean nothing, on one line."""
    return _MARKS.sub(r"\\\1", visible(text))

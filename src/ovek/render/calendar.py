"""Waves as a calendar (iCalendar, RFC 5545): one event a wave, by the clock of the place."""

from collections.abc import Iterator
from datetime import datetime, timedelta

from ovek.model.results.runbooks import FleetRunbooks
from ovek.model.runbook import Wave
from ovek.render.view import View
from ovek.render.visible import visible


def calendar(result: FleetRunbooks, view: View) -> Iterator[bytes]:
    """Write the waves of which it is known when they are."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Ovek//waves//EN"]
    for wave in result.waves:
        if wave.begins is not None:
            lines += _event(wave, wave.begins, result.site, result.as_of)
    lines.append("END:VCALENDAR")
    yield "".join(f"{part}\r\n" for line in lines for part in _folded(line)).encode()


def _event(wave: Wave, begins: datetime, name: str, now: datetime) -> list[str]:
    left = None if wave.length is None else wave.length - wave.into
    ends = begins + timedelta(minutes=left or wave.minutes or 1)
    number = len(wave.devices)
    text = f"Reload wave {wave.number}: {number} device{'s' if number != 1 else ''}"
    takes = f"About {wave.minutes} min" if wave.minutes else "Duration unknown"
    takes += " plus changes of unknown duration" if wave.untimed and wave.minutes else ""
    about = [", ".join(wave.devices), f"Precondition: {wave.before}", takes]
    if wave.danger:
        text = f"DANGER: {text}"
        about.insert(0, f"DANGER: a power failure leaves unbootable: {', '.join(wave.danger)}")
    return [
        "BEGIN:VEVENT",
        f"UID:{_text(f'{name}-{wave.number}-{begins:%Y%m%dT%H%M%S}@ovek')}",
        f"DTSTAMP:{now:%Y%m%dT%H%M%SZ}",
        f"DTSTART:{begins:%Y%m%dT%H%M%S}",
        f"DTEND:{ends:%Y%m%dT%H%M%S}",
        f"SUMMARY:{_text(text)}",
        f"DESCRIPTION:{_text(chr(10).join(about))}",
        "END:VEVENT",
    ]


def _text(text: str) -> str:
    """A text as RFC 5545, section 3.3.11, writes it."""
    shown = "\n".join(visible(line) for line in text.split("\n"))
    for mark in ("\\", ";", ","):
        shown = shown.replace(mark, "\\" + mark)
    return shown.replace("\n", "\\n")


def _folded(line: str) -> Iterator[str]:
    """A line in pieces of at most 75 octets (section 3.1)."""
    piece = ""
    for each in line:
        if len((piece + each).encode()) > 75:
            yield piece
            piece = " "
        piece += each
    yield piece

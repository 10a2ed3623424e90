"""What lines that nobody marked seem to tell: offered as marks, never taken by itself."""

import re
from collections.abc import Iterator, Sequence, Set

from msgspec import Struct

from ovek.files.marks import Mark
from ovek.learn.answers import REFUSES
from ovek.learn.dialogue import Dialogue, Exchange, taken_apart
from ovek.learn.values import dates_of
from ovek.model.digest import LENGTHS

_HEX = re.compile(r"(?<![0-9A-Za-z])[0-9a-fA-F]{32,128}(?![0-9A-Za-z])")
_FREE = re.compile(
    r"(?i)(?P<free>\d[\d.,]*) ?(?:bytes|[KMG]i?B) (?:are )?(?:free|available|left)"
    r"|(?:free|available)\s*[:=]?\s*(?P<free2>\d[\d.,]*)"
)
_IMAGE = re.compile(
    r"(?:(?P<volume>[A-Za-z][\w-]*):/?)?(?P<path>[A-Za-z0-9][\w./+-]*\.(?:bin|img|image|iso|pkg|itb|fw))\b"
)
_LABEL = re.compile(r" *(?P<label>[A-Za-z][\w /-]*?)(?: *[:=] *| *\.{2,} *| {2,})(?P<value>\S.*)")
# What a label is often called, and the field that it may be.
_STARTED = re.compile(r"(?i)\b(?:started|booted|loaded) from:? +(?P<place>\S+:\S+?)[.,]?$")
_LABELS = {
    "hardware.model": ("model", "product", "hardware model"),
    "hardware.serial": ("serial", "serial number", "serial no"),
    "hardware.revision": ("revision", "board", "hardware revision", "board revision"),
    "hardware.memory": ("memory", "main memory"),
    "running.version": ("version", "release", "software version", "running", "runs", "firmware"),
    "running.place": ("booted from", "started from", "running image", "from"),
    "clock": ("clock", "time", "system time", "date"),
}
_BY_LABEL = {name: field for field, names in _LABELS.items() for name in names}
_SEVERAL = frozenset({"place", "version"})  # which several things have
_LEAVES = frozenset(
    {"exit", "quit", "logout", "bye", "goodbye", "leave", "end", "close", "depart", "farewell"}
)


class Guess(Struct, frozen=True):
    """A mark that may be right, and the session that it would stand in."""

    session: int
    mark: Mark


def guesses(sessions: Sequence[str], known: Set[str] = frozenset()) -> list[Guess]:
    """What unmarked lines of sessions may tell; each field once, and none that is `known`.

    Raises ValueError.
    """
    found: dict[tuple[str, str], Guess] = {}
    for number, text in enumerate(sessions):
        dialogue = taken_apart(text, number)
        marked = {mark.name for each in dialogue.exchanges for mark in each.marks}
        for guess in _of(dialogue, number, text):
            name = guess.mark.name
            last = name.rpartition(".")[2]
            if name in known:
                continue
            if name not in marked and (last in _SEVERAL or last not in marked):
                told = guess.mark.value if name == "error" else ""
                found.setdefault((name, told), guess)
    return list(found.values())


def _of(dialogue: Dialogue, session: int, text: str) -> Iterator[Guess]:
    for exchange in dialogue.exchanges:
        free = {mark.line for mark in exchange.marks}
        parts = [line for line in exchange.lines if line.strip()]
        if len(parts) == 1 and not exchange.marks and REFUSES.search(parts[0]):
            at = exchange.lines.index(parts[0])
            line, value = exchange.at[at], parts[0].strip()
            start = parts[0].index(value)
            yield Guess(session, Mark(line, start, start + len(value), "error", value))
            continue
        for at, text_of_line in enumerate(exchange.lines):
            if at not in free:
                yield from _in_line(exchange, at, text_of_line, session)
    last = dialogue.last
    if last is not None and last.lower() in _LEAVES and dialogue.leave is None:
        lines = text.split("\n")
        for number in range(len(lines) - 1, -1, -1):
            if lines[number].rstrip().endswith(last):
                start = lines[number].rindex(last)
                yield Guess(session, Mark(number, start, start + len(last), "leave", last))
                break


def _in_line(exchange: Exchange, at: int, line: str, session: int) -> Iterator[Guess]:
    number = exchange.at[at]
    for digest in _HEX.finditer(line):
        for algorithm, length in LENGTHS.items():
            if len(digest[0]) == length:
                yield Guess(session, Mark(number, *digest.span(), algorithm, digest[0]))
    if (free := _FREE.search(line)) is not None:
        group = "free" if free["free"] is not None else "free2"
        yield Guess(session, Mark(number, *free.span(group), "free", free[group]))
    if (started := _STARTED.search(line)) is not None:
        place = started["place"]
        yield Guess(session, Mark(number, *started.span("place"), "running.place", place))
    elif (label := _LABEL.fullmatch(line)) is not None:
        field = _BY_LABEL.get(label["label"].strip().lower())
        value = label["value"].rstrip()
        timed = field == "clock" and not dates_of([value])
        if field is not None and not timed:
            start = label.start("value")
            yield Guess(session, Mark(number, start, start + len(value), field, value))
    elif (image := _IMAGE.search(line)) is not None:
        name = "place" if image["volume"] else "path"
        start = image.start("volume") if image["volume"] else image.start("path")
        end = image.end("path")
        yield Guess(session, Mark(number, start, end, name, line[start:end]))

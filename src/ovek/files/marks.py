r"""Marks in a copy of a saved session: what a person says that a piece of it is.

A mark stands in place, around the text that it is about: `<<free=90112>>`. Without its marks the
copy is the session again, character by character. Besides fields there are `ask` (this was typed
here), `skip` (lines of this shape mean nothing), `pager` (what waits for a key), `error` (this is
no answer) and `leave` (this was typed to end it).

>>> text, marks = unmarked("nand  262144  <<free=90112>>")
>>> text, marks[0].name, marks[0].start
('nand  262144  90112', 'free', 14)
"""

import re
from collections.abc import Iterable, Iterator
from difflib import get_close_matches
from functools import lru_cache
from typing import NamedTuple

from msgspec import Struct

from ovek.model.sheet import FIELDS, Fills

# What a mark begins with; each part ends at a character that none before it may hold.
_FRONT = re.compile(r"<<(?P<name>[a-z][a-z0-9_.]{0,63})(?:\((?P<means>[^()<>\n]{0,255})\))?=")
_MOST = 1_000  # marks of one session
_MOST_LINES = 10_000
_LONGEST = 2**12  # characters of a line
_ALMOST = re.compile(
    r"<<(?P<open>[A-Za-z][A-Za-z0-9_.]{0,63})"
    r"|<(?P<closed>[A-Za-z][A-Za-z0-9_.]{0,63})=[^<>\n]{0,255}>>"
)
SPECIAL = ("ask", "skip", "pager", "leave", "error")
# What names a field of several halves (live, saved), so that the last word says too little.
_HALVES = frozenset({"live", "saved"})


class MarkError(ValueError):
    """A mark that says nothing: the line (from 1) of a session, what was met, and what to do."""

    def __init__(self, line: int, text: str, do: str) -> None:
        super().__init__(f"line {line}: {text}. {do}")
        self.session = 0
        self.line, self.met, self.do = line, text, do


class Mark(Struct, frozen=True):
    """One mark: its line from 0, where its value starts and ends, and what it says.

    `means` is the design's word for the value, `ok` for a device's `sound`, or how a date is
    written.
    """

    line: int
    start: int
    end: int
    name: str
    value: str
    means: str | None = None

    @property
    def shown(self) -> str:
        """As it is written."""
        return written(self.name, self.value, self.means)


def written(name: str, value: str, means: str | None = None) -> str:
    """A mark as a person types it."""
    return f"<<{name}{f'({means})' if means is not None else ''}={value}>>"


class _Span(NamedTuple):
    """A mark in a line: where it starts and ends, its name, what it means, and its value."""

    start: int
    end: int
    name: str
    means: str | None
    value: str


def _marks_in(line: str) -> Iterator[_Span]:
    """Go through the marks of a line, once from its start to its end."""
    start = line.find("<<")
    while start >= 0:
        front = _FRONT.match(line, start)
        if front is None:
            start = line.find("<<", start + 1)
            continue
        behind = line.find(">>", front.end())
        if behind < 0:
            return  # nor is there the end of any other
        while line.startswith(">>>", behind):
            behind += 1
        value = line[front.end() : behind]
        yield _Span(start, behind + 2, front["name"], front["means"], value)
        start = line.find("<<", behind + 2)


def unmarked(text: str) -> tuple[str, list[Mark]]:
    """A text without its marks, and the marks in their order. Raises MarkError."""
    lines, marks = [], list[Mark]()
    for number, line in enumerate(text.split("\n")):
        if number >= _MOST_LINES:
            do = "Shorten long lists: a few rows are enough"
            raise MarkError(number + 1, f"the session has more than {_MOST_LINES} lines", do)
        plain, at = "", 0
        if len(line) > _LONGEST:
            do = "Remove it: no output that can be learned has such a line"
            raise MarkError(number + 1, f"the line has more than {_LONGEST} characters", do)
        for found in _marks_in(line):
            plain += _without(line[at : found.start], number)
            start = len(plain)
            plain += found.value
            mark = Mark(number, start, len(plain), found.name, found.value, found.means)
            if len(marks) >= _MOST:
                do = "Mark one or two rows of each kind: that is enough"
                raise MarkError(number + 1, f"the session has more than {_MOST} marks", do)
            if not mark.value.strip():
                raise MarkError(number + 1, f"{mark.shown} is empty", "Put a value in it")
            _check_name(mark)
            marks.append(mark)
            at = found.end
        lines.append(plain + _without(line[at:], number))
    return "\n".join(lines), marks


def without_marks(text: str) -> str:
    """A session as it was saved, whether marks were put into it or not."""
    try:
        return unmarked(text)[0] if "<<" in text else text
    except MarkError:
        return text  # what looks like one and is none


def is_marked(text: str) -> bool:
    """Whether somebody put a mark into a session."""
    return "<<" in text and any(
        found.name in _words() for line in text.split("\n") for found in _marks_in(line)
    )


def _without(text: str, number: int) -> str:
    """A text that has to hold no mark; raises MarkError where it holds half of one."""
    found = _ALMOST.search(text)
    if found is not None and (found["open"] or found["closed"]).lower() in _words():
        do = "Write <<field=value>>, e.g. <<free=90112>>, within one line"
        raise MarkError(number + 1, f"{text[found.start() :][:40]!r} is not a complete mark", do)
    return text


@lru_cache(maxsize=1)
def _words() -> frozenset[str]:
    return frozenset({*SPECIAL, *(name for name, _, _ in _names())})


def _names() -> Iterable[tuple[str, Fills, str]]:
    """Every way to name a field: the name, the thing, the field."""
    for fills, fields in FIELDS.items():
        for field in sorted(fields):
            last = field.rpartition(".")[2]
            short = {field, *(() if last in _HALVES else (last,))}
            for name in short:
                yield name, fills, field
                yield f"{fills}.{name}", fills, field


@lru_cache(maxsize=1024)
def fields_named(name: str) -> tuple[tuple[Fills, str], ...]:
    """The fields that a name may mean, each with its thing.

    >>> fields_named("free"), fields_named("hardware.model")
    ((('volume', 'free'),), (('device', 'hardware.model'), ('member', 'hardware.model')))
    """
    found = {(fills, field) for each, fills, field in _names() if each == name}
    exact = {(fills, field) for fills, field in found if name in (field, f"{fills}.{field}")}
    return tuple(sorted(exact if exact and "." in name else found))


def _check_name(mark: Mark) -> None:
    if mark.name in SPECIAL or fields_named(mark.name):
        return
    near = get_close_matches(mark.name, sorted(_words()), n=1)
    do = f"Did you mean {near[0]!r}? " if near else ""
    text = f"{mark.shown} is not a field"
    raise MarkError(mark.line + 1, text, f"{do}See: ovek sheet fields")


def with_mark(text: str, line: int, start: int, end: int, name: str, means: str | None) -> str:
    """A marked text with one more mark; `start` and `end` count without the marks of its line."""
    lines = text.split("\n")
    plain, at, spans = 0, 0, list[tuple[int, int, int]]()  # of the plain text, and where it stands
    for found in _marks_in(lines[line]):
        spans.append((plain, plain + found.start - at, at))
        plain += found.start - at + len(found.value)
        at = found.end
    spans.append((plain, plain + len(lines[line]) - at, at))
    for first, last, where in spans:
        if first <= start and end <= last:
            here = where + start - first
            value = lines[line][here : here + end - start]
            lines[line] = (
                lines[line][:here] + written(name, value, means) + lines[line][here + len(value) :]
            )
            break
    return "\n".join(lines)

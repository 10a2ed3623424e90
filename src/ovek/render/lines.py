"""Lines for a terminal: rows in columns, words wrapped under a hanging indent, words in colour.

Colour only repeats what the words say already. Rows are laid out here rather than by Rich's tables
because they stream: a table of Rich holds every row, and takes ten times as long.
"""

import os
import sys
import textwrap
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache

from rich.cells import cell_len, set_cell_size
from rich.text import Span, Text

from ovek.render.visible import visible

NARROWEST, USUAL, WIDEST = 80, 100, 200


@lru_cache(maxsize=1)
def width() -> int:
    """How many columns there are: `COLUMNS`, else the terminal's, from 80 to 200; else 100."""
    told = os.environ.get("COLUMNS", "")
    columns = int(told) if told.isascii() and told.isdigit() and len(told) < 6 else 0
    if not columns:
        try:
            columns = os.get_terminal_size(sys.__stdout__.fileno()).columns if sys.__stdout__ else 0
        except (OSError, ValueError):  # a file, a pipe, or closed
            columns = 0
    return min(max(columns, NARROWEST), WIDEST) if columns else USUAL


STYLES = {
    "no-go": "bold red",
    "unclear": "yellow",
    "go": "green",
    "critical": "bold red",
    "stranded": "bold red",
    "warning": "yellow",
    "unproven": "yellow",
    "unknown": "yellow",
    "recommended": "green",
    "withdrawn": "bold red",
    "note": "cyan",
    "waived": "dim",
    "proven": "green",
    "not read": "bold red",
    "partly read": "yellow",
    "read": "green",
}


class Toned(str):
    """A cell that says a value which has a colour: `value` is one of STYLES, or has none."""

    __slots__ = ("value",)
    value: str

    def __new__(cls, text: str, value: str | None = None) -> "Toned":
        """Make it; by default the text is the value."""
        made = super().__new__(cls, text)
        made.value = text if value is None else value
        return made


_NAME = 20  # columns that a name keeps before another column is left out


class Columns:
    """Columns whose widths grow with the rows that are measured, then lay out rows to fit.

    Cells of `right` stand at the right. Those of `wrap` go on in the next line where they are too
    long, and have at least so many columns; `whole` are those that are never cut, as the right
    ones. All others are cut in their middle. `least` are left out, in that order, where all
    together are too wide.
    """

    def __init__(
        self,
        titles: Sequence[str],
        *,
        right: Iterable[int] = (),
        wrap: Mapping[int, int] | None = None,
        whole: Iterable[int] = (),
        least: Iterable[int] = (),
    ) -> None:
        self.titles = tuple(titles)
        self._right, self._wrap, self._least = frozenset(right), dict(wrap or {}), tuple(least)
        self._whole = self._right | frozenset(whole)
        self.widths = [cell_len(title) for title in titles]
        self.shown = list(range(len(titles)))

    def measure(self, cells: Sequence[str]) -> None:
        """Make room for one row."""
        for at, cell in enumerate(cells):
            long = len(cell) if cell.isascii() else cell_len(cell)
            if long > self.widths[at]:
                self.widths[at] = long

    def widen(self, widths: Iterable[int]) -> None:
        """Make room for rows that were measured elsewhere."""
        self.widths = [max(pair) for pair in zip(self.widths, widths, strict=True)]

    def fit(self, columns: int | None = None) -> None:
        """Narrow names and what wraps, leave out the least columns, narrow names further."""
        columns, measured = columns or width(), list(self.widths)
        for floor, left_out in [
            *((_NAME, number) for number in range(len(self._least) + 1)),
            (8, len(self._least)),
        ]:
            gone = set(self._least[:left_out])
            self.shown = [at for at in range(len(measured)) if at not in gone]
            self.widths = list(measured)
            if self._narrowed(columns, floor):
                return

    def _narrowed(self, columns: int, floor: int) -> bool:
        """Whether a row fits once no cell that may be narrower is wider than it has to be."""
        beyond = self.wide - columns
        least = {
            at: max(self._wrap.get(at, floor), cell_len(self.titles[at]))
            for at in self.shown
            if at not in self._whole
        }
        while beyond > 0:
            widest = max(least, key=lambda at: self.widths[at] - least[at], default=None)
            if widest is None or self.widths[widest] <= least[widest]:
                return False
            self.widths[widest] -= 1
            beyond -= 1
        return True

    @property
    def wide(self) -> int:
        """How wide a row is."""
        return sum(self.widths[at] for at in self.shown) + 2 * (len(self.shown) - 1)

    def rows(self, cells: Sequence[str], style: str = "") -> Iterator[Text]:
        """Lay out one row, over several lines where a cell wraps; toned cells get their colours."""
        pieces = {
            at: _wrapped(cells[at], self.widths[at])
            for at in self._wrap
            if at in self.shown and len(cells[at]) > self.widths[at]
        }
        for line in range(max(map(len, pieces.values()), default=1)):
            now = [
                (pieces[at][line] if line < len(pieces[at]) else "") if at in pieces
                else cell if line == 0 else ""
                for at, cell in enumerate(cells)
            ]  # fmt: skip
            yield self.row(now, style)

    def row(self, cells: Sequence[str], style: str = "") -> Text:
        """Lay out one row; cells that have a colour of their own get it."""
        spans: list[Span] = []
        return Text(self.line(cells, spans), style=style, spans=spans)

    def line(self, cells: Sequence[str], spans: list[Span] | None = None) -> str:
        """Lay out one row without colour; what has one of its own is added to `spans`."""
        line, last = "", self.shown[-1]
        for at in self.shown:
            cell = cells[at]
            style = STYLES.get(cell.value) if isinstance(cell, Toned) else None
            long = len(cell) if cell.isascii() else cell_len(cell)
            if long > self.widths[at] and at not in self._whole:
                cell = shortened(cell, self.widths[at])
                long = cell_len(cell)
            pad = " " * (self.widths[at] - long)
            if at in self._right:
                line += pad
            if spans is not None and style is not None:
                spans.append(Span(len(line), len(line) + len(cell), style))
            line += cell
            if at != last:
                line += "  " if at in self._right else f"{pad}  "
        return line

    def head(self) -> Text:
        """Lay out the titles."""
        return self.row(self.titles, "bold")


def shortened(text: str, columns: int) -> str:
    """Cut a name in its middle, so that its end, with what tells it apart, stays.

    >>> shortened("flash:ox40-full-7.4.2.img", 16)
    'flash…-7.4.2.img'
    """
    if cell_len(text) <= columns:
        return text
    head = (columns - 1) // 3
    tail = columns - 1 - head
    if text.isascii():
        return f"{text[:head]}…{text[-tail:]}"
    return f"{set_cell_size(text, head)}…{set_cell_size(text[::-1], tail)[::-1]}"


def _wrapped(text: str, columns: int) -> list[str]:
    """A text in pieces; the first has its colour."""
    first, *rest = textwrap.wrap(text, columns, break_on_hyphens=False) or [""]
    return [Toned(first, text.value) if isinstance(text, Toned) else first, *rest]


Line = Text | str


def table(
    titles: Sequence[str],
    rows: Sequence[Sequence[str]],
    *,
    right: Iterable[int] = (),
    wrap: Mapping[int, int] | None = None,
    whole: Iterable[int] = (),
    least: Iterable[int] = (),
    columns: int | None = None,
) -> Iterator[Line]:
    """Lay out a table that is held whole: its titles, then its rows, narrowed to fit."""
    laid = Columns(titles, right=right, wrap=wrap, whole=whole, least=least)
    for row in rows:
        laid.measure(row)
    laid.fit(columns)
    yield laid.head()
    for row in rows:
        yield from laid.rows(row)


def hanging(first: str, text: str, *, indent: int, style: str = "") -> Iterator[Line]:
    """Wrap `text` behind `first`, later lines indented by `indent`; only `first` is styled."""
    lines = plain(first, text, indent=indent)
    first = first.ljust(indent)
    yield Text(lines[0], spans=[Span(0, len(first), style)]) if style else lines[0]
    yield from lines[1:]


def plain(first: str, text: str, *, indent: int) -> list[str]:
    """Wrap `text` behind `first`, later lines indented by `indent`."""
    text, first = visible(text), first.ljust(indent)
    if len(first) + len(text) <= width():
        return [f"{first}{text}"]
    # The first piece stands in the room that `first` leaves, the others behind the indent.
    return textwrap.wrap(
        text,
        width(),
        initial_indent=first,
        subsequent_indent=" " * indent,
        break_on_hyphens=False,
        break_long_words=False,
        drop_whitespace=True,
    ) or [first]


def listed(names: Sequence[str], most: int = 5) -> str:
    """Name a few things in words: `a, b and 3 more`.

    >>> listed(["a", "b", "c", "d"], most=2)
    'a, b and 2 more'
    """
    if len(names) <= most:
        return ", ".join(names)
    return f"{', '.join(names[:most])} and {len(names) - most} more"


def count(number: int, word: str) -> str:
    """Say a number of things.

    >>> count(1, "device"), count(2, "device"), count(2, "copy")
    ('1 device', '2 devices', '2 copies')
    """
    if number == 1:
        return f"{number} {word}"
    return f"{number} {word[:-1]}ies" if word.endswith("py") else f"{number} {word}s"

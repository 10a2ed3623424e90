"""Lines for a terminal: rows in columns, words wrapped under a hanging indent, words in colour.

Colour only repeats what the words say already. Rows are laid out here rather than by Rich's tables
because they stream: a table of Rich holds every row, and takes ten times as long.
"""

import textwrap
from collections.abc import Iterable, Iterator, Sequence

from rich.cells import cell_len, set_cell_size
from rich.text import Span, Text

from ovek.render.visible import visible

WIDTH = 100

STYLES = {
    "critical": "bold red",
    "stranded": "bold red",
    "warning": "yellow",
    "unproven": "yellow",
    "unknown": "yellow",
    "recommended": "green",
    "withdrawn": "bold red",
    "note": "cyan",
    "waived": "dim",
    "ready": "green",
    "proven": "green",
    "read": "bold red",  # as the last word of "not read"
}


class Columns:
    """Columns whose widths grow with the rows that are measured, then lay out rows to fit."""

    def __init__(self, titles: Sequence[str], *, right: Iterable[int] = ()) -> None:
        self.titles = tuple(titles)
        self._right = frozenset(right)
        self.widths = [cell_len(title) for title in titles]

    def measure(self, cells: Sequence[str]) -> None:
        """Make room for one row."""
        for at, cell in enumerate(cells):
            width = len(cell) if cell.isascii() else cell_len(cell)
            if width > self.widths[at]:
                self.widths[at] = width

    def widen(self, widths: Iterable[int]) -> None:
        """Make room for rows that were measured elsewhere."""
        self.widths = [max(pair) for pair in zip(self.widths, widths, strict=True)]

    def fit(self, width: int = WIDTH) -> None:
        """Narrow the widest columns until a row fits; what is cut ends in an ellipsis."""
        beyond = sum(self.widths) + 2 * (len(self.widths) - 1) - width
        for _ in range(beyond):
            widest = max(range(len(self.widths)), key=self.widths.__getitem__)
            if self.widths[widest] <= 10:
                return
            self.widths[widest] -= 1

    def row(self, cells: Sequence[str], style: str = "") -> Text:
        """Lay out one row; words that have a colour of their own get it."""
        spans: list[Span] = []
        return Text(self.line(cells, spans), style=style, spans=spans)

    def line(self, cells: Sequence[str], spans: list[Span] | None = None) -> str:
        """Lay out one row without colour; what has one of its own is added to `spans`."""
        line, last = "", len(cells) - 1
        for at, cell in enumerate(cells):
            long = len(cell) if cell.isascii() else cell_len(cell)
            if long > self.widths[at]:
                long = self.widths[at]
                cell = set_cell_size(cell, long - 1) + "…"
            pad = " " * (self.widths[at] - long)
            if at in self._right:
                line += pad
            # The first thing that a cell counts or says: "1 critical, 2 note", "ready".
            if spans is not None:
                said = STYLES.get(cell.partition(",")[0].rpartition(" ")[2])
                if said is not None:
                    spans.append(Span(len(line), len(line) + len(cell), said))
            line += cell
            if at < last:
                line += "  " if at in self._right else f"{pad}  "
        return line

    def head(self) -> Text:
        """Lay out the titles."""
        return self.row(self.titles, "bold")


Line = Text | str


def table(
    titles: Sequence[str], rows: Sequence[Sequence[str]], *, right: Iterable[int] = ()
) -> Iterator[Line]:
    """Lay out a table that is held whole: its titles, then its rows, narrowed to fit."""
    columns = Columns(titles, right=right)
    for row in rows:
        columns.measure(row)
    columns.fit()
    yield columns.head()
    for row in rows:
        yield columns.row(row)


def hanging(first: str, text: str, *, indent: int, style: str = "") -> Iterator[Line]:
    """Wrap `text` behind `first`, later lines indented by `indent`; only `first` is styled."""
    lines = plain(first, text, indent=indent)
    first = first.ljust(indent)
    yield Text(lines[0], spans=[Span(0, len(first), style)]) if style else lines[0]
    yield from lines[1:]


def plain(first: str, text: str, *, indent: int) -> list[str]:
    """Wrap `text` behind `first`, later lines indented by `indent`."""
    text, first = visible(text), first.ljust(indent)
    if len(first) + len(text) <= WIDTH:
        return [f"{first}{text}"]
    # The first piece stands in the room that `first` leaves, the others behind the indent.
    return textwrap.wrap(
        text,
        WIDTH,
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

    >>> count(1, "device"), count(2, "device")
    ('1 device', '2 devices')
    """
    return f"{number} {word}" if number == 1 else f"{number} {word}s"

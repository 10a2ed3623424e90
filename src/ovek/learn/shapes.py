"""Lines as patterns: a marked line, and the lines that are built like it.

A line is a row of tokens with blanks between. In a row of a table only the marked tokens mean
something, and every other may be anything; in a sentence the words stay as they are, and what holds
a digit may be anything. Cells that are empty or hold blanks are told by where the columns stand.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence, Set
from itertools import pairwise

from msgspec import Struct

from ovek.files.marks import Mark
from ovek.learn.dialogue import escaped
from ovek.learn.values import NOTHING, pattern_of
from ovek.model.digest import LENGTHS, STRONGEST_FIRST
from ovek.model.pattern import Pattern, compiled
from ovek.model.sheet import SIZES, TIMES, Fills

RULER = re.compile(r"[-=_+*~.| ]{3,}")
_DOTS = re.compile(r"([.\-_=])\1+")
_BLANKS = re.compile(r" +|\t+")
_NUMBERED = re.compile(r"\S*\d\S*")
Slot = tuple[Fills, str]  # a thing, and its field
Patterns = Mapping[Slot, str]


class Word(Struct, frozen=True):
    """A piece of a token that is no value: `text` as it stands."""

    text: str


class Value(Struct, frozen=True):
    """A piece of a token that is a value."""

    slot: Slot
    text: str


Piece = Word | Value


class Token(Struct, frozen=True):
    """What stands between blanks, and from where to where."""

    pieces: tuple[Piece, ...]
    start: int
    end: int

    @property
    def text(self) -> str:
        """As it stands in its line."""
        return "".join(piece.text for piece in self.pieces)

    @property
    def slots(self) -> list[Slot]:
        """The fields whose values it holds."""
        return [piece.slot for piece in self.pieces if isinstance(piece, Value)]


def tokens_of(line: str, marks: Sequence[tuple[Mark, Slot]], *, wide: bool = False) -> list[Token]:
    """The tokens of a line; a marked value is never torn, and `wide` blanks are two or more."""
    inside = [(mark.start, mark.end) for mark, _ in marks]
    cuts = [
        (gap.start(), gap.end())
        for gap in re.finditer(r"[ \t]{2,}" if wide else r"[ \t]+", line)
        if not any(start < gap.end() and gap.start() < end for start, end in inside)
    ]
    ends = [0, *(at for cut in cuts for at in cut), len(line)]
    found = []
    for start, end in zip(ends[::2], ends[1::2], strict=True):
        if start < end:
            found.append(Token(tuple(_pieces(line, start, end, marks)), start, end))
    return found


def _pieces(line: str, start: int, end: int, marks: Sequence[tuple[Mark, Slot]]) -> Iterator[Piece]:
    at = start
    for mark, slot in marks:
        if start <= mark.start and mark.end <= end:
            if at < mark.start:
                yield Word(line[at : mark.start])
            yield Value(slot, mark.value)
            at = mark.end
    if at < end:
        yield Word(line[at:end])


class LineRule(Struct, frozen=True):
    """A line as a pattern: texts that are patterns already, and slots."""

    parts: tuple[str | Slot, ...]

    @property
    def slots(self) -> list[Slot]:
        """The fields that it finds."""
        return [part for part in self.parts if not isinstance(part, str)]

    def regex(self, patterns: Patterns) -> Pattern:
        """What fits its lines, a group for each slot in turn."""
        parts = [part if isinstance(part, str) else f"({patterns[part]})" for part in self.parts]
        return compiled("".join(parts))

    def widened(self, line: str) -> dict[Slot, str] | None:
        """The values of a line that fits but for what its values were like by now.

        A name may hold blanks; a size and a time have numbers still.
        """
        anything = {
            slot: r"\S*\d.*?" if slot[1] in SIZES | TIMES else r"\S.*?" for slot in self.slots
        }
        return self.found(line, anything) if self._holds_words() else None

    def _holds_words(self) -> bool:
        """Whether so many words stand around its values that no other line has them."""
        parts = [part for part in self.parts if isinstance(part, str)]
        return len(re.findall(r"[A-Za-z]{2,}", "".join(parts))) > 1

    def found(self, line: str, patterns: Patterns) -> dict[Slot, str] | None:
        """The values of a line; None where it does not fit."""
        match = self.regex(patterns).fullmatch(line)
        if match is None:
            return None
        return {slot: str(match[at + 1] or "") for at, slot in enumerate(self.slots)}


def general(word: str) -> str:
    """A word of a sentence as a pattern: what holds a digit may be anything that is written alike.

    >>> general("free;"), general("5.2.1,"), general("21:14"), general("HK-7"), general("......")
    ('free;', '[\\\\d.]+,', '\\\\d+:\\\\d+', '\\\\S+', '\\\\.+')
    """
    if (dots := _DOTS.fullmatch(word)) is not None:
        return f"{escaped(dots[1])}+"
    if not _NUMBERED.fullmatch(word) or _is_algorithm(word):
        return escaped(word)
    core = word.rstrip(".,:;)")
    end = escaped(word[len(core) :])
    if re.fullmatch(r"\d+", core):
        return rf"\d+{end}"
    if re.fullmatch(r"[\d.]+", core):
        return rf"[\d.]+{end}"
    if re.fullmatch(r"[\d.,]+", core):
        return rf"[\d.,]+{end}"
    return shape_of(core) + end if re.fullmatch(r"[\d:/-]+", core) else r"\S+"


def _is_algorithm(word: str) -> bool:
    return re.sub(r"[^a-z0-9]", "", word.lower()) in STRONGEST_FIRST


def gap(blanks: int) -> str:
    """Blanks as a pattern."""
    return " " if blanks == 1 else " +"


def sentence(line: str, anything: Iterable[str] = ()) -> str:
    """A line without values as a pattern; `anything` are words that are others elsewhere."""
    free = {each for each in anything if each}
    tokens = tokens_of(line, ())
    text = "" if not tokens or not tokens[0].start else " *"
    for number, token in enumerate(tokens):
        text += gap(token.start - tokens[number - 1].end) if number else ""
        text += _any_of(token.text, free)
    return text


def _any_of(word: str, free: Set[str]) -> str:
    """A word as a pattern; one that is another elsewhere may be anything, its signs stay."""
    core = word.strip(".,:;()[]'\"")
    if core in free and core:
        front, _, behind = word.partition(core)
        return rf"{escaped(front)}\S+{escaped(behind)}"
    return general(word)


def literal_rule(tokens: Sequence[Token], anything: Iterable[str] = ()) -> LineRule:
    """A sentence with values in it."""
    free = set(anything)
    counted = any(field in SIZES for _, field in tokens[0].slots)  # may stand to the right
    parts: list[str | Slot] = [" *" if tokens[0].start or counted else ""]
    for number, token in enumerate(tokens):
        if number:
            parts.append(gap(token.start - tokens[number - 1].end))
        for piece in token.pieces:
            if isinstance(piece, Value):
                parts.append(piece.slot)
            elif token.slots:
                parts.append(escaped(piece.text))
            else:
                parts.append(_any_of(piece.text, free))
    if isinstance(parts[-1], str):  # what stands in brackets at the end is said by the way
        last = max(
            (number for number, part in enumerate(parts) if not isinstance(part, str)), default=0
        )
        rest = "".join(part for part in parts[last + 1 :] if isinstance(part, str))
        if re.fullmatch(r" \+?\\\(.*\\\)| \\\(.*\\\)", rest):
            parts[last + 1 :] = [r" +\(.*\)"]
    return LineRule(tuple(part for part in parts if part))


class Column(Struct):
    """One column of a table: where its cells start and end, over all rows, and its pieces."""

    pieces: tuple[Piece, ...]
    first: tuple[int, int]
    starts: set[int]
    ends: set[int]
    shapes: set[str]
    blanks: bool = False
    rows: int = 1

    @property
    def slots(self) -> list[Slot]:
        """The fields whose values it holds."""
        return [piece.slot for piece in self.pieces if isinstance(piece, Value)]

    @property
    def left(self) -> bool:
        """Whether its cells start at one place, rather than end at one."""
        if len(self.starts) == 1 and len(self.ends) == 1:
            return not any(field in SIZES for _, field in self.slots)
        return len(self.starts) <= len(self.ends)

    @property
    def around(self) -> re.Pattern[str]:
        """What stands around its values."""
        told = (escaped(p.text) if isinstance(p, Word) else "(.*)" for p in self.pieces)
        return re.compile("".join(told))

    @property
    def pattern(self) -> str:
        """What its cells are like, where nobody marked one: what all of them have in common."""
        if len(self.shapes) == 1:
            return next(iter(self.shapes))
        return r"\S+(?: \S+)*" if self.blanks else r"\S+"

    def take(self, start: int, end: int, text: str) -> None:
        """Take in one more cell."""
        self.starts.add(start)
        self.ends.add(end)
        self.shapes.add(shape_of(text))
        self.blanks = self.blanks or " " in text
        self.rows += 1


def shape_of(text: str) -> str:
    """A cell as a pattern: its numbers and words may be others, its signs stay.

    >>> shape_of("12.01.2026"), shape_of("ext4")
    ('\\\\d+\\\\.\\\\d+\\\\.\\\\d+', '[A-Za-z]+\\\\d+')
    """
    told = re.sub(r"\d+", "\0", re.sub(r"[A-Za-z]+", "\1", escaped(text)))
    return told.replace("\0", r"\d+").replace("\1", "[A-Za-z]+")


class TextTable:
    """The rows of a table, found from one of them."""

    def __init__(
        self, base: Sequence[Token], key: Callable[[Slot], bool], patterns: Patterns
    ) -> None:
        self._patterns, self._key = dict(patterns), key
        self.columns = [
            Column(
                token.pieces,
                (token.start, token.end),
                {token.start},
                {token.end},
                {shape_of(token.text)},
                " " in token.text,
            )
            for token in base
        ]
        # The fewest and the most blanks between a column and the next, in one row.
        self._apart = {
            at: (two.start - one.end, two.start - one.end)
            for at, (one, two) in enumerate(pairwise(base))
        }
        self._indent = base[0].start > 0
        self.shapes: set[tuple[int, ...]] = {tuple(range(len(base)))}
        self.values: dict[Slot, list[str]] = {}
        self.lines: list[tuple[str, dict[Slot, str]]] = []  # and what their cells tell
        for column in self.columns:
            for piece in column.pieces:
                if isinstance(piece, Value):
                    self.values.setdefault(piece.slot, []).append(piece.text)

    def fits(self, line: str) -> bool:
        """Whether a line is a row as those before are, cell by cell."""
        cells = self._cells(line)
        return cells is not None and self._may_be(line, dict(enumerate(cells)))

    def _cells(self, line: str) -> list[tuple[int, int]] | None:
        """From where to where each cell of a whole row goes."""
        text = " *"
        for number, column in enumerate(self.columns):
            text += (" +" if number else "") + f"({self._cell(column)})"
        match = compiled(text).fullmatch(line)
        if match is None:
            return None
        spans = [match.span(number + 1) for number in range(len(self.columns))]
        return spans if self._shifted(spans) else None

    def _shifted(self, spans: Sequence[tuple[int, int]]) -> bool:
        """Whether cells stand in their columns, or behind one that is too long for its own."""
        moved = False
        for column, (start, end) in zip(self.columns, spans, strict=True):
            over = start < max(column.ends) and end > min(column.starts)
            aligned = start in column.starts or end in column.ends
            if moved and aligned:
                return False
            moved = moved or not over
        return True

    def _cell(self, column: Column) -> str:
        if not column.slots:
            return column.pattern
        return "".join(
            escaped(piece.text) if isinstance(piece, Word) else f"(?:{self._patterns[piece.slot]})"
            for piece in column.pieces
        )

    def take(self, line: str) -> bool:
        """Take a line in as a row, whole or by where its cells stand; False where it is none."""
        spans, cells = self._cells(line), self._placed(line)
        if cells is None or not self._aligned(cells):  # as in a row that is longer than its column
            cells = dict(enumerate(spans)) if spans is not None else None
        if cells is None or not self._may_be(line, cells):
            return False
        for at, (start, end) in cells.items():
            column, text = self.columns[at], line[start:end]
            column.take(start, end, text)
            if at + 1 in cells:
                least, most = self._apart[at]
                apart = cells[at + 1][0] - end
                self._apart[at] = (min(least, apart), max(most, apart))
            self._note(column, text)
        told: dict[Slot, str] = {}
        for at, (start, end) in cells.items():
            told |= self._told(self.columns[at], line[start:end])
        self.lines.append((line, told))
        self._indent = self._indent or line[:1] == " "
        self.shapes.add(tuple(sorted(cells)))
        return True

    def _told(self, column: Column, text: str) -> dict[Slot, str]:
        """The values of a cell."""
        match = column.around.fullmatch(text)
        return dict(zip(column.slots, match.groups() if match else (), strict=False))

    def stands(self, line: str) -> dict[Slot, str] | None:
        """The values of a line by where they stand, whether it is taken for a row or not."""
        cells, told = self._placed(line), dict[Slot, str]()
        for at, (start, end) in (cells or {}).items():
            told |= self._told(self.columns[at], line[start:end])
        return told or None

    def misread(self, rules: Sequence[LineRule], patterns: Patterns) -> str | None:
        """A row that its rules would read otherwise than its cells stand; None: all are right."""
        for line, told in self.lines:
            found = next((f for r in rules if (f := r.found(line, patterns)) is not None), None)
            if found != told:
                return line
        return None

    def widen(self) -> None:
        """Make the patterns of the values wide enough for all that were taken by now."""
        for slot, values in self.values.items():
            if not all(compiled(self._patterns[slot]).fullmatch(value) for value in values):
                at = next(n for n, column in enumerate(self.columns) if slot in column.slots)
                ends = at == len(self.columns) - 1
                self._patterns[slot] = pattern_of(slot[1], values, ends=ends, glued=False)

    def _note(self, column: Column, text: str) -> None:
        """Keep the values of a cell."""
        for slot, value in self._told(column, text).items():
            self.values[slot].append(value)

    def _may_be(self, line: str, cells: Mapping[int, tuple[int, int]]) -> bool:
        """Whether cells may be those of a row: the thing is named, and a size has a number."""
        keys = [at for at, column in enumerate(self.columns) if any(map(self._key, column.slots))]
        if any(at not in cells for at in keys):
            return False
        for at, (start, end) in cells.items():
            text = line[start:end]
            fields = {field for _, field in self.columns[at].slots}
            if text.lower() in NOTHING:
                continue
            if self.columns[at].slots and self.columns[at].around.fullmatch(text) is None:
                return False
            placed = [v for slot, told in self.values.items() if slot[1] == "place" for v in told]
            if "place" in fields and ":" not in text and all(":" in each for each in placed):
                return False
            if fields & (SIZES | TIMES) and not re.search(r"\d", text):
                return False
            if fields & LENGTHS.keys() and not re.search(r"[0-9a-fA-F]{4}", text):
                return False
        return True

    def _placed(self, line: str) -> dict[int, tuple[int, int]] | None:
        """The cells of a row by where they stand; None where one stands between columns."""
        bounds = [self._bound(at) for at in range(len(self.columns) - 1)]
        found: dict[int, tuple[int, int]] = {}
        for token in tokens_of(line, ()):
            over = [
                number
                for number, column in enumerate(self.columns)
                if token.start < max(column.ends) and token.end > min(column.starts)
            ]
            if len(over) > 1:
                return None
            last = max(found) if found else None
            if over:
                at = over[0]
            elif last is not None and token.start - found[last][1] == 1 and self._spaced(last):
                at = last
            else:
                at = sum(token.start >= bound for bound in bounds)
            if not over and at < len(bounds) and token.end > bounds[at]:
                return None
            if at in found:
                start, end = found[at]
                if token.start - end > 1:
                    return None
                found[at] = (start, token.end)
            else:
                found[at] = (token.start, token.end)
        return found or None

    def _spaced(self, at: int) -> bool:
        """Whether two blanks or more stand between a column and the next."""
        if at == len(self.columns) - 1:
            return True
        return self._apart[at][0] > 1

    def _aligned(self, cells: Mapping[int, tuple[int, int]]) -> bool:
        """Whether each cell starts where others of its column start, or ends where they end."""
        return all(
            start in self.columns[at].starts or end in self.columns[at].ends
            for at, (start, end) in cells.items()
        )

    def _bound(self, at: int) -> int:
        """Where the column at this position ends and the next one starts."""
        here, following = self.columns[at], self.columns[at + 1]
        if len(following.starts) == 1:
            return min(following.starts)
        if len(here.ends) == 1:
            return max(here.ends) + 1
        return (max(here.ends) + min(following.starts) + 1) // 2

    def head(self, line: str) -> None:
        """Take a heading in, so that columns are known by it, too, where each has its word."""
        for wide in (False, True):
            tokens = tokens_of(line, (), wide=wide)
            if len(tokens) == len(self.columns):
                for column, token in zip(self.columns, tokens, strict=True):
                    start, end = column.first
                    right = abs(token.end - end) < abs(token.start - start)
                    if right and token.end == end:
                        column.starts.add(min(token.start, start))
                    elif not right:
                        column.ends.add(max(token.end, end))
                return

    def rules(self, patterns: Patterns) -> list[LineRule]:
        """The rows as rules, those with the most cells first."""
        self._patterns.update(patterns)
        return [self._rule(shape) for shape in sorted(self.shapes, key=lambda s: (-len(s), s))]

    def _gap(self, before: int, at: int) -> str:
        """The blanks between two cells: so many that a cell between them is empty, or not so many.

        Else a value of a column that is filled would be taken for one of a column that is not.
        """
        here, following = self.columns[before], self.columns[at]
        if at > before + 1:
            return f" {{{max(2, min(following.starts) - max(here.ends))},}}"
        fewest, most = self._apart[before]
        spaced = any("(?: " in self._cell(column) for column in (here, following))
        least = 2 if spaced and fewest > 1 else 1
        if len(self.columns) < 3 or here.rows < 2:
            return " +" if least == 1 else f" {{{least},}}"
        ends = min(here.starts) + 1 if here.left else min(here.ends)
        starts = max(following.starts) if following.left else max(following.ends) - 1
        largest = max(starts - ends, most, least)
        return f" {{{least},{largest}}}" if largest > 1 else " "

    def _rule(self, shape: Sequence[int]) -> LineRule:
        parts: list[str | Slot] = []
        first = self.columns[shape[0]]
        if shape[0]:
            parts.append(f" {{{max(1, min(first.starts))},}}")
        elif self._indent:
            parts.append(" *")
        for before, at in pairwise((-1, *shape)):
            column = self.columns[at]
            if before >= 0:
                parts.append(self._gap(before, at))
            if column.slots:
                parts += [
                    p.slot if isinstance(p, Value) else escaped(p.text) for p in column.pieces
                ]
            else:
                parts.append(_roomy(column.pattern))
        return LineRule(tuple(parts))


def _roomy(shape: str) -> str:
    """The pattern of a column that means nothing: numbers and dates stay so, words may be any."""
    counted = r"\d" in shape and "[A-Za-z]" not in shape
    return shape if counted or shape.startswith(r"\S") else r"\S+"


def label_of(line: str) -> str | None:
    r"""The label of a `name: value` line as a pattern of the whole line; None: it is none.

    >>> label_of("Fans          2 of 2"), label_of("  Length: 7"), label_of("It is so.")
    ('Fans +\\S.*', ' *Length: *.*', None)
    """
    match = re.fullmatch(
        r"(?P<in> *)(?P<name>[A-Za-z][\w/()-]*(?: [\w/()-]+){0,4}?)"
        r"(?P<sep> *[:=] *| \.{2,} *|\.{2,} *| {2,})(?P<rest>.*)",
        line,
    )
    if match is None or re.search(r"\d", match["name"]):
        return None
    separator = match["sep"].strip()
    front = " *" if match["in"] else ""
    if separator.startswith("."):
        return rf"{front}{escaped(match['name'])} *\.+ *.*"
    if separator:
        return f"{front}{escaped(match['name'])} *{escaped(separator)} *.*".replace(
            " *: *", ": *" if not match["sep"].startswith(" ") else " *: *"
        )
    return rf"{front}{escaped(match['name'])} +\S.*" if match["rest"] else None

"""The answers to one question, in all sessions, as rules that understand every line of them."""

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from ovek.files.marks import Mark, MarkError
from ovek.learn.dialogue import Exchange, escaped
from ovek.learn.shapes import (
    RULER,
    LineRule,
    Slot,
    TextTable,
    label_of,
    literal_rule,
    sentence,
    tokens_of,
)
from ovek.learn.things import WHICH, key_of, resolved
from ovek.learn.values import SizeUnit, pattern_of, unit_of
from ovek.model.sheet import Fills

_UNKNOWN_TABLE = 4  # lines alike that nobody marked are a table, not something to pass over
_FILE = re.compile(r"\S*[A-Za-z0-9_]\.[A-Za-z][A-Za-z0-9]{1,7}(?:\s|$)")
REFUSES = re.compile(
    r"(?i)^\s*[!?%^*]|\b(?:unknown|invalid|illegal|unrecogni[sz]ed|no such|"
    r"not (?:know|understand|understood|found))\b"
)


class OpenAnswer(Struct, frozen=True):
    """A line that is not understood: its session and number (from 0), and the text.

    `things` are what the other lines of its answer tell of; `parts` is whether it stands between
    two rows, of which it may say that they belong to different lists or volumes.
    """

    session: int
    line: int
    text: str
    things: tuple[Fills, ...] = ()
    parts: bool = False


class AnswerRules(Struct, frozen=True, kw_only=True):
    """What the answers to one question were found to be: the rules of their lines, and the rest.

    `slots` is what each mark of an answer is about; `rules` are in the order in which they are
    tried, each with whether it is a row of a table, `origins` the answer and line of which each
    was made; `patterns` and `values` are of each field. `heads` are headings, `passed` patterns of
    lines that tell nothing, each with a line, `numbered` lists that a number is looked up in.
    """

    exchanges: tuple[Exchange, ...]
    slots: tuple[Mapping[Mark, Slot], ...]
    rules: tuple[tuple[LineRule, bool], ...]
    origins: Mapping[LineRule, tuple[int, int]]
    patterns: Mapping[Slot, str]
    values: Mapping[Slot, Sequence[str]]
    means: Mapping[Slot, dict[str, str]]
    units: Mapping[Slot, SizeUnit]
    heads: tuple[str, ...]
    passed: Mapping[str, str]
    numbered: Mapping[Slot, tuple[str, str]]
    open: tuple[OpenAnswer, ...]
    words: frozenset[str]

    @property
    def things(self) -> list[Fills]:
        """What the answers tell of."""
        return _things(self.values)

    def rule_of(self, line: str) -> LineRule | None:
        """The rule that takes a line."""
        return _rule_of(line, self.rules, self.patterns)


def rules_of(
    exchanges: Sequence[Exchange], asked_for: Iterable[str], words: Iterable[str]
) -> AnswerRules:
    """The rules of all answers to one question; `asked_for` are its placeholders.

    `words` are what else it names. Raises MarkError where a mark cannot be understood.
    """
    return _Answers(exchanges, asked_for, words).rules()


class _Answers:
    """The rules while they are found."""

    def __init__(
        self, exchanges: Sequence[Exchange], asked_for: Iterable[str], words: Iterable[str]
    ) -> None:
        self.exchanges = [exchange for exchange in exchanges if not self._refused(exchange)]
        self._words = frozenset(words)
        self.patterns: dict[Slot, str] = {}
        self.values: dict[Slot, list[str]] = {}
        self.means: dict[Slot, dict[str, str]] = {}
        self.units: dict[Slot, SizeUnit] = {}
        self.passed: dict[str, str] = {}  # a pattern, and a line that it passes over
        self.open: list[OpenAnswer] = []
        self.numbered: dict[Slot, tuple[str, str]] = {}  # the list's pattern, and as lines
        self._slots: dict[int, dict[Mark, Slot]] = {}
        others = list(
            {mark.name: mark for exchange in self.exchanges for mark in exchange.marks}.values()
        )
        for at, exchange in enumerate(self.exchanges):
            lines = dict(enumerate(exchange.at))
            try:
                self._slots[at] = resolved(exchange.marks, lines, asked_for, others)
                self._check_once(at)
            except MarkError as wrong:
                wrong.session = exchange.session
                raise
        self._heads: dict[str, str] = {}  # a heading by its words, and as it stands
        self._rules: list[tuple[LineRule, bool]] = []  # and whether it is a row of a table
        self._origins: dict[LineRule, tuple[int, int]] = {}  # the line that each was made of
        self._tables: list[tuple[TextTable, list[LineRule], int, int]] = []
        self._taken: set[tuple[int, int]] = set()
        self._rows: set[tuple[int, int]] = set()
        self._ends: dict[Slot, list[tuple[bool, bool]]] = {}
        self._roomy = set[Slot]()  # what stands last in a table of three columns or more
        self._skips = self._skipped()
        self._read_marks()
        self._beside_key = {  # what is told in the row of the thing itself
            slot
            for at in range(len(self.exchanges))
            for marks in self._marked(at).values()
            if any(self._is_key(exchange) and exchange[0] != "boot" for _, exchange in marks)
            for _, slot in marks
        }
        self._make_rules()
        self._pass_over()

    def _check_once(self, at: int) -> None:
        """Raise MarkError where one line tells a field twice."""
        for marks in self._marked(at).values():
            seen = set[Slot]()
            for mark, slot in marks:
                if slot in seen:
                    problem = f"{mark.shown} marks {slot[1]} a second time in its line"
                    line = self.exchanges[at].at[mark.line] + 1
                    raise MarkError(line, problem, "Mark each field once in a line")
                seen.add(slot)

    def _refused(self, exchange: Exchange) -> bool:
        shown = [line for line in exchange.lines if line.strip()]
        if any(mark.name == "error" for mark in exchange.marks):
            return True
        return not exchange.marks and len(shown) == 1 and REFUSES.search(shown[0]) is not None

    def rules(self) -> AnswerRules:
        """All that was found."""
        return AnswerRules(
            exchanges=tuple(self.exchanges),
            slots=tuple(self._slots[at] for at in range(len(self.exchanges))),
            rules=tuple(self._rules),
            origins=self._origins,
            patterns=self.patterns,
            values=self.values,
            means=self.means,
            units=self.units,
            heads=tuple(self._heads.values()),
            passed=self.passed,
            numbered=self.numbered,
            open=tuple(self.open),
            words=self._words,
        )

    # -- what is marked

    def _marked(self, at: int) -> dict[int, list[tuple[Mark, Slot]]]:
        by_line: dict[int, list[tuple[Mark, Slot]]] = {}
        for mark, slot in self._slots[at].items():
            by_line.setdefault(mark.line, []).append((mark, slot))
        return {line: sorted(each, key=lambda one: one[0].start) for line, each in by_line.items()}

    def _read_marks(self) -> None:
        for number, exchange in enumerate(self.exchanges):
            for mark, slot in self._slots[number].items():
                line = exchange.lines[mark.line]
                self.values.setdefault(slot, []).append(mark.value)
                glued = line[mark.end : mark.end + 1].strip() != ""
                ends = not line[mark.end :].strip()
                self._ends.setdefault(slot, []).append((ends, glued))
                if mark.means is not None:
                    self.means.setdefault(slot, {})[mark.value] = mark.means
                if (
                    unit := unit_of(line[mark.end : mark.end + 12], beside=True)
                ) is not None and re.match(r"[\d.,]+$", mark.value):
                    self.units.setdefault(slot, unit)
                self._number(number, mark, slot)
        self._make_patterns()

    def _make_patterns(self) -> None:
        for slot, values in self.values.items():
            told = self._ends[slot]
            ends, glued = all(each for each, _ in told), any(each for _, each in told)
            # Else a sentence that begins with a number would be a size and a name.
            ends = ends and (slot in self._roomy or any(" " in value for value in values))
            if slot == ("order", "list"):  # its words, and no other
                known = sorted(set(values), key=lambda word: (-len(word), word))
                self.patterns[slot] = "|".join(map(escaped, known))
                continue
            self.patterns[slot] = pattern_of(slot[1], values, ends=ends, glued=glued)

    def _number(self, at: int, mark: Mark, slot: Slot) -> None:
        """Find the list that says what a number stands for, where a choice is told by one."""
        if not mark.value.isdigit() or slot[1] not in (
            "default_bank.live", "default_bank.saved", "once", "place", "running.bank",
        ):  # fmt: skip
            return
        items = [
            found
            for line in self.exchanges[at].lines
            if (found := re.fullmatch(r" *([\[(]?)(\d+)([\])]?[).:\]]?) +(\S.*)", line)) is not None
        ]
        if mark.value not in {item[2] for item in items}:
            return
        texts = [item[4].split() for item in items]
        same = 0
        while len({tuple(text[: same + 1]) for text in texts}) == 1 and all(
            len(text) > same + 1 for text in texts
        ):
            same += 1
        front = "".join(f"{escaped(word)} +" for word in texts[0][:same])
        before, behind = escaped(items[0][1]), escaped(items[0][3])
        value = r"\S+" if all(len(text) == same + 1 for text in texts) else r"\S.*"
        told = f" *{before}(?P<number>\\d+){behind} +{front}(?P<value>{value})"
        self.numbered[slot] = (told, f" *{before}\\d+{behind} +{front}{value}")

    # -- rules

    def _make_rules(self) -> None:
        # What says which list or volume stands first, so that it is taken for no row.
        for wanted in (True, False):
            for number, exchange in enumerate(self.exchanges):
                for line, marks in sorted(self._marked(number).items()):
                    text = exchange.lines[line]
                    if self._says_which(marks) != wanted:
                        continue
                    if any(
                        {slot for _, slot in marks} <= {*rule.slots}
                        for rule, _ in self._rules
                        if rule.found(text, self.patterns) is not None
                    ):
                        self._taken.add((number, line))
                        continue
                    self._make_rule(number, line, marks)
                    self._make_patterns()
            if wanted:
                self._take_alike()
        self._make_patterns()
        self._take_alike()
        self._make_patterns()

    def _says_which(self, marks: Sequence[tuple[Mark, Slot]]) -> bool:
        """Whether a line says which list, member, bank or volume others are of, and no more."""
        slots = [slot for _, slot in marks]
        if not all(slot[1] in WHICH and slot not in self._beside_key for slot in slots):
            return False
        return not any(self._is_key(slot) and slot[0] != "boot" for slot in slots)

    def _take_alike(self) -> None:
        """Take in the lines that the rules understand."""
        for number, exchange in enumerate(self.exchanges):
            for line, text in enumerate(exchange.lines):
                if (number, line) not in self._taken and self._take_by_rule(text):
                    self._taken.add((number, line))

    def _take_by_rule(self, text: str) -> bool:
        for rule, row in self._rules:
            found = rule.found(text, self.patterns)
            if found is not None and not row:
                for slot, value in found.items():
                    self.values[slot].append(value)
                return True
        for rule, row in self._rules:
            found = rule.widened(text) if not row else None
            if found is not None:
                for slot, value in found.items():
                    self.values[slot].append(value)
                self._make_patterns()
                return True
        return False

    def _make_rule(self, at: int, line: int, marks: list[tuple[Mark, Slot]]) -> None:
        text = self.exchanges[at].lines[line]
        tokens = tokens_of(text, marks)
        literal = literal_rule(tokens, self._words)
        self._origins.setdefault(literal, (at, line))
        may_be = self._may_be_row(marks) and not self._says_which(marks)
        table = self._table(at, line, marks) if may_be else None
        if table is None:
            self._rules.append((literal, False))
            self._taken.add((at, line))
            return
        made, rows, heads = table
        alike = sum(
            literal.found(each, self.patterns) is not None
            for exchange in self.exchanges
            for each in exchange.lines
        )
        if not heads and alike >= len(rows):
            self._rules.append((literal, False))
            self._taken.add((at, line))
            return
        for slot, values in made.values.items():
            self.values[slot] = [*self.values[slot], *values]
        self._make_patterns()
        if len(made.columns) > 2:
            self._roomy |= {*made.columns[-1].slots}
            self._make_patterns()
        self._units_of(made, heads)
        self._heads.update({_words(head): head for head in heads})
        self._taken |= rows
        self._rows |= rows
        rules = made.rules(self.patterns)
        if (wrong := made.misread(rules, self.patterns)) is not None:
            raise self._ambiguous(at, line, wrong)
        self._tables.append((made, rules, at, line))
        self._rules += [(rule, True) for rule in rules]

    def _ambiguous(self, at: int, line: int, text: str) -> MarkError:
        problem = f"the columns of its table cannot be separated: {text.strip()[:60]!r}"
        do = "Mark a row in which every cell is filled"
        wrong = MarkError(self.exchanges[at].at[line] + 1, problem, do)
        wrong.session = self.exchanges[at].session
        return wrong

    def _is_read(self, text: str) -> bool:
        """Whether a line that was not taken for a row is read as one, and right.

        Raises MarkError where it would be read otherwise than it stands.
        """
        for table, rules, at, line in self._tables:
            found = next((f for r in rules if (f := r.found(text, self.patterns))), None)
            if found is not None:
                if found != table.stands(text):
                    raise self._ambiguous(at, line, text)
                return True
        return False

    def _may_be_row(self, marks: Sequence[tuple[Mark, Slot]]) -> bool:
        """Whether a line names a thing, so that others may follow in lines like it."""
        slots = {slot for _, slot in marks}
        if any(fills == "device" for fills, _ in slots):
            return False
        return any(self._is_key(slot) for slot in slots) or any(
            fills == "boot" and field == "member" for fills, field in slots
        )

    def _is_key(self, slot: Slot) -> bool:
        return slot[1] == key_of(
            slot[0], {field for fills, field in self.values if fills == slot[0]}
        )

    def _table(
        self, at: int, line: int, marks: list[tuple[Mark, Slot]]
    ) -> tuple[TextTable, set[tuple[int, int]], list[str]] | None:
        """The table in which a line is a row, its lines, and its headings."""
        best: tuple[TextTable, set[tuple[int, int]], list[str]] | None = None
        text = self.exchanges[at].lines[line]
        for wide in (False, True):
            tokens = tokens_of(text, marks, wide=wide)
            table = TextTable(tokens, self._is_key, self.patterns)
            heads = self._above(at, line, table)
            for head in heads:
                table.head(head)
            rows, before = {(at, line)}, 0
            while len(rows) > before:  # what a row was taken for may make another one
                before = len(rows)
                self._grow(table, rows, heads)
                table.widen()
            if best is None or len(rows) > len(best[1]):
                best = table, rows, heads
        return best

    def _above(self, at: int, line: int, table: TextTable) -> list[str]:
        """The headings above a row, the nearest first; a ruler between is none."""
        heads, lines = [], self.exchanges[at].lines
        marked = self._marked(at)
        ruler = False
        for number in range(line - 1, -1, -1):
            text = lines[number]
            if not text.strip():
                break
            if RULER.fullmatch(text):
                ruler = True
                continue
            if number in marked or (table.fits(text) and not ruler and re.search(r"\d", text)):
                break
            if len(text.split()) < 2 and not ruler:
                break
            heads.append(text)
            if ruler:
                break
        # Rows that nobody marked stand above the marked one as well as headings do.
        if any(re.search(r"\d", text) for text in heads) and not ruler:
            return []
        if heads and not ruler and not self._heads_well(heads[0], table):
            return []
        return heads[:2]

    def _heads_well(self, text: str, table: TextTable) -> bool:
        """Whether a line has a word for about each column, and is no sentence."""
        count = min(len(tokens_of(text, (), wide=True)), len(text.split()))
        return not text.rstrip().endswith((".", ":", ",")) and count >= len(table.columns) - 1

    def _grow(self, table: TextTable, rows: set[tuple[int, int]], heads: Sequence[str]) -> None:
        """Take in every line of a table, in all answers."""
        known = set(map(_words, heads))
        for number, exchange in enumerate(self.exchanges):
            marked = self._marked(number)
            for run in self._runs(exchange.lines):
                inside = any((number, line) in rows for line in run)
                if not inside:
                    inside = any(_words(exchange.lines[line]) in known for line in run)
                started = not heads
                for line in run:
                    text = exchange.lines[line]
                    if _words(text) in known or RULER.fullmatch(text):
                        started = True
                        continue
                    if (number, line) in rows or (number, line) in self._taken:
                        started = True
                        continue
                    if line in marked and not self._same(marked[line], table):
                        continue
                    if any(each.fullmatch(text) for each in self._skips):
                        continue
                    if (table.fits(text) or (inside and started)) and table.take(text):
                        rows.add((number, line))

    def _same(self, marks: Sequence[tuple[Mark, Slot]], table: TextTable) -> bool:
        slots = {slot for column in table.columns for slot in column.slots}
        return {slot for _, slot in marks} <= slots

    def _runs(self, lines: Sequence[str]) -> list[list[int]]:
        """The numbers of lines that stand together without a blank one between."""
        runs: list[list[int]] = [[]]
        for number, line in enumerate(lines):
            if line.strip():
                runs[-1].append(number)
            elif runs[-1]:
                runs.append([])
        return [run for run in runs if run]

    def _units_of(self, table: TextTable, heads: Sequence[str]) -> None:
        """The units that a heading names above a column."""
        for number, column in enumerate(table.columns):
            start = max(table.columns[number - 1].ends) if number else 0
            for head in heads:
                end = max(column.ends)
                tokens = [
                    token
                    for token in tokens_of(head, (), wide=True)
                    if token.start < end and token.end > min(column.starts)
                ] or [token for token in tokens_of(head, ()) if start <= token.start < end]
                text = " ".join(token.text for token in tokens)
                unit = unit_of(text.replace("_", " "))
                for slot in column.slots:
                    if unit is not None:
                        self.units.setdefault(slot, unit)

    # -- what means nothing

    def _pass_over(self) -> None:
        listed = [re.compile(lines) for _, lines in self.numbered.values()]
        for number, exchange in enumerate(self.exchanges):
            tables = {line for each, line in self._rows if each == number}
            parting = self._parting(exchange.lines)
            for run in self._runs(exchange.lines):
                left = [line for line in run if (number, line) not in self._taken]
                within = [line for line in run if line in tables]
                counts = Counter(len(exchange.lines[line].split()) for line in left)
                for line in left:
                    text = exchange.lines[line]
                    if _words(text) in self._heads or RULER.fullmatch(text):
                        continue
                    if any(each.fullmatch(text) for each in (*self._skips, *listed)):
                        continue
                    between = bool(within) and within[0] < line < within[-1]
                    between = between or line in parting
                    told = None if between else self._means_nothing(text, counts)
                    if told is None and self._is_read(text):
                        continue
                    if told is None:
                        where = (exchange.session, exchange.at[line])
                        things = tuple(_things(self.values))
                        self.open.append(OpenAnswer(*where, text, things, line in parting))
                    else:
                        self.passed.setdefault(told, text)

    def _parting(self, lines: Sequence[str]) -> set[int]:
        """The lines between two entries of a boot order, or two files, that may part them.

        It may say that those below are of another list or volume. A line that is told to say so
        parts them, and what stands beside it may mean nothing.
        """
        between, since = set[int](), None
        for number, line in enumerate(lines):
            rule = _rule_of(line, self._rules, self.patterns)
            if rule is None:
                continue
            if any(slot[0] in ("order", "file") and self._is_key(slot) for slot in rule.slots):
                between |= set(range(since + 1, number)) if since is not None else set()
                since = number
            elif any(slot[1] in WHICH for slot in rule.slots):
                since = None
        return between

    def _skipped(self) -> list[re.Pattern[str]]:
        """The shapes of lines that a person said to mean nothing.

        A mark around a part of a line means all lines that have that part there.
        """
        found = []
        for number, exchange in enumerate(self.exchanges):
            for mark in exchange.marks:
                if mark.name == "skip":
                    line = exchange.lines[mark.line]
                    told = self._skip(number, mark)
                    self.passed.setdefault(told, line)
                    found.append(re.compile(told))
        return found

    def _skip(self, at: int, mark: Mark) -> str:
        lines = self.exchanges[at].lines
        line = lines[mark.line]
        before, behind = line[: mark.start], line[mark.end :]
        if before.strip() or behind.strip():
            words = len(before.split()) if before[-1:] == " " else len(before.split()) - 1
            front = r"\S+ +" * max(0, words)
            glued = r"\S*" if before.strip() and before[-1:] != " " else ""
            indent = " *" if before[:1] in ("", " ") else ""
            return f"{indent}{front}{glued}{sentence(mark.value.strip())}.*"
        run = next((run for run in self._runs(lines) if mark.line in run), [])
        if set(run) & set(self._marked(at)):  # beside rows, whose shape it may have
            return sentence(line, self._words)
        return self._alike(lines, mark.line)

    def _alike(self, lines: Sequence[str], line: int) -> str:
        """The shape of a line: words that are others in the lines around may be anything."""
        count = len(lines[line].split())
        near = [
            text.split()
            for text in lines[max(0, line - 60) : line + 60]
            if len(text.split()) == count
        ]
        words = {
            word.strip(".,:;()[]'\"")
            for at, word in enumerate(lines[line].split())
            if len({text[at] for text in near}) > 1
        }
        told = sentence(lines[line], {*self._words, *words})
        # A shape without a word of its own would take any line.
        return (
            told if re.search(r"(?<!\\)[A-Za-z]{2}", told) else sentence(lines[line], self._words)
        )

    def _means_nothing(self, text: str, counts: Counter[int]) -> str | None:
        """The pattern by which a line may be passed over; None where it may tell something.

        `counts` are the lines around that are not understood either, by their number of words.
        """
        words = text.split()
        if self._may_name(words):
            return None
        if (label := label_of(text)) is not None:
            return label
        if counts[len(words)] >= _UNKNOWN_TABLE and len(words) < 8:
            return None
        if not re.search(r"[A-Za-z]{2}", text) or (len(words) < 3 and _FILE.search(text)):
            return None
        if len(words) < 2 and counts.total() > 1:
            return None
        return sentence(text, self._words)

    def _may_name(self, words: Sequence[str]) -> bool:
        """Whether a line may name a file, where files or what starts are told."""
        if not {"file", "order", "set", "component"} & set(_things(self.values)):
            return False
        return any(_FILE.fullmatch(word.strip(".,;()[]'\"")) for word in words)


def _words(line: str) -> str:
    """A line by its words, however far they are apart."""
    return " ".join(line.split())


def _things(slots: Iterable[Slot]) -> list[Fills]:
    return list(dict.fromkeys(fills for fills, _ in slots))


def _rule_of(
    line: str, rules: Iterable[tuple[LineRule, bool]], patterns: Mapping[Slot, str]
) -> LineRule | None:
    return next((rule for rule, _ in rules if rule.found(line, patterns) is not None), None)

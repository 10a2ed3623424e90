"""The template of one thing that answers tell of, made of the rules of their lines."""

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from ovek.files.marks import Mark, MarkError
from ovek.learn.answers import AnswerRules
from ovek.learn.shapes import RULER, LineRule, Slot, sentence
from ovek.learn.things import WHICH, key_of
from ovek.learn.values import SizeUnit
from ovek.model.sheet import Fills


class FoundRows(Struct, frozen=True, kw_only=True):
    """What one thing's template is made of."""

    fills: Fills
    template: str
    columns: dict[str, str]
    values: dict[str, list[str]]
    means: dict[str, dict[str, str]]
    units: dict[str, SizeUnit]
    numbered: tuple[str, tuple[str, ...]] | None = None


def found(rules: AnswerRules, fills: Fills) -> FoundRows:
    """What makes the template of one thing. Raises MarkError."""
    names = _names([slot for slot in rules.values if slot[0] == fills])
    numbers = {slot: told for slot, (told, _) in rules.numbered.items() if slot[0] == fills}
    numbered = None
    if numbers:
        numbered = next(iter(numbers.values())), tuple(slot[1] for slot in numbers)
    return FoundRows(
        fills=fills,
        template=_Template(rules, fills, names).text(),
        columns={name: slot[1] for slot, name in names.items()},
        values={slot[1]: list(dict.fromkeys(rules.values[slot])) for slot in names},
        means={slot[1]: rules.means[slot] for slot in names if slot in rules.means},
        units={slot[1]: rules.units[slot] for slot in names if slot in rules.units},
        numbered=numbered,
    )


class _Template:
    """One template; `names` are the columns of its fields.

    `above` says of each field that tells which list or volume rows are of, in a line of its own,
    whether that stands above them. A thing whose fields stand in several lines is a `block`.
    """

    def __init__(self, made: AnswerRules, fills: Fills, names: Mapping[Slot, str]) -> None:
        self.made, self.fills, self.names = made, fills, names
        rules = [rule for rule, _ in made.rules]
        key = key_of(fills, {field for _, field in names})
        self.key = (fills, key) if key is not None else None
        self.keyed = [rule for rule in rules if self.key in rule.slots]
        beside = {slot for rule in self.keyed for slot in rule.slots}
        self.above = {
            slot: _stands_above(made, slot, self.keyed)
            for slot in names
            if self.key is not None and slot[1] in WHICH and slot not in beside
        }
        self.lists = _listed(made, fills)
        own = [slot for rule in rules if rule not in self.keyed for slot in rule.slots]
        details = any(slot[0] == fills and slot not in self.above for slot in own)
        self.block = self.key is not None and details and fills != "digest"

    def text(self) -> str:
        """All of it."""
        head = [self._column(slot, name) for slot, name in self.names.items()]
        parts = _parts(self.made)
        body, in_parts = list[str](), dict[str, str]()  # the latter with the part that has the line
        for rule, _ in self.made.rules:
            mine = {slot: self.names[slot] for slot in rule.slots if slot[0] == self.fills}
            line = _line(_shown(self.made, rule, mine), self._then(rule, mine))
            if rule in parts and mine:
                in_parts[line] = parts[rule]
            elif rule not in parts:
                body.append(line)
        passed = {_line(_in_template(p)): line for p, line in self.made.passed.items()}
        # What is passed over and would be taken for a row stands before the rows.
        first = [pattern for pattern, line in passed.items() if self._like_row(line)]
        whole = [*first, *self._heads(), *self._ends(), *body, *self._numbers(), *passed]
        return "\n".join([*head, "", *_states(list(dict.fromkeys(whole)), in_parts)])

    def _column(self, slot: Slot, name: str) -> str:
        option = ""
        if slot in self.above:
            option = "Filldown " if self.above[slot] else "Fillup "
        elif slot in self.lists:
            option = "List "
        elif slot == self.key and (self.block or self.above):
            option = "Required "
        return f"Value {option}{name} ({self.made.patterns[slot]})"

    def _then(self, rule: LineRule, mine: Iterable[Slot]) -> str:
        """What is done once a rule has read its line."""
        if self.block:
            return ""
        if self.key in rule.slots:
            return "" if self.key in self.lists else " -> Record"
        # What a sum below its rows says is of the rows above.
        return " -> Clear" if any(not self.above.get(slot, True) for slot in mine) else ""

    def _heads(self) -> list[str]:
        made = self.made
        lines = [_line(_in_template(_head(text, made.words))) for text in made.heads]
        if any(RULER.fullmatch(line) for each in made.exchanges for line in each.lines):
            lines.append(_line("[-=_+*~.| ]+"))
        return lines

    def _ends(self) -> list[str]:
        """The lines after which another thing begins, so that the one before is whole."""
        if not (self.block and self.keyed):
            return []
        rules = [rule for rule, _ in self.made.rules]
        ends = [rule for rule in rules if any(self.above.get(s, False) for s in rule.slots)]
        shown = (_shown(self.made, rule, {}) for rule in (self.keyed[0], *ends))
        return [_line(each, " -> Continue.Record") for each in shown]

    def _numbers(self) -> list[str]:
        lists = dict.fromkeys(lines for _, lines in self.made.numbered.values())
        return [_line(_in_template(lines)) for lines in lists]

    def _like_row(self, line: str) -> bool:
        """Whether a rule of rows would take a line."""
        made = self.made
        return any(row and rule.found(line, made.patterns) is not None for rule, row in made.rules)


def _line(pattern: str, then: str = "") -> str:
    return f"  ^{pattern}$${then}"


def _states(body: Sequence[str], in_parts: Mapping[str, str]) -> list[str]:
    """The states of a template: one, or one for each part of the answer that is told apart."""
    names = {line: f"Part{at + 1}" for at, line in enumerate(dict.fromkeys(in_parts.values()))}
    goes = [_line(_in_template(line), f" -> {name}") for line, name in names.items()]
    lines = ["Start", *goes, *body, ""]
    for line, name in names.items():
        own = [shown for shown, part in in_parts.items() if part == line]
        lines += [name, *goes, *own, *body, ""]
    return lines


def _parts(made: AnswerRules) -> dict[LineRule, str]:
    """The rules of lines that are written alike and mean two things, as live and saved.

    Each with the pattern of a line above it that stands above none of the others.
    """
    alike: dict[str, list[LineRule]] = {}
    for rule in made.origins:
        alike.setdefault(_shown(made, rule, {}), []).append(rule)
    parts: dict[LineRule, str] = {}
    for rules in alike.values():
        above = {rule: _lines_above(made, rule, rules) for rule in rules}
        for rule, lines in above.items() if len(rules) > 1 else ():
            others = {line for each in rules if each != rule for line in above[each]}
            own = next((line for line in lines if line not in others), None)
            if own is not None:
                parts[rule] = own
    return parts


def _lines_above(rules: AnswerRules, rule: LineRule, alike: Sequence[LineRule]) -> list[str]:
    """What stands above a rule's first line and is no value, the nearest first."""
    at, line = rules.origins[rule]
    lines = []
    for text in reversed(rules.exchanges[at].lines[:line]):
        taken = rules.rule_of(text)
        if taken in alike:
            break
        if text.strip() and taken is None:
            lines.append(sentence(text, rules.words))
    return lines


def _stands_above(made: AnswerRules, slot: Slot, keyed: Sequence[LineRule]) -> bool:
    """Whether the line that says which stands above the rows it is about, not below them.

    Raises MarkError where it is now so and now so.
    """
    ways = set[bool]()
    session, where = 0, 0
    for exchange in made.exchanges:
        rules = [made.rule_of(line) for line in exchange.lines]
        says = [n for n, rule in enumerate(rules) if rule is not None and slot in rule.slots]
        rows = [n for n, rule in enumerate(rules) if rule in keyed]
        if says and rows:
            below = rows[0] < says[0] and rows[-1] < says[-1]
            ways.add(not below)
            if (says[0] < rows[0]) == below:
                ways.add(below)
            session, where = exchange.session, exchange.at[says[0]]
    if len(ways) > 1:
        problem = f"some rows are above the line that says which {slot[1]}, and others below it"
        wrong = MarkError(where + 1, problem, f"Mark the {slot[1]} beside each row, or not at all")
        wrong.session = session
        raise wrong
    return ways != {False}


def _listed(rules: AnswerRules, fills: Fills) -> set[Slot]:
    """The fields that stand on several lines of one thing: packages, and wrapped digests."""
    lists = {slot for slot in rules.values if slot == ("set", "package")}
    for slots in rules.slots:
        marked: dict[Slot, list[Mark]] = {}
        for mark, slot in slots.items():
            marked.setdefault(slot, []).append(mark)
        for slot, marks in marked.items():
            lines = [mark.line for mark in marks]
            if slot[0] == fills == "digest" and len(lines) > 1 and lines[1] == lines[0] + 1:
                lists.add(slot)
    return lists


def _head(text: str, words: Iterable[str]) -> str:
    """A heading as a pattern: its words, however far they are apart."""
    pattern = " +".join(sentence(word, words) for word in text.split())
    return f" *{pattern}" if text[:1] == " " else pattern


def _shown(rules: AnswerRules, rule: LineRule, mine: Mapping[Slot, str]) -> str:
    return "".join(
        _in_template(part)
        if isinstance(part, str)
        else f"${{{mine[part]}}}"
        if part in mine
        else _in_template(_alone(rules.patterns[part]))
        for part in rule.parts
    )


def _names(own: Sequence[Slot]) -> dict[Slot, str]:
    """The names of the columns: the field's last word, or all of it where two end alike."""
    ends = [field.rpartition(".")[2] for _, field in own]
    return {
        (fills, field): (
            last if ends.count(last) == 1 and last not in ("live", "saved") else
            field.replace(".", "_")
        ).upper()
        for (fills, field), last in zip(own, ends, strict=True)
    }  # fmt: skip


def _in_template(pattern: str) -> str:
    """A pattern as a rule of TextFSM, in which `$` names a value."""
    return pattern.replace("\\$", "\\$$")


def _alone(pattern: str) -> str:
    return f"(?:{pattern})" if "|" in pattern else pattern

"""Every mark looked up in what the sheet reads: in its own field, and in its own row."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from ovek.files.marks import Mark
from ovek.learn.dialogue import Exchange
from ovek.learn.shapes import Slot
from ovek.learn.things import WHICH, key_of
from ovek.model.sheet import Fills, Question
from ovek.sources.rows import At, rows_where

LearnedRow = Mapping[str, object]


class LostMark(Struct, frozen=True):
    """A mark that the sheet does not read as it was marked, its line of the session (from 0)."""

    session: int
    line: int
    met: str
    do: str


def lost_mark(
    exchange: Exchange, slots: Mapping[Mark, Slot], questions: Sequence[Question]
) -> LostMark | None:
    """The first mark of an answer that does not come out where it should; None: all do.

    `questions` are those that were made of the answer, `slots` what each mark is about.
    """
    answer = "\n".join(exchange.lines)
    rows: dict[Fills, list[LearnedRow]] = {}
    for question in questions:
        for row in rows_where(question, answer).rows:
            named = {question.columns.get(name, name.lower()): row[name] for name in row}
            rows.setdefault(question.fills, []).append({**question.fixed, **named})
    for mark, (fills, field) in slots.items():
        beside = [one for one, slot in slots.items() if one.line == mark.line and slot[0] == fills]
        problem = _wrong(mark, {one: slots[one][1] for one in beside}, fills, rows.get(fills, ()))
        if problem is not None:
            skip = f"mark with <<skip=…>> the lines that are parsed as {field} instead"
            do = f"Mark more of this line, or {skip}"
            return LostMark(exchange.session, exchange.at[mark.line], f"{mark.shown} {problem}", do)
    return None


def _wrong(
    mark: Mark, beside: Mapping[Mark, str], fills: Fills, rows: Sequence[LearnedRow]
) -> str | None:
    """What is wrong with how a mark is read; `beside` are the fields of the marks of its line."""
    field = beside[mark]
    holding = [row for row in rows if _holds(row.get(field), mark)]
    if not holding:
        return f"would not be parsed as {fills}.{field}"
    if not any(all(_holds(row.get(name), one) for one, name in beside.items()) for row in holding):
        return "would be parsed in another row than the marks beside it"
    key = key_of(fills, {name for row in rows for name in row if row[name]})
    if key is None or key in beside.values():
        return None
    if field in WHICH and any(not row.get(field) for row in rows):
        return f"names the {field} of some rows only; other rows would have none"
    return None


def _holds(value: object, mark: Mark) -> bool:
    """Whether a value of a row is what was marked, from the line where it was."""
    if isinstance(value, list):
        return any(_holds(each, mark) for each in value)
    here = isinstance(value, At) and value.first <= mark.line <= value.last
    return here and str(value).strip() == mark.value.strip()

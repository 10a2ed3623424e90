"""What a sheet makes of a saved session, question by question."""

from typing import Any

from msgspec import Struct

from ovek.model.result import Result


class TriedQuestion(Struct, frozen=True, kw_only=True):
    """One question tried: the rows its template made, the fields they fill, what was left over.

    `answered` is whether the session holds an answer; `strange` are the lines that nothing
    understood; `problem` is why the rows were not taken, `lost` the values that could not be.
    """

    name: str
    asked: str
    fills: str
    answered: bool
    rows: tuple[dict[str, Any], ...] = ()
    fields: tuple[dict[str, Any], ...] = ()
    strange: tuple[str, ...] = ()
    problem: str | None = None
    lost: tuple[str, ...] = ()

    @property
    def facts(self) -> int:
        """How many values were read."""
        return sum(value not in ("", []) for row in self.rows for value in row.values())


class SheetTrial(Result, frozen=True, kw_only=True):
    """A sheet tried on a saved session: its questions, and the facts that are still missing.

    `lost` are the values that a snapshot would refuse, `problems` all that was met on the way.
    """

    FORMAT = "ovek.sheet-trial/1"
    LIST = "questions"

    sheet: str
    questions: tuple[TriedQuestion, ...]
    missing: tuple[str, ...]
    problems: tuple[str, ...]
    lost: tuple[str, ...] = ()

    @property
    def facts(self) -> int:
        """How many values were read."""
        return sum(one.facts for one in self.questions)

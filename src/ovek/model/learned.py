"""What was learned of marked sessions, and what one more mark would settle (`ovek.learned/1`)."""

from msgspec import Struct

from ovek.model.result import Result


class Asks(Struct, frozen=True, kw_only=True):
    """One question that was learned: what is typed, for what, and the fields that it tells."""

    asked: str
    each: str
    fills: str
    fields: tuple[str, ...]


class LineOf(Struct, frozen=True, kw_only=True):
    """A line of a session (from 1), and the marks of which one would settle it."""

    session: str
    line: int
    text: str
    marks: tuple[str, ...]
    more: int = 0  # lines like it


class MarkOffer(Struct, frozen=True, kw_only=True):
    """A guess: the mark that would be put into a line of a session (from 1)."""

    session: str
    line: int
    mark: str


class Settles(Struct, frozen=True, kw_only=True):
    """Something that is not known, and the mark that would tell it."""

    what: str
    mark: str


class Choice(Struct, frozen=True, kw_only=True):
    """What no session tells: a key of `[boot]`, what it asks, and what follows of each value.

    `value` is what the sheet says now.
    """

    key: str
    asks: str
    value: str
    follows: dict[str, str]


class Tested(Struct, frozen=True, kw_only=True):
    """A session on which the sheet was tried: lines and values that are not understood.

    `facts` is how many values were read from it; `missing` are facts that it does not tell, as a
    session that was cut down may.
    """

    session: str
    facts: int = 0
    missing: tuple[str, ...] = ()
    wrong: tuple[str, ...] = ()
    strange: int = 0

    @property
    def whole(self) -> bool:
        """Whether it holds something, and all that it holds is understood."""
        return self.facts > 0 and not self.strange and not self.wrong


class Learned(Result, frozen=True, kw_only=True):
    """All of it. `written` is the sheet's file, None where nothing was written."""

    FORMAT = "ovek.learned/1"
    LIST = "asks"

    sheet: str
    written: str | None
    kept: str | None
    marks: int
    prompt: str
    pager: str | None
    asks: tuple[Asks, ...]
    open: tuple[LineOf, ...]
    unsettled: tuple[Settles, ...]
    taken: tuple[str, ...]
    passed: tuple[tuple[str, str], ...]
    guesses: tuple[MarkOffer, ...]
    unasked: tuple[str, ...]
    sessions: tuple[Tested, ...]
    choices: tuple[Choice, ...] = ()

    @property
    def whole(self) -> bool:
        """Whether every session is understood, one tells every fact, and nothing is left open."""
        told = all(one.whole for one in self.sessions) and any(
            not one.missing for one in self.sessions
        )
        return told and not self.open and not self.unsettled

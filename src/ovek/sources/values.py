"""A column's text as the value of a field. A value that cannot be is lost alone, with its line.

- Sizes in KiB or MiB are known to a step only: the unit, or a part of it where the text has digits
  behind its point.
- Digests are read in capitals, in groups, and over several lines.
- A date without a year is the nearest such day that is not after the device's own clock; where that
  is not known, not after the day after it was read, which may be today where the device stands. The
  time of a reload to come is the nearest such day that is not before it.
"""

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any, get_args

from msgspec import Struct

from ovek.model.digest import LENGTHS, TITLES, Algorithm
from ovek.model.sheet import SIZES, TIMES, TRUTHS, Question
from ovek.model.size import parse_size, step_of
from ovek.model.snapshot import BankState, BootMode, VolumeState

_TRUE = {"true": True, "yes": True, "false": False, "no": False}
_BETWEEN_GROUPS = re.compile(r"[\s:.-]+")
_MODES, _PLACES_READ = get_args(BootMode), ("running", "boot-loader")
WORDS: dict[tuple[str, str], tuple[str, ...]] = {
    ("boot", "mode.live"): _MODES,
    ("boot", "mode.saved"): _MODES,
    ("bank", "state"): get_args(BankState),
    ("volume", "state"): get_args(VolumeState),
    ("order", "list"): ("live", "saved"),
    ("device", "at"): _PLACES_READ,
    ("device", "config.backed_up"): ("never",),
}
_LETTER = re.compile(r"(?<=[\d.])([KMGT])$")  # as listings for people count: 1.2G are GiB
_YEARS = 9  # the longest time between two 29ths of February


class ValueProblem(ValueError):  # noqa: N818 - like ReadProblem
    """A text that cannot be the value of its field."""


class Clock(Struct, frozen=True):
    """The time by which dates without a year count: `own` where it is the device's."""

    time: datetime
    own: bool = False

    @property
    def last_day(self) -> datetime:
        """The last day that a date of the past may be, as a time of that day."""
        return self.time if self.own else self.time + timedelta(days=1)


def value_of(question: Question, name: str, texts: Sequence[str], clock: Clock) -> Any:
    """The value of a field; None where it is known to be nothing. Raises ValueProblem.

    A size is its bytes and the step that it is known to. `texts` are several where a column is a
    list; only a digest is put together of them.
    """
    if name in LENGTHS:
        return _digest(name, "".join(texts), question)
    if len(texts) > 1:
        found = [value_of(question, name, [text], clock) for text in texts]
        return [value for value in found if value is not None]
    return _single(question, name, texts[0], clock)


def _single(question: Question, name: str, text: str, clock: Clock) -> Any:
    words = question.words.get(name)
    if words is not None:
        if text not in words and text not in question.none:
            known = ", ".join(words)
            raise ValueProblem(f"the word {text!r} is not in the sheet ({known})")
        text = words.get(text, text)
    if text in question.none:
        return None
    try:
        if name in SIZES:
            told = _LETTER.sub(r"\1iB", text.replace(",", "")) + question.units.get(name, "")
            return parse_size(told), step_of(told)
        if name in TIMES:
            coming = name == "reload_at"
            return _time(text, question.dates.get(name), clock, coming).isoformat()
    except (ValueError, OverflowError) as error:
        raise ValueProblem(str(error)) from None
    if name in TRUTHS:
        if text.lower() not in _TRUE:
            raise ValueProblem(f"it is {text!r}, not yes or no; map it under words")
        return _TRUE[text.lower()]
    allowed = WORDS.get((question.fills, name))
    if allowed is not None and text not in allowed:
        raise ValueProblem(f"it is {text!r}, not {' or '.join(allowed)}; map it under words")
    return text


def _digest(name: str, text: str, question: Question) -> str | None:
    if text.strip() in question.none:
        return None
    digest, algorithm = _BETWEEN_GROUPS.sub("", text).lower(), name
    length = LENGTHS[algorithm]  # type: ignore[index]
    if len(digest) != length or not re.fullmatch("[0-9a-f]*", digest):
        title = TITLES[algorithm]  # type: ignore[index]
        raise ValueProblem(f"{text!r} is not a {title}: that has {length} hex digits")
    return digest


def _time(text: str, written: str | tuple[str, ...] | None, clock: Clock, coming: bool) -> datetime:
    if written is None:
        told = datetime.fromisoformat(text)
        return told if told.tzinfo is not None else told.replace(tzinfo=UTC)
    ways = (written,) if isinstance(written, str) else written
    for number, way in enumerate(ways):
        try:
            return _dated(text, way, clock, coming)
        except ValueError:
            if number == len(ways) - 1:
                raise
    raise ValueError("the sheet has no `dates` entry for it")


def _dated(text: str, written: str, clock: Clock, coming: bool) -> datetime:
    if "%Y" in written or "%y" in written or "%c" in written or "%x" in written:
        told = datetime.strptime(text, written)
        return told if told.tzinfo is not None else told.replace(tzinfo=UTC)
    # A leap year, so that 29 February is one of its days.
    told = datetime.strptime(f"2000 {text}", f"%Y {written}")
    told = told if told.tzinfo is not None else told.replace(tzinfo=UTC)
    last = (clock.time if coming else clock.last_day).astimezone(told.tzinfo)
    step = 1 if coming else -1
    for year in range(last.year, last.year + step * _YEARS, step):
        try:
            day = told.replace(year=year)
        except ValueError:  # no 29 February
            continue
        if day.date() == last.date() or (day.date() > last.date()) is coming:
            return day
    raise ValueError(f"{text!r} is not a day")


def algorithms_of(row: dict[str, Any]) -> dict[Algorithm, str]:
    """The digests that the fields of a row hold."""
    return {name: row[name] for name in LENGTHS if name in row}

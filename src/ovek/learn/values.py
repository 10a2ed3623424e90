"""How the values of a field are written: as a pattern, and in the words of `strptime`."""

import re
from collections.abc import Iterable, Sequence
from datetime import datetime
from functools import lru_cache
from itertools import product

from msgspec import Struct

from ovek.learn.dialogue import escaped
from ovek.model.digest import LENGTHS
from ovek.model.sheet import SIZES, TIMES

NOTHING = frozenset(
    {"-", "--", "---", "n/a", "none", "nothing", "never", "unknown", "unset", "no date", "not set"}
)
_UNITS = {
    **dict.fromkeys(("bytes", "byte", "octets"), "B"),
    **dict.fromkeys(("kib", "kb", "k", "kbytes", "kbyte", "kilobytes"), "KiB"),
    **dict.fromkeys(("mib", "mb", "m", "mbytes", "mbyte", "megabytes"), "MiB"),
    **dict.fromkeys(("gib", "gb", "g", "gbytes", "gbyte", "gigabytes"), "GiB"),
}
_UNIT = re.compile(
    rf"(?i)(?<![A-Za-z])({'|'.join(sorted(_UNITS, key=len, reverse=True))})(?![a-z])"
)
_WORDS = r"\S+(?: \S+)*"
_SIZE = re.compile(r"[\d.,]+")
# How times are written that are known without a word; any other way is said in its mark. Those
# without a year come last.
DATES = (
    *("%Y-%m-%d", "%Y/%m/%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%b-%Y", "%d %b %Y"),
    *("%d %B %Y", "%b %d %Y", "%B %d %Y", "%b %d, %Y", "%B %d, %Y", "%d.%m.%y", "%d/%m/%y"),
    *("%m/%d/%y", "%b %d", "%d %b", "%d.%m."),
)
HOURS = (
    "",
    " %H:%M",
    " %H:%M:%S",
    ", %H:%M",
    ", %H:%M:%S",
    "T%H:%M:%S",
    " %I:%M %p",
    " %I:%M:%S %p",
)
_ZONES = ("", "Z", " UTC", " GMT", "%z", " %z")
_WITH_DAY = ("%a %b %d %H:%M:%S %Y", "%a %d %b %Y %H:%M:%S", "%a, %d %b %Y %H:%M:%S")
_OTHERS = ("%H:%M %d %b %Y", "%H:%M %d.%m.%Y", "%H:%M %d %B %Y", "%b %d %H:%M:%S %Y")


@lru_cache(maxsize=1)
def _ways() -> dict[str, list[str]]:
    """Every way to write a time that is tried, by its shape, those with a year first."""
    by_shape: dict[str, list[str]] = {}
    timed = (f"{date}{hour}" for date, hour in product(DATES, HOURS))
    for way, zone in product((*timed, *_WITH_DAY, *_OTHERS), _ZONES):
        for sign in ("+", "-") if "%z" in zone else ("",):
            shown = re.sub("%[bBaAp]", "a", (way + zone).replace("%z", f"{sign}0"))
            shown = re.sub("%[YmdHMSyI]", "0", shown)
            by_shape.setdefault(_shape(shown), []).append(way + zone)
    return by_shape


def _shape(text: str) -> str:
    """A text with its numbers, words and blanks each as one sign."""
    return re.sub(r"\s+", " ", re.sub("[A-Za-z]+", "a", re.sub(r"\d+", "0", text)))


def dates_of(texts: Iterable[str]) -> list[str]:
    """The ways in which all of some texts may be written as a time; several mean not known.

    >>> dates_of(["18 October 2025, 07:45:00"]), dates_of(["03/04/2026"])
    (['%d %B %Y, %H:%M:%S'], ['%d/%m/%Y', '%m/%d/%Y'])
    """
    times = [text for text in dict.fromkeys(texts) if text.lower() not in NOTHING]
    if not times:
        return []
    ways = [way for way in _ways().get(_shape(times[0]), ()) if _times(times, way)]
    # What reads the same days is one way: the abbreviated and the whole name of May, say.
    by_times: dict[tuple[datetime, ...], str] = {}
    for way in ways:
        if _has_year(way) or not any(map(_has_year, ways)):
            by_times.setdefault(_times(times, way), way)
    return list(by_times.values())


def _has_year(way: str) -> bool:
    return "%Y" in way or "%y" in way


def _times(texts: Sequence[str], way: str) -> tuple[datetime, ...]:
    """Texts as times; empty where one is not written so."""
    front, way = ("", way) if _has_year(way) else ("2000 ", f"%Y {way}")
    try:
        return tuple(datetime.strptime(front + each, way).replace(tzinfo=None) for each in texts)
    except ValueError:
        return ()


class SizeUnit(Struct, frozen=True):
    """A unit as sheets write it; `exact` is whether the text tells powers of two from ten."""

    name: str
    exact: bool


def unit_of(text: str, *, beside: bool = False) -> SizeUnit | None:
    """The unit that a text names first; None: it names none. A `KB` of a device is a KiB.

    `beside` is for a text that follows a number, which it has to begin with.

    >>> unit_of("Free (KB)"), unit_of(" bytes, written").name, unit_of("Block")
    (SizeUnit(name='KiB', exact=False), 'B', None)
    """
    unit = _UNIT.search(text)
    if unit is None or (beside and text[: unit.start()].strip(" (")):
        return None
    name = _UNITS[unit[1].lower()]
    return SizeUnit(name, name == "B" or "ib" in unit[1].lower())


def pattern_of(field: str, texts: Sequence[str], *, ends: bool, glued: bool) -> str:
    """A pattern for the values of a field, made of those that were seen.

    `ends` is whether it ends its line, `glued` whether text follows it without a blank.
    """
    values = [text for text in texts if text.lower() not in NOTHING] or list(texts)
    nothing = sorted({text for text in texts if text not in values})
    pattern = _pattern(field, values, ends=ends, glued=glued)
    covered = all(re.fullmatch(pattern, text) for text in nothing)
    return pattern if covered else "|".join([pattern, *map(escaped, nothing)])


def _pattern(field: str, told: Sequence[str], *, ends: bool, glued: bool) -> str:
    if field in LENGTHS:
        length = LENGTHS[field]
        if all(re.fullmatch(f"[0-9a-fA-F]{{{length}}}", text) for text in told):
            return f"[0-9a-fA-F]{{{length}}}"
        return (
            r"[0-9a-fA-F]\S*"
            if all(" " not in text for text in told)
            else r"[0-9a-fA-F][0-9a-fA-F .:-]*"
        )
    if field in SIZES:
        if all(re.fullmatch(r"\d+", text) for text in told):
            return r"\d+"
        if all(_SIZE.fullmatch(text) for text in told):
            return r"\d[\d.,]*"
        if all(re.fullmatch(r"[\d.,]+ ?[A-Za-z]+", text) for text in told):
            return r"\d[\d.,]* ?[A-Za-z]+"
    if field in TIMES:
        return "|".join(dict.fromkeys(map(_dated, told)))
    if field in ("path", "set_file", "package") and ends and not glued:
        return _WORDS
    if all(" " not in text for text in told):
        if field in ("place", "running.place") and all(":" in text for text in told):
            return r"\S+?:\S+?" if glued else r"\S+:\S+"
        return r"\S+?" if glued else r"\S+"
    # Two blanks are between columns, and in no name that was seen.
    spaced = any("  " in text for text in told)
    if not spaced:
        return _WORDS if ends and not glued else rf"{_WORDS}?"
    return r"\S.*" if ends and not glued else r"\S.*?"


def _dated(text: str) -> str:
    """A pattern of times that are written alike.

    >>> _dated("3 March 2026, 14:02")
    '\\\\d+ +[A-Za-z]+ +\\\\d+, +\\\\d+:\\\\d+'
    """
    pattern = re.sub(r"([\\.^$*+?{}\[\]|()])", r"\\\1", text)
    pattern = re.sub(r"\d+", "\0", re.sub(r"[A-Za-z]+", "\1", pattern))
    pattern = re.sub(r" +", " +", pattern)
    return pattern.replace("\0", r"\d+").replace("\1", "[A-Za-z]+")

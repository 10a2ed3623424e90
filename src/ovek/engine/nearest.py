"""The name that was meant: the real file nearest to one that a boot setting names in vain.

First what differs by a blank, by the case, by the suffix, or by characters that look alike; then
the closest name there is.
"""

import re
import unicodedata
from collections.abc import Iterable
from difflib import get_close_matches

from ovek.engine.verdicts import JudgedDevice
from ovek.model.place import Place


def nearest(judged: JudgedDevice, place: Place) -> tuple[str, str] | None:
    """The nearest real name on the volume of a place, and how it differs, in words."""
    owner = judged.member(place.member or "")
    volume = owner.member.volume(place.volume) if owner is not None else None
    names = sorted(file.path for file in volume.files or ()) if volume is not None else []
    return nearest_of(place.path, names)


def nearest_of(name: str, names: Iterable[str]) -> tuple[str, str] | None:
    """The nearest of some names, and how it differs, in words; None where none is near.

    >>> nearest_of("ox40-full-7.4.2.imgg", ["notes.txt", "ox40-full-7.4.2.img"])
    ('ox40-full-7.4.2.img', ' (only the suffix differs)')
    >>> nearest_of("ox40.img", ["notes.txt"])
    """
    known = list(names)
    for how, fold in _FOLDS:
        for each in known:
            if fold(each) == fold(name):
                return each, f" ({how})"
    close = get_close_matches(name, known, n=1, cutoff=0.75)
    return (close[0], "") if close else None


def _without_blanks(name: str) -> str:
    return re.sub(r"\s+", "", name)


def _without_suffix(name: str) -> str:
    return re.sub(r"\.[A-Za-z]{1,8}$", "", _without_blanks(name).casefold())


_ALIKE = str.maketrans("0oO1lIiS5B8Z2", "0001111558822")


def _look(name: str) -> str:
    """A name with the characters that look alike made one (also letters of other scripts)."""
    plain = unicodedata.normalize("NFKD", name)
    letters = {"а": "a", "е": "e", "о": "o", "р": "p", "с": "c", "х": "x", "і": "i"}
    return "".join(letters.get(each, each) for each in plain).translate(_ALIKE).casefold()


_FOLDS = (
    ("differs by a space", _without_blanks),
    ("only the case differs", str.casefold),
    ("only the suffix differs", _without_suffix),
    ("similar-looking characters", _look),
)

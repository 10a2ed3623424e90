"""Versions, ordered where they can be.

1. A version is split into runs of digits and runs of letters; separators only part them.
2. Numbers compare as numbers.
3. A letter after a number is later than nothing: `9.5 < 9.5a < 9.5b < 9.6`.
4. `dev`, `alpha`, `beta`, `pre` and `rc` are earlier than nothing; a `b` between digits is a beta.
5. What is left (a number against a letter, one word against another) cannot be ordered: such
   versions are different, never older.
6. A text of more than 200 characters is no version: nothing is known of its order.

>>> compare("9.5a", "9.6"), compare("7.4rc1", "7.4"), compare("7.4", "7.4")
(-1, -1, 0)
>>> compare("7.5.0b3", "7.5.0"), compare("7.5.0b3", "7.4.9"), compare("9.5b", "9.5")
(-1, 1, 1)
>>> compare("7.4-full", "7.4-lite") is None
True
"""

import re
from functools import lru_cache
from itertools import zip_longest

from ovek.model.pattern import Pattern

LONGEST = 200
# A `b` between digits, as in `7.5.0b3`, is a beta; at the end, as in `9.5b`, it is a letter.
_RUN = re.compile(r"\d+|[^\W\d_]+")
_BETA = re.compile(r"(?<=\d)[bB](?=\d)")
_EARLY = {"dev": 0, "alpha": 1, "beta": 2, "pre": 3, "rc": 4}
_NOTHING = (1, 0, "")
_Run = tuple[int, int, str]


@lru_cache(maxsize=4096)
def running(version: str, scheme: Pattern | None = None) -> tuple[_Run, ...] | None:
    """Split a version into comparable runs, by a sheet's scheme where there is one.

    A run is (kind, number, word); kind 0 is earlier than nothing, 1 nothing, 2 a number, 3 a
    letter or word. Returns None where the scheme does not fit, or the text is no version.
    """
    if len(version) > LONGEST:
        return None
    if scheme is None:
        return tuple(map(_run, _RUN.findall(_BETA.sub("beta", version))))
    match = scheme.fullmatch(version)
    if match is None:
        return None
    fields = (match[name] for name in scheme.groupindex)
    return tuple(_NOTHING if not field else _run(field) for field in fields)


def _run(text: str) -> _Run:
    if text.isdecimal():
        return (2, int(text), "")
    word = text.casefold()
    return (0, _EARLY[word], "") if word in _EARLY else (3, 0, word)


def compare(one: str, other: str, scheme: Pattern | None = None) -> int | None:
    """Order two versions: -1 earlier, 0 the same, 1 later, None where no order is known.

    `scheme` is a sheet's regular expression whose named fields, in order, are compared.
    """
    if one == other:
        return 0
    if len(one) > LONGEST or len(other) > LONGEST:
        return None
    ours, theirs = running(one, scheme), running(other, scheme)
    if ours is None or theirs is None:
        return None
    for mine, yours in zip_longest(ours, theirs, fillvalue=_NOTHING):
        if mine == yours:
            continue
        if _NOTHING in (mine, yours) or mine[0] == 0 or yours[0] == 0 or mine[0] == yours[0] == 2:
            return -1 if mine < yours else 1
        letters = mine[0] == yours[0] == 3 and len(mine[2]) == len(yours[2]) == 1
        return (-1 if mine < yours else 1) if letters else None
    return 0


def later(one: str | None, other: str | None, scheme: Pattern | None = None) -> bool | None:
    """Whether `one` is later than `other`; None where either or their order is not known."""
    if one is None or other is None:
        return None
    order = compare(one, other, scheme)
    return None if order is None else order > 0

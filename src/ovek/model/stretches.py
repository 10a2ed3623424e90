"""How long facts were so: stretches from a first reading to a last, as readings are added.

A stretch is of one fact, and goes over readings one after another of which all tell it. Its `last`
is None while the newest reading tells it.
"""

from collections.abc import Hashable, Iterable
from typing import NamedTuple


class Stretch(NamedTuple):
    """A fact, and the times of the first and the last reading that tell it without a break."""

    fact: Hashable
    first: int
    last: int | None


class Beside(NamedTuple):
    """A reading that is new, and those beside it: the last before it, the first behind it.

    `newest` is the newest of all that were there; None: there was none.
    """

    at: int
    before: int | None
    behind: int | None
    newest: int | None


def merged(
    stretches: Iterable[Stretch], facts: frozenset[Hashable], beside: Beside
) -> tuple[list[Stretch], list[Stretch]]:
    """Fit the facts of a reading in: the stretches that go, and those that come instead.

    `stretches` are all of the device; of a reading that is the newest, those that last are enough.

    >>> gone, new = merged([Stretch("a", 1, None)], frozenset("b"), Beside(2, 1, None, 1))
    >>> [(one.fact, one.first, one.last) for one in sorted(new)]
    [('a', 1, 1), ('b', 2, None)]
    """
    at, before, behind, newest = beside
    ends: dict[Hashable, Stretch] = {}
    begins: dict[Hashable, Stretch] = {}
    over = set[Hashable]()
    gone, new = list[Stretch](), list[Stretch]()
    for one in stretches:
        until = newest if one.last is None else one.last
        if (
            before is not None
            and behind is not None
            and one.first <= before < behind <= (until or 0)
        ):
            over.add(one.fact)
            if one.fact not in facts:
                gone.append(one)
                new += [one._replace(last=before), one._replace(first=behind)]
        elif before is not None and until == before:
            ends[one.fact] = one
        elif behind is not None and one.first == behind:
            begins[one.fact] = one
    # Why both ends are looked up: a reading may be added between two others, in any order, and
    # must then join the stretch that ends before it to the one that begins behind it.
    for fact in facts - over:
        end, begin = ends.get(fact), begins.get(fact)
        last = None if behind is None else at if begin is None else begin.last
        if end is not None and behind is None:
            continue  # it goes on
        gone += [one for one in (end, begin) if one is not None]
        new.append(Stretch(fact, at if end is None else end.first, last))
    if behind is None:
        over_now = [one for fact, one in ends.items() if fact not in facts]
        gone += over_now
        new += [one._replace(last=before) for one in over_now]
    return gone, new

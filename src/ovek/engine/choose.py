"""The exact choice of what goes: which units free what is needed, at the least cost.

In this order: as few units as possible of the highest tier, then of the next lower, … down to
tier 1; then the fewest bytes freed beyond the need; then oldest first, then by name.

1. The numbers come from the highest tier down: so few that, with the largest of the tier and all
   of the lower tiers, the need is met. The largest settle it, so that these numbers are exact.
2. Where a tier goes whole or not at all, there is nothing left to choose of it. What is left is to
   pick so many of each tier that the bytes are as few as can be. That is worked out over every
   sum that can be reached, as a set of bits in units of what all sizes have in common (clusters).
3. Where those sums are too many to hold (single bytes on a large volume), all choices are made of
   two halves: every part of the older half with the best that the younger one has for it. Where
   the halves have too many parts, exchanges make the bytes few, and the choice says that they are
   not proven to be the fewest.
4. Of all choices with these numbers and these bytes, the one that is oldest first, then by name.
"""

from bisect import bisect_left, insort
from collections.abc import Iterable, Sequence
from itertools import accumulate
from math import gcd, prod

from msgspec import Struct

from ovek.model.place import Place
from ovek.model.plan import Tier

# How many bits all tables of reachable sums may have together.
_MOST_BITS = 4 * 10**8
# How many units may be made of two halves: of 32, each half has 65,536 parts.
_MOST_HALVED = 32


class DropUnit(Struct, frozen=True, kw_only=True, gc=False):
    """What goes or stays as one: a file, or a set with its own packages, the set file first.

    `frees` in bytes, whole clusters; `age` in seconds since 1970, late where it is not known.
    """

    places: tuple[Place, ...]
    tier: Tier
    why: str
    frees: int
    age: float


def in_order(units: Iterable[DropUnit]) -> list[DropUnit]:
    """Lowest tier first, then oldest, then by name: the order in which they go."""
    return sorted(units, key=lambda unit: (unit.tier, *_rank(unit)))


class DropChoice(Struct, frozen=True, kw_only=True):
    """What goes, in its order.

    `proven` is whether it is the best there is, to the byte; the numbers always are.

    Only single bytes on a volume of many files can leave that open.
    """

    units: list[DropUnit]
    proven: bool = True


def choose(units: Iterable[DropUnit], need: int) -> DropChoice | None:
    """Choose units that free at least `need` bytes; None where all together do not.

    >>> units = [
    ...     DropUnit(places=(Place("flash", name),), tier=tier, why="", frees=frees, age=0.0)
    ...     for name, tier, frees in (("a.dump", 1, 30), ("b.dump", 1, 50), ("old.img", 4, 90))
    ... ]
    >>> [unit.places[0].path for unit in choose(units, 40).units]
    ['b.dump']
    >>> [unit.places[0].path for unit in choose(units, 100).units]
    ['a.dump', 'old.img']
    >>> choose(units, 171) is None
    True
    """
    if need <= 0:
        return DropChoice(units=[])
    pool = in_order(units)
    if sum(unit.frees for unit in pool) < need:
        return None
    numbers = _numbers(pool, need)
    fixed, free = [], []
    for tier, number in numbers.items():
        of_tier = [unit for unit in pool if unit.tier == tier]
        if number == len(of_tier):
            fixed += of_tier
        elif number:
            free.append((number, of_tier))
    rest = need - sum(unit.frees for unit in fixed)
    picked, proven = _fewest_bytes(free, rest)
    return DropChoice(units=in_order([*fixed, *picked]), proven=proven)


def _numbers(pool: Sequence[DropUnit], need: int) -> dict[Tier, int]:
    """How many units of each tier go."""
    by_tier: dict[Tier, list[int]] = {}
    for unit in pool:
        by_tier.setdefault(unit.tier, []).append(unit.frees)
    below = sum(unit.frees for unit in pool)
    above, numbers = 0, {}
    for tier in sorted(by_tier, reverse=True):
        sizes = sorted(by_tier[tier], reverse=True)
        below -= sum(sizes)
        number = 0
        # Why the largest: the numbers are then the least that any choice can have, so they are
        # exact, although which units go is settled only later.
        while above + below < need:
            above += sizes[number]
            number += 1
        numbers[tier] = number
    return numbers


def _fewest_bytes(
    groups: list[tuple[int, list[DropUnit]]], need: int
) -> tuple[list[DropUnit], bool]:
    """So many of each group that the bytes are fewest, and of those the oldest first.

    The second value is whether that is proven.
    """
    if not groups:
        return [], True
    if len(groups) == 1 and groups[0][0] == 1:
        able = [unit for unit in groups[0][1] if unit.frees >= need]
        return [min(able, key=lambda unit: (unit.frees, *_rank(unit)))], True
    units = sorted((unit for _, group in groups for unit in group), key=_rank)
    tiers = [group[0].tier for _, group in groups]
    numbers = [number for number, _ in groups]
    kinds = [tiers.index(unit.tier) for unit in units]
    # What all sizes have in common is the step in which sums are counted, mostly the cluster.
    step = gcd(*(unit.frees for unit in units)) or 1
    sizes = [unit.frees // step for unit in units]
    least = max(0, -(-need // step))
    # Why an inexact choice first: its sum bounds the tables below, and so their memory.
    some = _exchanged(sizes, kinds, numbers, least)
    most = sum(sizes[at] for at in some)
    proven = True
    if len(units) * prod(number + 1 for number in numbers) * (most + 1) <= _MOST_BITS:
        picked = _by_sums(sizes, kinds, numbers, least, most)
    elif len(units) <= _MOST_HALVED:
        picked = _by_halves(sizes, kinds, numbers, least)
    else:
        picked, proven = some, most == least
    return [units[at] for at in picked], proven


def _rank(unit: DropUnit) -> tuple[float, str]:
    return unit.age, unit.places[0].path  # all are of one volume


def _exchanged(sizes: list[int], kinds: list[int], numbers: list[int], least: int) -> list[int]:
    """Some choice that is enough: the largest, each exchanged for smaller as long as that helps."""
    groups, total = [], 0
    for kind, number in enumerate(numbers):
        ours = sorted((size, at) for at, size in enumerate(sizes) if kinds[at] == kind)
        groups.append((ours[-number:], ours[:-number]))
        total += sum(size for size, _ in ours[-number:])
    better = True
    while better:
        better = False
        for chosen, others in groups:
            for place, (size, at) in reversed(list(enumerate(chosen))):
                found = bisect_left(others, (size - (total - least), -1))
                if found < len(others) and others[found][0] < size:
                    chosen[place] = others.pop(found)
                    insort(others, (size, at))
                    total += chosen[place][0] - size
                    better = True
    return [at for chosen, _ in groups for _, at in chosen]


class _Table(Struct, frozen=True):
    """What to choose, and how it is numbered: so many (`numbers`) of each kind of some units.

    A *state* is how many of each kind are taken, as one number with a digit a kind: `radix` says
    how many values each digit has, `stride` what one more of a kind adds. The sums of a state are
    bits of one number, counted from its `start`; there are `span` of them.
    """

    sizes: list[int]
    kinds: list[int]
    numbers: list[int]
    radix: list[int]
    stride: list[int]
    start: list[int]
    span: list[int]


def _by_sums(
    sizes: list[int], kinds: list[int], numbers: list[int], least: int, most: int
) -> list[int]:
    """Choose by the sums, from `least` to `most`, that so many of each kind can reach.

    Two units of kind 0 with 3 and 5 bytes and one of kind 1 with 4, one of each to be taken, and
    at least 8 bytes: 3 + 4 is too little, so it is 5 + 4.

    >>> _by_sums([3, 5, 4], [0, 0, 1], [1, 1], 8, 12)
    [1, 2]
    """
    radix = [number + 1 for number in numbers]
    stride = [prod(radix[:kind]) for kind in range(len(radix))]
    start, span = _windows(sizes, kinds, numbers, least, most)
    table = _Table(sizes, kinds, numbers, radix, stride, start, span)
    return _oldest(table, _reachable(table))


def _reachable(table: _Table) -> list[dict[int, int]]:
    """For each unit, in their order, the sums that each state can reach with it and those behind.

    It is worked out from the last unit to the first: a state has the sums that it had without the
    unit, and those of the state with one less of its kind, moved up by the unit's size. Of the
    example of `_by_sums`, where only sums from 8 to 12 count: behind the last unit there is but
    the state 0 (nothing taken), with the sum 0; with the 4 bytes of kind 1 there is also state 2
    (one of kind 1), with the sum 4; with the 5 bytes of kind 0 before it, state 3 (one of each)
    has the sum 9; the 3 bytes in front would add the sum 7, which is below the window.
    """
    kinds, numbers, stride, start = table.kinds, table.numbers, table.stride, table.start
    mask = [(1 << bits) - 1 for bits in table.span]
    reach = [{0: 1}]
    before = [kinds.count(kind) for kind in range(len(numbers))]
    left = [0] * len(numbers)
    for at in range(len(table.sizes) - 1, -1, -1):
        size, step = table.sizes[at], stride[kinds[at]]
        digits, after = table.radix[kinds[at]], reach[-1]
        before[kinds[at]] -= 1
        states = [0]
        left[kinds[at]] += 1
        for number, there, here, each in zip(numbers, before, left, stride, strict=True):
            fewest = number - there if number > there else 0  # what those before cannot bring
            most_of = number if number < here else here
            more = range(fewest * each, most_of * each + 1, each)
            states = [state + one for state in states for one in more]
        now = {}
        for state in states:
            sums = after.get(state, 0)
            taken = after.get(state - step) if state // step % digits else None
            if taken is not None:
                by = start[state - step] + size - start[state]
                sums |= taken << by if by >= 0 else taken >> -by
            if sums.bit_length() > table.span[state]:
                sums &= mask[state]
            if sums:
                now[state] = sums
        reach.append(now)
    reach.reverse()
    return reach


def _oldest(table: _Table, reach: list[dict[int, int]]) -> list[int]:
    """The units that make the least sum of the whole: each is taken as soon as it can be.

    Units come oldest first, so that this is the oldest choice.
    """
    start, stride = table.start, table.stride
    state = sum(number * step for number, step in zip(table.numbers, stride, strict=True))
    sums = reach[0][state]
    rest_of_sum = start[state] + (sums & -sums).bit_length() - 1
    picked = []
    for at, (size, kind) in enumerate(zip(table.sizes, table.kinds, strict=True)):
        if state // stride[kind] % table.radix[kind]:
            rest = state - stride[kind]
            bit = rest_of_sum - size - start[rest]
            if bit >= 0 and reach[at + 1].get(rest, 0) >> bit & 1:
                picked.append(at)
                state, rest_of_sum = rest, rest_of_sum - size
    return picked


def _windows(
    sizes: list[int], kinds: list[int], numbers: list[int], least: int, most: int
) -> tuple[list[int], list[int]]:
    """For each state the first sum from which `least` to `most` can be reached, and how many.

    What is left of each kind brings at least so many of its smallest, at most of its largest.
    """
    lowest, highest = [0], [0]
    for kind, number in enumerate(numbers):
        ours = sorted(size for size, one in zip(sizes, kinds, strict=True) if one == kind)
        small = list(accumulate(ours[:number], initial=0))[::-1]
        large = list(accumulate(ours[: -number - 1 : -1], initial=0))[::-1]
        # The digit of the first kind changes fastest.
        lowest = [low + more for more in small for low in lowest]
        highest = [high + more for more in large for high in highest]
    start = [max(0, least - high) for high in highest]
    return start, [max(0, most - low - first + 1) for low, first in zip(lowest, start, strict=True)]


def _by_halves(sizes: list[int], kinds: list[int], numbers: list[int], least: int) -> list[int]:
    """Put every part of the older half together with the best that the younger one has for it.

    A part is told by how many of each kind it has (one number with a digit a kind, as above), its
    sum, and which units it has as bits, the oldest highest: of two parts the one with the larger
    bits is the older. So of all choices with one sum, the largest bits are the oldest choice.
    """
    radix = [number + 1 for number in numbers]
    stride = [prod(radix[:kind]) for kind in range(len(radix))]
    wanted = sum(number * step for number, step in zip(numbers, stride, strict=True))
    middle = len(sizes) // 2
    older = _parts(sizes[:middle], kinds[:middle], radix, stride)
    younger = _parts(sizes[middle:], kinds[middle:], radix, stride)
    sums = {state: sorted(known) for state, known in younger.items()}
    best: int | None = None
    for state, known in older.items():
        there = sums.get(wanted - state, [])
        for ours in known:
            at = bisect_left(there, least - ours)
            if at < len(there) and (best is None or ours + there[at] < best):
                best = ours + there[at]
    assert best is not None, "the largest are enough"
    bits, rest = max(
        (bits, younger[wanted - state][best - ours])
        for state, known in older.items()
        for ours, bits in known.items()
        if best - ours in younger.get(wanted - state, ())
    )
    whole = bits << len(sizes) - middle | rest
    return [at for at in range(len(sizes)) if whole >> len(sizes) - 1 - at & 1]


def _parts(
    sizes: list[int], kinds: list[int], radix: list[int], stride: list[int]
) -> dict[int, dict[int, int]]:
    """Every part of a half: by how many of each kind, then by sum, the oldest bits."""
    parts: dict[int, dict[int, int]] = {0: {0: 0}}
    for number, (size, kind) in enumerate(zip(sizes, kinds, strict=True)):
        bit = 1 << len(sizes) - 1 - number
        grown = {state: dict(known) for state, known in parts.items()}
        for state, known in parts.items():
            if state // stride[kind] % radix[kind] == radix[kind] - 1:
                continue
            there = grown.setdefault(state + stride[kind], {})
            for total, bits in known.items():
                taken = bits | bit
                if taken > there.get(total + size, -1):
                    there[total + size] = taken
        parts = grown
    return parts

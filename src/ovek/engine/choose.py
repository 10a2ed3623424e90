"""The exact choice of what goes: which units free what is needed, at the least cost.

In this order: as few units as possible of the highest tier, then of the next lower, … down to
tier 1; then the fewest bytes freed beyond the need; then oldest first, then by name.

1. The numbers come from the highest tier down: so few that, with the largest of the tier and all
   of the lower tiers, the need is met. The largest settle it, so that these numbers are exact.
2. Where a tier goes whole or not at all, there is nothing left to choose of it. What is left is to
   pick so many of each tier that the bytes are as few as can be. That is worked out over every
   sum that can be reached, as a set of bits in units of what all sizes have in common (clusters).
3. Where those sums are too many to hold (single bytes on a large volume), HiGHS decides by branch
   and bound, and each of its answers is checked, and bettered until it cannot be, in whole numbers.
   Where that takes too many branches, the choice says that its bytes are not proven.
4. Of all choices with these numbers and these bytes, the one that is oldest first, then by name.
"""

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from itertools import accumulate
from math import gcd, prod

from msgspec import Struct

from ovek.model.place import Place
from ovek.model.plan import Tier

# How many bits all tables of reachable sums may have together.
_MOST_BITS = 4 * 10**8
# How many branches HiGHS may take for one choice: some seconds' worth, and the same every time.
_MOST_BRANCHES = 5_000
# What HiGHS says of its answer (scipy.optimize.milp): it is the best; there is none.
_BEST, _NONE = 0, 2


class Unit(Struct, frozen=True, kw_only=True, gc=False):
    """What goes or stays as one: a file, or a set with its own packages, the set file first.

    `frees` in bytes, whole clusters; `age` in seconds since 1970, late where it is not known.
    """

    places: tuple[Place, ...]
    tier: Tier
    why: str
    frees: int
    age: float


def in_order(units: Iterable[Unit]) -> list[Unit]:
    """Lowest tier first, then oldest, then by name: the order in which they go."""
    return sorted(units, key=lambda unit: (unit.tier, *_rank(unit)))


class Choice(Struct, frozen=True, kw_only=True):
    """What goes. `proven` is whether it is the best there is, to the byte; the numbers always are.

    Only single bytes on a volume of many files can leave that open.
    """

    units: list[Unit]
    proven: bool = True


def choose(units: Iterable[Unit], need: int) -> Choice | None:
    """Choose units that free at least `need` bytes; None where all together do not."""
    if need <= 0:
        return Choice(units=[])
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
    return Choice(units=in_order([*fixed, *picked]), proven=proven)


def _numbers(pool: Sequence[Unit], need: int) -> dict[Tier, int]:
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
        while above + below < need:
            above += sizes[number]
            number += 1
        numbers[tier] = number
    return numbers


def _fewest_bytes(groups: list[tuple[int, list[Unit]]], need: int) -> tuple[list[Unit], bool]:
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
    most = _some_sum(sizes, kinds, numbers, least)
    if len(units) * prod(number + 1 for number in numbers) * (most + 1) <= _MOST_BITS:
        picked, proven = _by_sums(sizes, kinds, numbers, least, most), True
    else:
        picked, proven = _by_highs(sizes, kinds, numbers, least)
    return [units[at] for at in picked], proven


def _rank(unit: Unit) -> tuple[float, str]:
    return unit.age, unit.places[0].path  # all are of one volume


def _some_sum(sizes: list[int], kinds: list[int], numbers: list[int], least: int) -> int:
    """A sum that some choice reaches and that is enough: the largest, exchanged for smaller."""
    total, groups = 0, []
    for kind, number in enumerate(numbers):
        ours = sorted(size for size, one in zip(sizes, kinds, strict=True) if one == kind)
        groups.append((ours[-number:], ours[:-number]))
        total += sum(ours[-number:])
    for chosen, others in groups:
        for size in reversed(chosen):
            at = bisect_left(others, size - (total - least))
            if at < len(others) and others[at] < size:
                total += others.pop(at) - size
    return total


def _by_sums(
    sizes: list[int], kinds: list[int], numbers: list[int], least: int, most: int
) -> list[int]:
    """Work over the sets of sums, from `least` to `most`, that so many of each kind can reach.

    A state is how many of each kind are taken of the units from the i-th on, as one number with a
    digit a kind. `reach[i][state]` holds their sums as bits, counted from the start of the state's
    window. Units come oldest first, so that taking one as soon as it can be taken gives the oldest
    choice.
    """
    radix = [number + 1 for number in numbers]
    stride = [prod(radix[:kind]) for kind in range(len(radix))]
    start, span = _windows(sizes, kinds, numbers, least, most)
    mask = [(1 << bits) - 1 for bits in span]
    reach = [{0: 1}]
    before = [kinds.count(kind) for kind in range(len(numbers))]
    left = [0] * len(numbers)
    for at in range(len(sizes) - 1, -1, -1):
        size, step = sizes[at], stride[kinds[at]]
        digits, after = radix[kinds[at]], reach[-1]
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
            if sums.bit_length() > span[state]:
                sums &= mask[state]
            if sums:
                now[state] = sums
        reach.append(now)
    reach.reverse()
    state = sum(number * step for number, step in zip(numbers, stride, strict=True))
    sums = reach[0][state]
    rest_of_sum = start[state] + (sums & -sums).bit_length() - 1
    picked = []
    for at, (size, kind) in enumerate(zip(sizes, kinds, strict=True)):
        if state // stride[kind] % radix[kind]:
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


def _by_highs(
    sizes: list[int], kinds: list[int], numbers: list[int], least: int
) -> tuple[list[int], bool]:
    """Let HiGHS choose; check and better each answer in whole numbers.

    The second value is whether the choice is proven to be the best: where that takes too many
    branches, it is the best that was found.
    """
    solver = _Solver(sizes, kinds, numbers)
    best = [
        at
        for kind, number in enumerate(numbers)
        for at in sorted(
            (at for at, one in enumerate(kinds) if one == kind), key=lambda at: -sizes[at]
        )[:number]
    ]
    while True:
        better = solver.solve({}, least, sum(sizes[at] for at in best) - 1)
        if better is None:
            break
        best = better
    exact = sum(sizes[at] for at in best)
    settled: dict[int, bool] = {}
    for at in range(len(sizes)):
        if at not in best:
            best = solver.solve({**settled, at: True}, exact, exact) or best
        settled[at] = at in best
    return best, not solver.gave_up


class _Solver:
    """Picks so many of each kind, some settled, with a sum in a range.

    All calls together may take so many branches; `gave_up` is whether that was too few for some.
    """

    def __init__(self, sizes: list[int], kinds: list[int], numbers: list[int]) -> None:
        self.sizes, self.kinds, self.numbers = sizes, kinds, numbers
        self.branches, self.gave_up = _MOST_BRANCHES, False

    def solve(self, settled: dict[int, bool], least: int, most: int) -> list[int] | None:
        """The pick of the least sum that is found; None where there is none, or none was found."""
        import numpy
        from scipy.optimize import Bounds, LinearConstraint, milp

        if self.gave_up or most < least:
            return None
        sizes, kinds, count = self.sizes, self.kinds, len(self.sizes)
        low, high = numpy.zeros(count), numpy.ones(count)
        for at, goes in settled.items():
            low[at] = high[at] = float(goes)
        each = [[float(kind == one) for kind in kinds] for one in range(len(self.numbers))]
        rows = numpy.array([*each, [float(size) for size in sizes]])
        answer = milp(
            numpy.array(sizes, dtype=float),
            integrality=numpy.ones(count),
            bounds=Bounds(low, high),
            constraints=LinearConstraint(rows, [*self.numbers, least], [*self.numbers, most]),
            options={"mip_rel_gap": 0.0, "node_limit": self.branches},
        )
        self.branches -= int(answer.get("mip_node_count") or 0)
        self.gave_up = answer.status not in (_BEST, _NONE) or self.branches <= 0
        if answer.x is None:
            return None
        picked = [at for at, value in enumerate(answer.x) if value > 0.5]
        counts = [sum(kinds[at] == kind for at in picked) for kind in range(len(self.numbers))]
        right = least <= sum(sizes[at] for at in picked) <= most and counts == self.numbers
        return picked if right else None

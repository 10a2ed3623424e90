"""Stretches are the same in whatever order readings are added, and as plain counting finds them."""

from hypothesis import given
from hypothesis import strategies as st

from ovek.model.stretches import Beside, Stretch, merged

READINGS = st.dictionaries(st.integers(1, 30), st.frozensets(st.sampled_from("abc")), max_size=9)


def counted(readings):
    """The stretches of readings (facts by time), found by looking at each fact alone."""
    times = sorted(readings)
    found = set()
    for fact in "abc":
        first = None
        for at, following in zip(times, [*times[1:], None], strict=True):
            if fact in readings[at]:
                first = at if first is None else first
                if following is None or fact not in readings[following]:
                    found.add(Stretch(fact, first, None if following is None else at))
                    first = None
    return found


@given(READINGS, st.randoms(), st.booleans())
def test_stretches_are_the_same_in_any_order(readings, chance, only_lasting):
    order = list(readings)
    chance.shuffle(order)
    kept, there = set(), []
    for at in order:
        before = max((one for one in there if one < at), default=None)
        behind = min((one for one in there if one > at), default=None)
        beside = Beside(at, before, behind, max(there, default=None))
        near = {one for one in kept if behind is not None or not only_lasting or one.last is None}
        gone, new = merged(near, readings[at], beside)
        assert set(gone) <= kept
        assert len(set(new)) == len(new)
        kept = (kept - set(gone)) | set(new)
        there.append(at)
        assert kept == counted({one: readings[one] for one in there})

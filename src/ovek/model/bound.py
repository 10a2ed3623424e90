"""Within which bounds of three times a result stays as it is.

The times are when the result was made, when the device was read, and what its clock said then.
"""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
STEP = timedelta(microseconds=1)


class Bound(NamedTuple):
    """A sum of the three times, each so many times over, that has to stay within bounds.

    `least` and `most` are in microseconds, of times since 1970; None is no bound.
    """

    now: int
    read: int
    clock: int
    least: int | None
    most: int | None


def holds(bounds: Iterable[Bound], now: datetime, read: datetime, clock: datetime) -> bool:
    """Whether what stays within these bounds is the same at other times."""
    n, r, c = (now - EPOCH) // STEP, (read - EPOCH) // STEP, (clock - EPOCH) // STEP
    for many_n, many_r, many_c, least, most in bounds:
        value = many_n * n + many_r * r + many_c * c
        if (least is not None and value < least) or (most is not None and value > most):
            return False
    return True

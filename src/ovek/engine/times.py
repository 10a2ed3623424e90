"""The times that an audit goes by, and within which bounds of them it says the same.

An audit rests on three times that go on from night to night: when it is made, when the device was
read, and what its own clock said then. All that a rule asks of them is a span between two of them,
or between one and a date that the snapshot tells; what it does with a span is to hold it against
another, or to show it. Each such question is written down as bounds within which its answer stays.

>>> from datetime import UTC
>>> from ovek.model.bound import holds
>>> at = datetime(2030, 4, 9, tzinfo=UTC)
>>> times = Times(now=at, read=at, clock=at)
>>> age = times.now - datetime(2030, 4, 1, 6, tzinfo=UTC)
>>> age > timedelta(days=7), age.shown()
(True, '7 days')
>>> later = at + timedelta(hours=5)
>>> holds(times.bounds, later, later, later), holds(times.bounds, at + timedelta(hours=6), at, at)
(True, False)
"""

from collections.abc import Iterable
from datetime import date, datetime, timedelta

from ovek.model.age import show_age
from ovek.model.bound import EPOCH, STEP, Bound
from ovek.model.snapshot import Device

_HOUR = 3_600_000_000


class Times:
    """When an audit is made, when its device was read, and what the device's clock said then.

    `clock` of a device that tells none is when it was read.
    """

    def __init__(self, now: datetime, read: datetime, clock: datetime) -> None:
        self.values = (_number(now), _number(read), _number(clock))
        self._bounds: dict[tuple[int, int, int], tuple[int | None, int | None]] = {}
        self.now, self.read, self.clock = (
            TimeSpan(self, of, 0) for of in ((1, 0, 0), (0, 1, 0), (0, 0, 1))
        )

    @property
    def bounds(self) -> tuple[Bound, ...]:
        """The bounds within which all that was asked has the same answer."""
        return tuple(Bound(*of, *within) for of, within in self._bounds.items())

    def value(self, of: tuple[int, int, int]) -> int:
        """What a sum of the times comes to, in microseconds."""
        n, r, c = of
        now, read, clock = self.values
        return n * now + r * read + c * clock

    def stay(self, of: tuple[int, int, int], least: int | None, most: int | None) -> None:
        """Write down bounds of a sum of the times, beside those it has."""
        if not any(of):
            return
        low, high = self._bounds.get(of, (None, None))
        low = least if low is None else low if least is None else max(low, least)
        high = most if high is None else high if most is None else min(high, most)
        self._bounds[of] = low, high


class TimeSpan:
    """A time, or the span between two: a sum of the three times, and what does not move."""

    def __init__(self, times: Times, of: tuple[int, int, int], fixed: int) -> None:
        self._times, self._of, self._fixed = times, of, fixed

    def __sub__(self, other: "TimeSpan | datetime | timedelta") -> "TimeSpan":
        if isinstance(other, TimeSpan):
            (n, r, c), (less_n, less_r, less_c) = self._of, other._of
            of = n - less_n, r - less_r, c - less_c
            return TimeSpan(self._times, of, self._fixed - other._fixed)
        return TimeSpan(self._times, self._of, self._fixed - _number(other))

    def __abs__(self) -> "TimeSpan":
        if self >= timedelta(0):
            return self
        n, r, c = self._of
        return TimeSpan(self._times, (-n, -r, -c), -self._fixed)

    # Why a comparison writes down bounds: a kept result is right only as long as each comparison
    # that it rests on comes out the same, and only the comparison knows until when that is.
    def __ge__(self, other: "TimeSpan | datetime | timedelta") -> bool:
        rest = self - other
        value = rest._value
        if value >= 0:
            rest._stays(0, None)
            return True
        rest._stays(None, -1)
        return False

    def __lt__(self, other: "TimeSpan | datetime | timedelta") -> bool:
        return not self >= other

    def __gt__(self, other: "TimeSpan | datetime | timedelta") -> bool:
        return not self <= other

    def __le__(self, other: "TimeSpan | datetime | timedelta") -> bool:
        rest = self - other
        if rest._value > 0:
            rest._stays(1, None)
            return False
        rest._stays(None, 0)
        return True

    def splits(self, dates: Iterable[datetime]) -> None:
        """Some dates are before this time and some are not: write down that each stays so."""
        numbers = [_number(date) for date in dates]
        value = self._value
        before = max((each for each in numbers if each < value), default=None)
        after = min((each for each in numbers if each >= value), default=None)
        self._stays(None if before is None else before + 1, after)

    def shown(self) -> str:
        """The span as `show_age` shows it: in whole days, or hours below two days."""
        hours = self._value // _HOUR
        least, most = hours, hours + 1
        if hours >= 48:
            least = hours // 24 * 24
            most = least + 24
        self._stays(least * _HOUR, most * _HOUR - 1)
        return show_age(self._value * STEP)

    def minute(self) -> str:
        """The time to the minute, as in `2030-04-09 06:00`."""
        minute = _HOUR // 60
        least = self._value // minute * minute
        self._stays(least, least + minute - 1)
        return f"{EPOCH + least * STEP:%Y-%m-%d %H:%M}"

    def day(self) -> date:
        """The day that the time is of, UTC."""
        day = 24 * _HOUR
        least = self._value // day * day
        self._stays(least, least + day - 1)
        return (EPOCH + least * STEP).date()

    @property
    def _value(self) -> int:
        return self._times.value(self._of) + self._fixed

    def _stays(self, least: int | None, most: int | None) -> None:
        """What this comes to stays within these bounds."""
        fixed = self._fixed
        self._times.stay(
            self._of,
            None if least is None else least - fixed,
            None if most is None else most - fixed,
        )


def _number(fixed: datetime | timedelta) -> int:
    span = fixed if isinstance(fixed, timedelta) else fixed - EPOCH
    return (span.days * 86_400 + span.seconds) * 1_000_000 + span.microseconds


def proof_is_old(
    times: Times | None, read_at: datetime, most: timedelta, oldest_snapshot: timedelta
) -> bool:
    """Whether a digest was read longer ago than policy wants; `most` whole days and one are let be.

    That the device as a whole was read long ago is told once, by a rule of its own.
    """
    if times is None:
        return False
    over = timedelta(days=most.days + 1)
    read_long_ago = times.now - times.read > oldest_snapshot
    return times.now - read_at >= over and (not read_long_ago or times.read - read_at >= over)


def times_of(device: Device, now: datetime) -> Times:
    """The times of a device that is looked at now."""
    return Times(now, device.taken_at, device.now)

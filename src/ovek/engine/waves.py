"""A fleet's reloads in waves.

1. What needs no reload may be done before any window; a wave is from a device's first reload on.
2. Each device goes by the narrowest window of policy that is for it: by name, else by place.
   One that has none, where policy has windows, fits into no wave; nor does one that takes longer
   than its window is. That is told, not squeezed in.
3. Canaries first. In a wave all go by one window, no two are to be kept apart, and there are not
   more than may be down at once.
4. Waves are one after another: each begins once the one before it runs what is wanted, proven; in
   the same night where the window has the time left, but behind canaries in the next one.
"""

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from fnmatch import fnmatchcase

from msgspec import Struct

from ovek.model.policy import DAYS, Policy, Window
from ovek.model.runbook import ANY_TIME, Misfit, Runbook, RunbookStep, Wave, Waves


class _Going(Struct, frozen=True):
    """A device that has to reload: when it may, and how long it is down and worked on."""

    book: Runbook
    window: Window | None
    minutes: int
    untimed: bool
    canary: bool


def waves(books: Sequence[Runbook], policy: Policy, now: datetime) -> Waves:
    """Put the devices of some runbooks into waves; `now` is by the clock of the place."""
    misfits, going = list[Misfit](), list[_Going]()
    for book in books:
        if book.reloads:
            one = _going(book, policy)
            why = _misfit(one, policy)
            if why:
                misfits.append(Misfit(device=book.device, why=why))
            else:
                going.append(one)
    found, begins = list[Wave](), now
    for group in _groups(going, policy):
        wave = _wave(found[-1] if found else None, group, begins)
        if wave.begins is not None:
            # What the canaries show is seen by day: the others wait for the next window. So do
            # they where nobody knows how long a wave takes.
            taken = wave.length if wave.group == "canaries" or wave.untimed else None
            begins = wave.begins + timedelta(minutes=taken or max(wave.minutes, 1))
        found.append(wave)
    return Waves(waves=tuple(found), misfits=tuple(misfits))


def _going(book: Runbook, policy: Policy) -> _Going:
    steps = list(_in_the_window(book.steps))
    minutes = sum(step.do.minutes or 0 for step in steps)
    windows = _windows(book, policy)
    able = [each for each in windows if each.length is None or each.length >= minutes]
    return _Going(
        book=book,
        window=next(iter(able or windows), None),
        minutes=minutes,
        untimed=any(step.do.minutes is None for step in steps),
        canary=any(fnmatchcase(book.device, glob) for glob in policy.canaries),
    )


def _in_the_window(steps: Sequence[RunbookStep]) -> Iterator[RunbookStep]:
    """The changes from the first reload to the last."""
    at = [number for number, step in enumerate(steps) if step.do.change == "reload"]
    return iter(steps[at[0] : at[-1] + 1]) if at else iter(())


def _windows(book: Runbook, policy: Policy) -> list[Window]:
    """The windows that a device goes by: by its name before its place, exact before globs."""
    named = [(each.device, each) for each in policy.reload_in if each.device]
    placed = [(each.site, each) for each in policy.reload_in if each.site]
    for name, ours in ((book.device, named), (book.site or "", placed)):
        exact = [each for glob, each in ours if glob == name]
        fitting = exact or [each for glob, each in ours if fnmatchcase(name, glob)]
        if fitting:
            return fitting
    return []


def _misfit(one: _Going, policy: Policy) -> str:
    """Why a device fits into no wave; empty where it does."""
    if one.window is None:
        place = f" ({one.book.site})" if one.book.site else ""
        return f"policy.toml has no reload_in window for it{place}" if policy.reload_in else ""
    length = one.window.length
    if length is not None and one.minutes > length:
        return (
            f"it needs {one.minutes} min from its first reload, but {one.window.shown} has {length}"
        )
    return ""


def _groups(going: Sequence[_Going], policy: Policy) -> Iterator[list[_Going]]:
    """Who goes together, canaries first, then by window, in the order of the devices."""
    for canary in (True, False):
        windows = dict.fromkeys(one.window for one in going if one.canary is canary)
        for window in windows:
            left = [one for one in going if one.canary is canary and one.window == window]
            while left:
                group = list[_Going]()
                for one in left:
                    full = policy.at_once is not None and len(group) >= policy.at_once
                    if not full and not any(_apart(one, other, policy) for other in group):
                        group.append(one)
                left = [one for one in left if one not in group]
                yield group


def _apart(one: _Going, other: _Going, policy: Policy) -> bool:
    """Whether two devices must not go down together."""
    names = one.book.device, other.book.device
    return any(
        all(any(fnmatchcase(name, glob) for glob in globs) for name in names)
        for globs in policy.apart
    )


def _wave(last: Wave | None, group: Sequence[_Going], after: datetime) -> Wave:
    first, minutes = group[0], max(one.minutes for one in group)
    number, before = 1, "none: it is the first wave"
    if last is not None:
        number = last.number + 1
        before = f"every member of every device of wave {last.number} runs its target, proven"
        before += f"; {last.no_date}" if last.no_date else ""
    begins = None if first.window is None else next_time(first.window, after, minutes)
    into = 0
    if begins is not None and first.window is not None:
        into = (60 * begins.hour + begins.minute - first.window.start) % 1440
    return Wave(
        number=number,
        group="canaries" if first.canary else "rest",
        window=ANY_TIME if first.window is None else first.window.shown,
        devices=tuple(one.book.device for one in group),
        minutes=minutes,
        untimed=any(one.untimed for one in group),
        length=None if first.window is None else first.window.length,
        begins=begins,
        into=into,
        before=before,
        danger=tuple(one.book.device for one in group if one.book.danger),
    )


def next_time(window: Window, after: datetime, minutes: int = 0) -> datetime | None:
    """The first time after a moment at which so many minutes of a window are left.

    None where only people can tell when the window is.

    >>> saturdays = Window(site="*", days="sat", from_="01:00", to="04:00")
    >>> next_time(saturdays, datetime(2026, 11, 26, 12, 0)).isoformat()
    '2026-11-28T01:00:00'
    >>> next_time(saturdays, datetime(2026, 11, 28, 2, 0), 90).isoformat()
    '2026-11-28T02:00:00'
    """
    if window.length is None:
        return None
    day = after.replace(hour=0, minute=0, second=0, microsecond=0)
    for ahead in range(-1, 9):  # yesterday's may last past midnight
        begins = day + timedelta(days=ahead, minutes=window.start)
        named = DAYS[(day + timedelta(days=ahead)).weekday()] in window.weekdays
        ends, when = begins + timedelta(minutes=window.length), max(begins, after)
        if named and when < ends and when + timedelta(minutes=minutes) <= ends:
            return when
    return None

"""Ages: how old a thing may be, as `36h`, `7d` or `2w`.

>>> parse_age("2w").days
14
"""

import re
from datetime import timedelta

_AGE = re.compile(r"\s*(?P<number>\d{1,5})\s*(?P<unit>[hdw])\s*", re.ASCII)
_UNITS = {"h": timedelta(hours=1), "d": timedelta(days=1), "w": timedelta(weeks=1)}


class AgeError(ValueError):
    """A text that is no age."""


def parse_age(text: str) -> timedelta:
    """Read an age in hours, days or weeks; raise AgeError."""
    match = _AGE.fullmatch(text)
    if match is None:
        raise AgeError(f"{text!r} is not a valid age; use hours, days or weeks: 36h, 7d, 2w")
    return int(match["number"]) * _UNITS[match["unit"]]


def show_age(age: timedelta) -> str:
    """Show an age in whole days, or hours below two days.

    >>> show_age(timedelta(days=9, hours=5)), show_age(timedelta(hours=5))
    ('9 days', '5 hours')
    """
    hours = int(age.total_seconds() // 3600)
    if hours < 48:
        return f"{hours} hour" + ("" if hours == 1 else "s")
    return f"{hours // 24} days"


def show_minutes(minutes: int) -> str:
    """Show a length of time in minutes, from an hour up in hours.

    >>> show_minutes(0), show_minutes(25), show_minutes(60), show_minutes(135)
    ('under 1 min', '25 min', '1 h', '2 h 15 min')
    """
    if minutes == 0:
        return "under 1 min"
    hours, rest = divmod(minutes, 60)
    told = [f"{hours} h"] if hours else []
    told += [f"{rest} min"] if rest else []
    return " ".join(told)

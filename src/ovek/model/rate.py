"""Rates of a link: `2 Mbit/s` in files, bytes a second in data.

>>> parse_rate("2 Mbit/s"), parse_rate("512 kbit/s"), parse_rate("1.5MB/s")
(250000, 64000, 1500000)
"""

import re

_RATE = re.compile(
    r"\s*(?P<number>\d{1,9}(?:\.\d{1,6})?)\s*(?P<scale>[kKMG]?)(?P<unit>bit|B)/s\s*", re.ASCII
)
_SCALES = {"": 1, "K": 10**3, "M": 10**6, "G": 10**9}


class RateError(ValueError):
    """A text that is no rate, or one of nothing."""


def parse_rate(text: str) -> int:
    """Read a rate into whole bytes a second, rounded down; raise RateError."""
    match = _RATE.fullmatch(text)
    if match is None:
        raise RateError(f"{text!r} is not a valid rate; use e.g. 2 Mbit/s or 500 kB/s")
    amount = float(match["number"]) * _SCALES[match["scale"].upper()]
    rate = int(amount / 8 if match["unit"] == "bit" else amount)
    if rate < 1:
        raise RateError(f"{text!r} is too low; use a rate above that")
    return rate

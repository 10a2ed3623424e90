"""What is wanted of a network's devices: `ovek.policy/1`."""

import re
from functools import lru_cache
from typing import Annotated, Literal

from msgspec import Meta, Struct

from ovek.model.size import SizeError, parse_size

FORMAT = "ovek.policy/1"
_PERCENT = re.compile(r"(\d{1,3}(?:\.\d{1,3})?)\s*%", re.ASCII)


class Policy(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The policy of a site; every part has a default that is useful by itself.

    `keep` is how many system images stay on each member. `reserve` is the free space that a
    volume keeps, as a size or a percentage of its capacity. `pinned` globs are never offered.
    """

    format: Literal["ovek.policy/1"] = "ovek.policy/1"
    keep: Annotated[int, Meta(ge=1, le=100)] = 2
    reserve: str = "5%"
    pinned: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        self.reserve_of(0)

    def reserve_of(self, capacity: int | None) -> int | None:
        """The reserve in bytes on a volume of `capacity` bytes; None where that is not known."""
        size, share = _reserve(self.reserve)
        if size is not None:
            return size
        return None if capacity is None else int(capacity * share)


@lru_cache(maxsize=64)
def _reserve(text: str) -> tuple[int | None, float]:
    """Read a reserve: bytes, or else a share of the capacity from 0 to 1."""
    match = _PERCENT.fullmatch(text.strip())
    if match is None:
        try:
            return parse_size(text), 0.0
        except SizeError:
            met = f"reserve is {text!r}; write a size (64MiB) or a percentage (5%)"
            raise ValueError(met) from None
    if float(match[1]) > 100:
        raise ValueError(f"reserve is {text!r}; a percentage is at most 100%")
    return None, float(match[1]) / 100

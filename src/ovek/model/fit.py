"""Whether a release may be brought to a member, condition by condition, and the way to one."""

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from ovek.model.verdict import KnownRelease

# What a release is, and what it takes to install it from where a member stands.
Of = Literal[
    "status", "track", "hardware", "revision", "variant", "memory", "volume", "from", "components"
]
REACHING: frozenset[Of] = frozenset({"from", "components"})


class FitCondition(Struct, frozen=True, kw_only=True):
    """One condition: what it is about, whether it holds (None: not known), and what was seen."""

    of: Of
    holds: bool | None
    seen: str


class Fit(Struct, frozen=True, kw_only=True):
    """A release held against a member (or all members of a device)."""

    release: KnownRelease
    conditions: tuple[FitCondition, ...]

    @property
    def holds(self) -> bool | None:
        """Whether every condition holds; None where that is not known."""
        return _all(each.holds for each in self.conditions)

    @property
    def is_for(self) -> bool | None:
        """Whether it is a release for the member, however it is reached from what runs."""
        return _all(each.holds for each in self.conditions if each.of not in REACHING)

    @property
    def against(self) -> tuple[str, ...]:
        """What was seen of every condition that does not surely hold, the surest first."""
        failing = [each.seen for each in self.conditions if each.holds is False]
        return (*failing, *(each.seen for each in self.conditions if each.holds is None))


def _all(answers: Iterable[bool | None]) -> bool | None:
    found = set(answers)
    return False if False in found else None if None in found else True


class Install(Struct, frozen=True, kw_only=True):
    """One install of a route: an image, or firmware of components that the next one needs."""

    release: KnownRelease
    loads: Literal["image", "component"]


class Route(Struct, frozen=True, kw_only=True):
    """The installs in order from what runs to what is wanted; `hops` None: there is no way.

    `known` is whether that is sure; `missing` says which condition stands in the way, or is not
    known. `hardware` and `variant` are what it holds for; `also` are those of other
    hardware and variants, where it was asked for by versions alone.
    """

    start: str | None
    target: str
    hops: tuple[Install, ...] | None
    known: bool = True
    missing: str | None = None
    hardware: tuple[str, ...] = ()
    variant: str | None = None
    also: tuple["Route", ...] = ()

    @property
    def steps(self) -> tuple[KnownRelease, ...] | None:
        """The files in order; None where there is no way, or it is not known."""
        return None if self.hops is None else tuple(hop.release for hop in self.hops)

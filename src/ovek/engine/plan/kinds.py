"""The kinds of differences between a device and its aim, in canonical order."""

from typing import Literal, get_args

from msgspec import Struct

from ovek.engine.plan.aim import Leg
from ovek.model.change import Change
from ovek.model.place import Place
from ovek.model.snapshot import Component
from ovek.model.verdict import KnownRelease

Kind = Literal[
    "at-loader",
    "backup",
    "unsaved",
    "unsafe",
    "image",
    "digest",
    "component",
    "settings",
    "reload",
    "commit",
    "other-bank",
    "fallback",
    "broken",
    "unread",
    "old-proof",
    "reserve",
]

# The canonical order.
ORDER: tuple[Kind, ...] = get_args(Kind)


class Difference(Struct, frozen=True):
    """One thing that is not as it should be: of a member, and where; None: of the device."""

    kind: Kind
    member: str | None = None
    place: Place | None = None
    component: Component | None = None
    release: KnownRelease | None = None


class Legs(Struct, frozen=True, kw_only=True):
    """What each member is to boot next, in the order of the members."""

    of: tuple[Leg, ...]

    def member(self, name: str) -> Leg:
        """The leg of one member."""
        return next(leg for leg in self.of if leg.member == name)


Changes = tuple[Change, ...]

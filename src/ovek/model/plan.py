"""A cleanup plan: what goes, what stays and why (`ovek.cleanup/1`)."""

from typing import Literal

from msgspec import Struct

from ovek.model.sheet import Role
from ovek.model.walk import Reload

Tier = Literal[1, 2, 3, 4, 5, 6]
Unlock = Literal["fallback", "running"]

TIERS: dict[Tier, str] = {
    1: "a leftover that nothing refers to",
    2: "a second copy of a file that stays",
    3: "an old image that the shelf holds, proven",
    4: "an old image not known to be anywhere else: back it up first",
    5: "the kept fallback",
    6: "the running image, which lives in memory until the reload",
}


class Drop(Struct, frozen=True, kw_only=True):
    """One file or set that goes; `frees` is in bytes, whole clusters."""

    place: str
    frees: int
    tier: Tier
    why: str
    role: Role
    files: tuple[str, ...]


class Keep(Struct, frozen=True, kw_only=True):
    """One file that stays. `tier` is set where it might go and the plan does not need it to."""

    place: str
    why: tuple[str, ...]
    role: Role
    size: int | None
    tier: Tier | None = None


class Locked(Struct, frozen=True, kw_only=True):
    """What unlocking one more tier would add, in bytes, and whether it would be enough."""

    tier: Tier
    adds: int
    enough: bool
    places: tuple[str, ...]


class CleanupPlan(Struct, frozen=True, kw_only=True):
    """The plan for one volume of one member. Sizes in bytes; None is not known.

    `bank` names the bank to write to instead, in layouts that have banks. `note` says what the
    plan rests on, or why there is none.
    """

    device: str
    member: str
    volume: str | None
    free: int | None
    wanted: int
    enough: bool
    free_after: int | None
    short_by: int | None
    reload_before: Reload
    reload_after: Reload
    drop: tuple[Drop, ...] = ()
    keep: tuple[Keep, ...] = ()
    locked: tuple[Locked, ...] = ()
    bank: str | None = None
    note: str = ""

"""A cleanup plan: what goes, what stays and why, step by step (`ovek.cleanup/1`)."""

from typing import Literal

from msgspec import Struct

from ovek.model.ofdevice import OfDevice
from ovek.model.runbook import RunbookStep
from ovek.model.sheet import Role
from ovek.model.verdict import KnownRelease, Verdict
from ovek.model.walk import NextBoot

Tier = Literal[1, 2, 3, 4, 5, 6]
Unlock = Literal["fallback", "running"]

TIERS: dict[Tier, str] = {
    1: "a leftover that no setting uses",
    2: "a second copy of a file that is kept",
    3: "an old image with a proven copy on the shelf",
    4: "an old image with no known copy elsewhere: back it up first",
    5: "the kept fallback",
    6: "the running image (after deletion it exists only in memory)",
}
LOCKED: dict[Tier, Unlock] = {5: "fallback", 6: "running"}


class Room(Struct, frozen=True, kw_only=True):
    """How much room is asked for: exactly one of these.

    `free` in bytes; `share` of the volume's capacity, 0 to 1; `release` to make room for; `sweep`
    is everything up to that tier.
    """

    free: int | None = None
    share: float | None = None
    release: KnownRelease | None = None
    sweep: Tier | None = None


class Drop(Struct, frozen=True, kw_only=True):
    """One file or set that goes; `frees` is in bytes, whole clusters."""

    place: str
    frees: int
    tier: Tier
    why: str
    role: Role
    files: tuple[str, ...]


# Why a file is kept, of the two reasons that others ask for.
RUNNING, NEXT_BOOT = "running", "next boot"


class Keep(Struct, frozen=True, kw_only=True):
    """One file that stays. `tier` is set where it might go and the plan does not need it to."""

    place: str
    why: tuple[str, ...]
    role: Role
    size: int | None
    tier: Tier | None = None


class Locked(Struct, frozen=True, kw_only=True):
    """What unlocking one more tier would add, in bytes.

    `alone` is whether that would be enough by itself, `enough` whether it would with the locked
    tiers below it.
    """

    tier: Tier
    adds: int
    alone: bool
    enough: bool
    places: tuple[str, ...]


class Need(Struct, frozen=True, kw_only=True):
    """What the room for an image is made of, in bytes.

    `image` is what the image takes beside what it is copied over; 0 where it is `there` already.
    `unpacked` is what it unpacks to, `installing` what the device takes meanwhile, `reserve` what
    policy keeps free (None: the capacity is not known, so that a share of it is not either).
    """

    file: str
    there: bool
    image: int
    unpacked: int = 0
    installing: int = 0
    reserve: int | None = 0

    @property
    def wanted(self) -> int:
        """All of it together."""
        return self.image + self.unpacked + self.installing + (self.reserve or 0)


class Lost(Struct, frozen=True, kw_only=True):
    """What is lost by writing to a bank. `elsewhere` is whether the same image is known to be.

    `state` is set where the bank holds no image.
    """

    version: str | None = None
    verdict: Verdict | None = None
    state: str | None = None
    elsewhere: bool = False


class CleanupPlan(OfDevice, frozen=True, kw_only=True):
    """The plan for one volume of one member. Sizes in bytes; None is not known.

    `boots_before` and `boots_after` are what the member starts next, now and after the plan.
    `bank` names the bank to write to, in layouts that have banks, `bank_why` says why, and `lost`
    what that overwrites. `made_of` says what `wanted` is made of, `note` what else there is to know
    of the plan, or why there is none. `there` is whether that bank holds the image already, so that
    it only has to be started. `refused` is whether a plan would harm, and so is none. `fits` is
    whether the image fits where only the reserve does not. `steps` are those of the device's plan
    up to the copy, `danger` which of them, counted from 1, a power failure must not meet;
    `barred` is why the plan of the device has none. `alternatives` are other ways to make space,
    if it is not enough.
    `stop` says what comes between here and the wanted release, or what speaks against
    the one that was asked for.
    """

    member: str
    volume: str | None
    free: int | None
    wanted: int
    enough: bool
    free_after: int | None
    short_by: int | None
    next_boot_before: NextBoot
    next_boot_after: NextBoot
    boots_before: str | None = None
    boots_after: str | None = None
    capacity: int | None = None
    drop: tuple[Drop, ...] = ()
    keep: tuple[Keep, ...] = ()
    locked: tuple[Locked, ...] = ()
    bank: str | None = None
    bank_why: str = ""
    there: bool = False
    lost: Lost | None = None
    made_of: Need | None = None
    fits: bool = False
    refused: bool = False
    note: str = ""
    steps: tuple[RunbookStep, ...] = ()
    danger: tuple[int, ...] = ()
    barred: tuple[str, ...] = ()
    alternatives: tuple[str, ...] = ()
    stop: str = ""

    @property
    def holds(self) -> bool:
        """Whether the image that room is made for is there already."""
        return self.there or (self.made_of is not None and self.made_of.there)


class Confirmed(Struct, frozen=True, kw_only=True):
    """A plan held against a later snapshot: places that went, that are still there, and that went
    though the plan keeps them. `free` in bytes; `next_boot` the verdict now.
    """

    device: str
    member: str
    volume: str | None
    done: tuple[str, ...]
    not_done: tuple[str, ...]
    too_much: tuple[str, ...]
    free: int | None
    wanted: int
    enough: bool | None
    next_boot: NextBoot


class CleanupTotals(Struct, kw_only=True):
    """A fleet's plans in numbers: `after` counts by the highest tier that has to go.

    `done` are those where the image is there already, whatever else there is to say of them.
    `short_by` is in bytes, of all that are not enough; `no_plan` lack a fact.
    """

    plans: int = 0
    done: int = 0
    fit: int = 0
    after: dict[str, int] = {}
    short: int = 0
    short_by: int = 0
    no_plan: int = 0
    frees: int = 0

    def add(self, plan: CleanupPlan) -> None:
        """Count one plan in."""
        self.plans += 1
        if plan.holds:
            self.done += 1
            return
        self.frees += sum(drop.frees for drop in plan.drop) if plan.enough else 0
        if plan.enough and not plan.drop:
            self.fit += 1
        elif plan.enough:
            tier = str(max(drop.tier for drop in plan.drop))
            self.after[tier] = self.after.get(tier, 0) + 1
        elif plan.short_by is None:
            self.no_plan += 1
        else:
            self.short += 1
            self.short_by += plan.short_by

    def join(self, other: "CleanupTotals") -> None:
        """Count in what other totals counted."""
        for tier, number in other.after.items():
            self.after[tier] = self.after.get(tier, 0) + number
        for name in ("plans", "done", "fit", "short", "short_by", "no_plan", "frees"):
            setattr(self, name, getattr(self, name) + getattr(other, name))

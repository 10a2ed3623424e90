"""The few choices of a plan, enumerated: where an image goes, what goes for it, where it is from.

1. Where it goes, the layout says; of several places the one for which least is given up, by the
   highest tier, then the one that leaves the reserve, then as the layout orders them.
2. What goes there, the exact chooser says, of what nothing protects. Where the image fits and only
   the reserve does not, that counts for enough: the reserve unlocks nothing.
3. Locked tiers count only where a person unlocked them by name.
"""

from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.changes import taken
from ovek.engine.choose import DropChoice, DropUnit, choose, in_order
from ovek.engine.hold import HeldFile, HoldKind, Holds, Wishes
from ovek.engine.layouts import layout_named, layout_of
from ovek.engine.layouts.paired import COMMITTED
from ovek.engine.layouts.writing import Spot, Unwritable, Writing
from ovek.engine.room import need_of, no_room_to_plan
from ovek.engine.runs import Runs
from ovek.engine.tier import Tiers
from ovek.engine.units import cluster_of, units_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember, find_file
from ovek.model.place import Place
from ovek.model.plan import LOCKED, Need, Room, Unlock
from ovek.model.policy import BankRule, Policy
from ovek.model.snapshot import Volume
from ovek.model.verdict import KnownRelease
from ovek.model.walk import DeviceWalk, MemberWalk

# How much is worked out: the numbers and what goes, or every file that stays, too.
Detail = Literal["numbers", "files"]
# What a person wants to stay as it is.
_BY_A_PERSON: frozenset[HoldKind] = frozenset({"pinned", "kept-by-name"})
# What holds a file of a bank and is no reason not to write to that bank: the layout sees to it.
_BANKS_OWN: frozenset[HoldKind] = frozenset({"bank", "running", "starts-next", "kept-fallback"})


class SpaceAsked(Struct, frozen=True, kw_only=True):
    """All that a choice of files rests on, besides the device.

    `shelf` holds the digests of the images that the shelf holds, proven; `keep` are globs of files
    that a person keeps; `bank_rule` is what policy wants of a second bank. `sizes` are the bytes of
    what the shelf proves, by digest.
    """

    policy: Policy
    room: Room
    shelf: frozenset[str] = frozenset()
    unlocked: frozenset[Unlock] = frozenset()
    keep: tuple[str, ...] = ()
    bank_rule: BankRule | None = None
    detail: Detail = "files"
    sizes: Mapping[str, int] = {}


class Case(Struct, frozen=True, kw_only=True):
    """One member that is chosen for, with all that is known of its device."""

    judged: JudgedDevice
    one: JudgedMember
    walk: DeviceWalk
    running: tuple[Runs, ...]
    holds: Callable[[], Holds]
    asked: SpaceAsked

    @property
    def member_walk(self) -> MemberWalk:
        """The walk of the member."""
        return self.walk.member(self.one.member.id)


class Goal(Struct, frozen=True, kw_only=True):
    """The free bytes that are wanted on a volume: for an image at a spot, or by themselves.

    `wanted` is None where everything up to a tier goes.
    """

    wanted: int | None
    need: Need | None = None
    spot: Spot | None = None

    @property
    def replaced(self) -> frozenset[Place]:
        """The files of the bank that is written to, which go first."""
        return frozenset(self.spot.replaces if self.spot is not None else ())


class Chosen(Struct, frozen=True, kw_only=True):
    """What was chosen for one member: the units that go, and where the image goes, if any.

    `told` are the files of the member, `units` those that might go. `enough` is whether the wanted
    bytes are free then, `fits` whether only the reserve is not.
    """

    one: JudgedMember
    volume: Volume | None
    goal: Goal
    going: Sequence[DropUnit] = ()
    told: Sequence[HeldFile] = ()
    units: Sequence[DropUnit] = ()
    enough: bool = True
    fits: bool = False
    proven: bool = True

    @property
    def spot(self) -> Spot | None:
        """Where the image goes."""
        return self.goal.spot

    @property
    def able(self) -> bool:
        """Whether the image can be brought."""
        return self.enough or self.fits

    @property
    def given_up(self) -> tuple[int, ...]:
        """How many units of each tier go, the highest first."""
        return tuple(sum(unit.tier == tier for unit in self.going) for tier in (6, 5, 4, 3, 2, 1))


def cases_of(
    judged: JudgedDevice,
    members: Sequence[JudgedMember],
    walk: DeviceWalk,
    running: tuple[Runs, ...],
    asked: SpaceAsked,
) -> list[Case]:
    """What is chosen for members of one device; what is held is worked out if somebody asks."""
    wishes = Wishes(policy=asked.policy, keep=asked.keep, release=asked.room.release)
    holds = cache(lambda: Holds(judged, walk, running, wishes))
    return [
        Case(judged=judged, one=one, walk=walk, running=running, holds=holds, asked=asked)
        for one in members
    ]


def choices_for(case: Case, release: KnownRelease) -> list[Chosen] | str:
    """The places where an image may go, with what goes for it, the best first; or why none is.

    What is not `able` comes last, and says how far all that may go would lead.
    """
    spots = _spots(case, release)
    if isinstance(spots, Unwritable):
        return spots.why
    found, notes = list[Chosen](), list[str]()
    for spot in spots:
        chosen = _at_spot(case, release, spot)
        if isinstance(chosen, str):
            notes.append(chosen)
        else:
            found.append(chosen)
    if not found:
        return notes[0]
    found.sort(key=lambda each: (not each.able, each.given_up, each.fits))
    return found


def _spots(case: Case, release: KnownRelease) -> list[Spot] | Unwritable:
    """Where the image may be written on this member."""
    layout = layout_of(case.judged)
    kept = frozenset[Place]()
    if layout.holder == "banks":
        member = case.one.member.id
        kept = frozenset(
            told.place.on(member)
            for told in case.holds().of_member(case.one)
            if any(not reason.kinds <= _BANKS_OWN for reason in told.reasons)
        )
    return layout.spots(
        Writing(
            judged=case.judged,
            one=case.one,
            walk=case.walk,
            running=case.running,
            release=release,
            bank_rule=case.asked.bank_rule,
            kept=kept,
            shelf=case.asked.shelf,
            removable=case.asked.policy.boot_from_removable,
        )
    )


def _at_spot(case: Case, release: KnownRelease, spot: Spot) -> Chosen | str:
    if spot.place is None:
        return Chosen(one=case.one, volume=None, goal=Goal(wanted=None, spot=spot))
    volume, sheet = case.one.member.volume(spot.place.volume), case.judged.judge.sheet
    if note := no_room_to_plan(volume, sheet, case.asked.room):
        return note
    assert volume is not None
    if note := _goes_over(case, volume, release, spot):
        return note
    need = need_of(release, volume, spot, case.asked.policy, sheet)
    need = replace(need, installing=need.installing + _to_commit(case, volume, spot))
    return choose_on(case, volume, Goal(wanted=need.wanted, need=need, spot=spot))


def _to_commit(case: Case, volume: Volume, spot: Spot) -> int:
    """The bytes that a commit of the image takes beside what is committed now."""
    sheet, one = case.judged.judge.sheet, case.one
    release = case.asked.room.release
    committed = one.member.bank(COMMITTED)
    if not layout_named(sheet.boot.layout).pair or spot.there or release is None or not committed:
        return 0
    places = [place.on(None) for place in committed.files]
    files = [find_file(place, one.member) for place in places if place.volume == volume.name]
    held = sum(taken(file.least, volume, sheet) for file in files if file is not None)
    return max(0, taken(max(release.sizes, default=0), volume, sheet) - held)


def choose_on(case: Case, volume: Volume, goal: Goal) -> Chosen:
    """Choose what goes on one volume, whose files and free bytes are known."""
    member = case.one.member.id
    assert volume.free is not None
    told, units = _units(case, volume, goal)
    forced, able = [], list[DropUnit]()
    for unit in units:
        if goal.replaced and any(place.on(member) in goal.replaced for place in unit.places):
            forced.append(unit)
        elif unit.tier not in LOCKED or LOCKED[unit.tier] in case.asked.unlocked:
            able.append(unit)
    freed, fits = sum(unit.frees for unit in forced), False
    found: DropChoice | None
    if goal.wanted is None:
        swept = case.asked.room.sweep or 0
        found = DropChoice(units=in_order(unit for unit in able if unit.tier <= swept))
    else:
        short = goal.wanted - volume.free - freed
        ordinary = [unit for unit in able if unit.tier not in LOCKED]
        found = choose(ordinary, short)
        if found is None and goal.need is not None and goal.need.reserve:
            found = choose(ordinary, short - goal.need.reserve)
            fits = found is not None
        if found is None and len(ordinary) < len(able):
            found = choose(able, short - (goal.need.reserve or 0 if goal.need is not None else 0))
            fits = found is not None and goal.need is not None and bool(goal.need.reserve)
    going = found.units if found is not None else in_order(able)
    going = in_order([*forced, *going]) if forced else going
    after = volume.free + sum(unit.frees for unit in going)
    if volume.capacity is not None:
        after = max(volume.free, min(after, volume.capacity))
    enough = found is not None and (goal.wanted is None or after >= goal.wanted)
    return Chosen(
        one=case.one,
        volume=volume,
        goal=goal,
        going=going,
        told=told,
        units=units,
        enough=enough,
        fits=fits and not enough,
        proven=found is None or found.proven,
    )


def _units(case: Case, volume: Volume, goal: Goal) -> tuple[list[HeldFile], list[DropUnit]]:
    """Every file of the member, and the units that may go; none where nobody asks for either."""
    asked = case.asked
    assert volume.free is not None
    enough = goal.wanted is not None and volume.free >= goal.wanted
    if asked.detail == "numbers" and not goal.replaced and enough:
        return [], []  # nothing has to go, and nobody asks what stays
    told = case.holds().of_member(case.one)
    if goal.replaced:
        told = [_replaced(each, case.one.member.id, goal.replaced) for each in told]
    tiers = Tiers(case.one, told, asked.shelf, asked.unlocked)
    cluster = cluster_of(volume, case.judged.judge.sheet.capacity.cluster)
    return told, units_of(case.one, volume, told, tiers, cluster)


def _replaced(file: HeldFile, member: str, replaced: frozenset[Place]) -> HeldFile:
    """A file of the bank that is written to: the layout has seen that nothing else needs it."""
    return file._replace(reasons=()) if file.place.on(member) in replaced else file


def _goes_over(case: Case, volume: Volume, release: KnownRelease, spot: Spot) -> str:
    """Which held file of the image's name a copy would destroy; empty where it would none.

    One that is broken is better off, unless a person wants just that file to stay, or it is
    evidence of a forgery that is nowhere else.
    """
    place = spot.place
    if spot.there or place is None:
        return ""
    over = next(iter(volume.files_at(place.path)), None)
    if over is None or place._replace(path=over.path) in spot.replaces:
        return ""
    bare = Place(volume.name, over.path)
    image = case.one.images.get(bare)
    broken = image is not None and image.judgement.verdict in ("altered", "truncated")
    reasons = [
        reason.text
        for reason in case.holds().of(case.one, bare)
        if not broken or reason.kinds & _BY_A_PERSON
    ]
    if not reasons and not broken and image is not None:
        reasons = ["it is another image"]
    if not reasons:
        return ""
    why = ", ".join(dict.fromkeys(reasons))
    text = f"the new {release.file} would overwrite {bare}, which is protected ({why})"
    return f"{text}: rename that file first"


def without(chosen: Chosen, member: str, gone: Sequence[Place]) -> Chosen:
    """The same choice where files are gone already."""
    there = [unit for unit in chosen.going if not any(p.on(member) in gone for p in unit.places)]
    return replace(chosen, going=there)

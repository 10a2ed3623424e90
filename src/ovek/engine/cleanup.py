"""The cleanup plan of a member: which units go to reach an amount of free space.

What may go at all is `hold`, how much it would be missed `tier`, what goes together `units`, which
of it goes `choose`; where an image goes the layout says. All of it is then tried out by `replay`:
where any point is worse for any member than before, the plan is refused by name, and every other
member and device still gets its own. Only what a person unlocked by name may make it worse, and
then the plan says from which step to which.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.bootwalk import walk_device
from ovek.engine.choose import Choice as Chosen
from ovek.engine.choose import Unit, choose, in_order
from ovek.engine.hold import HoldKind, Holds, Told, Wishes
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.writing import Spot, Unwritable, Writing, elsewhere, image_volume
from ovek.engine.replay import Replay, footprint, replay
from ovek.engine.room import need_of, no_room_to_plan, sized
from ovek.engine.runs import Runs, runs_of
from ovek.engine.steps import Act, Choice, acts_of, finished, started
from ovek.engine.tier import Tiers
from ovek.engine.units import cluster_of, units_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember, fits
from ovek.model.ofdevice import of_device
from ovek.model.place import BANK, Place
from ovek.model.plan import LOCKED, CleanupPlan, Drop, Keep, Locked, Lost, Need, Room, Unlock
from ovek.model.policy import BankRule, Policy
from ovek.model.size import show_size
from ovek.model.snapshot import Volume
from ovek.model.verdict import KnownRelease
from ovek.model.walk import DeviceWalk, MemberWalk

# How much a plan tells: the numbers and what goes, every file, or every step, too.
Detail = Literal["numbers", "files", "steps"]
# What a person wants to stay as it is.
_BY_A_PERSON: frozenset[HoldKind] = frozenset({"pinned", "kept-by-name"})
# What holds a file of a bank and is no reason not to write to that bank: the layout sees to it.
_BANKS_OWN: frozenset[HoldKind] = frozenset({"bank", "running", "starts-next", "kept-fallback"})


class Asked(Struct, frozen=True, kw_only=True):
    """All that a plan is made from, besides the device.

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


class _Case(Struct, frozen=True, kw_only=True):
    """One member that is planned for, with all that is known of its device."""

    judged: JudgedDevice
    one: JudgedMember
    walk: DeviceWalk
    runs: tuple[Runs, ...]
    holds: Callable[[], Holds]
    asked: Asked
    volume: Volume | None

    @property
    def member_walk(self) -> MemberWalk:
        return next(each for each in self.walk.members if each.member == self.one.member.id)


def plan_device(judged: JudgedDevice, asked: Asked) -> list[CleanupPlan]:
    """Plan for every member of a device. Steps take their time, since each is walked."""
    walk, runs = walk_device(judged), runs_of(judged)
    if asked.room.release is not None:
        release = sized(asked.room.release, judged, asked.sizes)
        asked = replace(asked, room=replace(asked.room, release=release))
    wishes = Wishes(policy=asked.policy, keep=asked.keep, release=asked.room.release)
    sheet = judged.judge.sheet
    # Where nothing has to go and nobody asks what stays, nobody asks what is held.
    holds = cache(lambda: Holds(judged, walk, runs, wishes))
    return [
        _plan_member(
            _Case(
                judged=judged,
                one=one,
                walk=walk,
                runs=runs,
                holds=holds,
                asked=asked,
                volume=image_volume(sheet, one.member),
            )
        )
        for one in judged.members or ()
    ]


def no_plans(judged: JudgedDevice, room: Room, note: str) -> list[CleanupPlan]:
    """A plan that says why there is none, for every member of a device."""
    walk, sheet = walk_device(judged), judged.judge.sheet
    return [
        _no_plan(judged, one, image_volume(sheet, one.member), walk, _wanted_of(room), note)
        for one in judged.members or ()
    ]


def _plan_member(case: _Case) -> CleanupPlan:
    room, sheet = case.asked.room, case.judged.judge.sheet
    if room.release is None:
        note = no_room_to_plan(case.volume, sheet, room)
        if case.volume is None and layout_of(sheet.start.layout).into_banks(case.one.member):
            note = "its images lie in banks, on no volume: ask for the image, --room-for IMAGE"
        if note:
            return _nothing(case, note)
        wanted = None if room.sweep is not None else _wanted_of(room, case.volume)
        return _on_volume(case, _Goal(wanted=wanted))
    spots = _spots(case, room.release)
    if isinstance(spots, Unwritable):
        return _nothing(case, spots.why)
    refused: CleanupPlan | None = None
    for spot in spots:
        plan = _at_spot(case, room.release, spot)
        if not plan.refused:
            return plan
        refused = refused or plan
    assert refused is not None
    return refused


def _spots(case: _Case, release: KnownRelease) -> list[Spot] | Unwritable:
    """Where the image may be written on this member."""
    layout = layout_of(case.judged.judge.sheet.start.layout)
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
            runs=case.runs,
            release=release,
            bank_rule=case.asked.bank_rule,
            kept=kept,
            shelf=case.asked.shelf,
            removable=case.asked.policy.boot_from_removable,
        )
    )


def _at_spot(case: _Case, release: KnownRelease, spot: Spot) -> CleanupPlan:
    if spot.place is None:
        return _in_bank(case, release, spot)
    if note := no_room_to_plan(case.volume, case.judged.judge.sheet, case.asked.room):
        return _nothing(case, note)
    assert case.volume is not None
    if spot.place.volume != case.volume.name:
        return _nothing(case, f"bank {spot.bank} is on {spot.place.volume}:, not where images go")
    if note := _goes_over(case, release, spot):
        return _nothing(case, note)
    need = need_of(release, case.volume, spot, case.asked.policy, case.judged.judge.sheet)
    return _on_volume(case, _Goal(wanted=need.wanted, need=need, spot=spot))


class _Goal(Struct, frozen=True, kw_only=True):
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


def _on_volume(case: _Case, goal: _Goal) -> CleanupPlan:
    """The plan on the volume for images."""
    volume, member = case.volume, case.one.member.id
    assert volume is not None and volume.free is not None
    told, units = _units(case, goal)
    forced, able = [], list[Unit]()
    for unit in units:
        if goal.replaced and any(place.on(member) in goal.replaced for place in unit.places):
            forced.append(unit)
        elif unit.tier not in LOCKED or LOCKED[unit.tier] in case.asked.unlocked:
            able.append(unit)
    freed, fits = sum(unit.frees for unit in forced), False
    if goal.wanted is None:
        swept = case.asked.room.sweep or 0
        taken = in_order(unit for unit in able if unit.tier <= swept)
        chosen: Chosen | None = Chosen(units=taken)
    else:
        short = goal.wanted - volume.free - freed
        chosen = choose(able, short)
        if chosen is None and goal.need is not None and goal.need.reserve:
            chosen = choose(able, short - goal.need.reserve)
            fits = chosen is not None
    choice = Choice(
        judged=case.judged,
        one=case.one,
        volume=volume,
        going=_going(forced, able, chosen),
        told=told,
        release=case.asked.room.release,
        spot=goal.spot,
        lost=_lost(case, goal.spot),
    )
    plan = replace(
        _plan_of(case, choice, goal),
        keep=() if case.asked.detail == "numbers" else _keeps(choice, units),
        fits=fits,
        note="; ".join(filter(None, (_not_proven(chosen), _no_roles(case, told)))),
    )
    if chosen is None:
        plan = replace(plan, enough=False)
        choice = replace(choice, enough=False)
    return _tried_out(case, choice, _not_enough(case, plan, units))


def _goes_over(case: _Case, release: KnownRelease, spot: Spot) -> str:
    """Which held file of the image's name a copy would destroy; empty where it would none.

    One that is broken is better off, unless a person wants just that file to stay.
    """
    volume, place = case.volume, spot.place
    if spot.there or volume is None or place is None:
        return ""
    name = volume.folded(place.path)
    over = next((file for file in volume.files or () if volume.folded(file.path) == name), None)
    if over is None or place._replace(path=over.path) in spot.replaces:
        return ""
    bare = Place(volume.name, over.path)
    image = case.one.images.get(bare)
    broken = image is not None and image.judgement.verdict in ("altered", "cut-short")
    reasons = [
        reason.text
        for reason in case.holds().of(case.one, bare)
        if not broken or reason.kinds & _BY_A_PERSON
    ]
    if not reasons:
        return ""
    told = f"a copy of {release.file} would go over {bare}, which is held ({', '.join(reasons)})"
    return f"{told}: give that file another name first"


def _going(forced: list[Unit], able: list[Unit], chosen: Chosen | None) -> list[Unit]:
    """What goes, in its order: where no choice is enough, all that could."""
    if chosen is not None and not forced:
        return chosen.units
    return in_order([*forced, *(able if chosen is None else chosen.units)])


def _units(case: _Case, goal: _Goal) -> tuple[list[Told], list[Unit]]:
    """Every file of the member, and the units that may go; none where nobody asks for either."""
    volume, asked = case.volume, case.asked
    assert volume is not None and volume.free is not None
    enough = goal.wanted is not None and volume.free >= goal.wanted
    if asked.detail == "numbers" and not goal.replaced and enough:
        return [], []  # nothing has to go, and nobody asks what stays
    told = case.holds().of_member(case.one)
    if goal.replaced:
        told = [_replaced(each, case.one.member.id, goal.replaced) for each in told]
    tiers = Tiers(case.one, told, asked.shelf, asked.unlocked)
    cluster = cluster_of(volume, case.judged.judge.sheet.capacity.cluster)
    return told, units_of(case.one, volume, told, tiers, cluster)


def _plan_of(case: _Case, choice: Choice, goal: _Goal) -> CleanupPlan:
    """What a choice comes to, before it is tried out."""
    volume, member, spot = case.volume, case.one.member.id, goal.spot
    assert volume is not None and volume.free is not None
    after = volume.free + sum(unit.frees for unit in choice.going)
    if volume.capacity is not None:
        after = max(volume.free, min(after, volume.capacity))
    wanted = after if goal.wanted is None else goal.wanted
    return CleanupPlan(
        **of_device(case.judged.device),
        member=member,
        volume=volume.name,
        free=volume.free,
        wanted=wanted,
        enough=after >= wanted,
        free_after=after,
        short_by=max(0, wanted - after),
        reload_before=case.walk.reload,
        reload_after=case.walk.reload,
        starts_before=started(case.walk, member),
        starts_after=started(case.walk, member),
        capacity=volume.capacity,
        drop=_drops(choice),
        bank=spot.bank if spot is not None else None,
        bank_why=spot.why if spot is not None else "",
        there=spot is not None and spot.there,
        lost=choice.lost,
        made_of=goal.need,
    )


def _not_enough(case: _Case, plan: CleanupPlan, units: list[Unit]) -> CleanupPlan:
    """What to say where there is not enough: what is locked, and other ways.

    Where the image fits and only the reserve does not, nobody is sent to what is locked for that.
    """
    if plan.enough or plan.fits:
        return plan
    locked = _locked(units, case.asked.unlocked, plan.wanted - (plan.free_after or 0))
    return replace(plan, locked=locked, ways=tuple(_ways(case, plan.wanted)))


def _tried_out(case: _Case, choice: Choice, plan: CleanupPlan) -> CleanupPlan:
    """The plan once it was replayed: with its steps, or refused because of the harm it does."""
    looked_at = footprint(case.judged, case.walk)
    deletes = choice.deletes()
    calm = not any(change.place in looked_at for change in deletes)
    if case.asked.detail != "steps" and calm and _copy_is_quiet(case, choice, looked_at):
        return plan
    deleted = None if calm else replay(case.judged, deletes, before=case.walk)
    after = case.walk if deleted is None else deleted.walk
    acts = acts_of(choice, (case.walk, after))
    tried = replay(
        case.judged,
        [change for act in acts for change in act.changes],
        before=case.walk,
        meant=_meant(choice),
    )
    plan = replace(
        plan, reload_after=after.reload, starts_after=started(after, choice.one.member.id)
    )
    unlocked = any(unit.tier in LOCKED for unit in choice.going)
    if tried.harm and not unlocked:
        return _refused(plan, tried)
    return _with_steps(case, plan, choice, acts, tried)


def _with_steps(
    case: _Case, plan: CleanupPlan, choice: Choice, acts: Sequence[Act], tried: Replay
) -> CleanupPlan:
    if case.asked.detail != "steps":
        return plan
    steps = finished(choice, acts, tried)
    harm = [number for number, step in enumerate(steps, 1) if not step.safe]
    stretch = (harm[0], harm[-1]) if harm else None
    return replace(plan, steps=tuple(steps), stretch=stretch)


def _refused(plan: CleanupPlan, tried: Replay) -> CleanupPlan:
    """The plan that would do harm: none, because of that."""
    return replace(
        plan,
        enough=False,
        refused=True,
        free_after=None,
        short_by=None,
        drop=(),
        locked=(),
        ways=(),
        fits=False,
        reload_after=plan.reload_before,
        starts_after=plan.starts_before,
        note=f"refused, because on the way {'; '.join(tried.harm)}",
    )


def _copy_is_quiet(case: _Case, choice: Choice, looked_at: set[Place]) -> bool:
    """Whether bringing the image cannot harm: it lands where no walk looks, and it starts there.

    Then it does not have to be tried out where only numbers are asked for.
    """
    release, spot, volume = choice.release, choice.spot, choice.volume
    if release is None or spot is None:
        return True
    if spot.place is None or spot.bank is not None or volume is None:
        return False
    if any(c.origin == "first-found" for each in case.walk.members for c in each.tried):
        return False
    name = volume.folded(spot.place.path)
    if not spot.there:
        named = {
            volume.folded(place.path)
            for place in looked_at
            if (place.member, place.volume) == (spot.place.member, volume.name)
        }
        if name in named or any(volume.folded(file.path) == name for file in volume.files or ()):
            return False
    there = case.judged.image(spot.place) if spot.there else None
    if there is not None and (there.file is None or there.file.is_empty):
        return False
    proves = any(each not in release.disputed for each in release.digests)
    plain = case.judged.judge.weakest == "md5" and not release.doubtful
    suits = fits(release, case.one.hardware) is True
    return proves and plain and suits and release.kind == "system-image"


def _meant(choice: Choice) -> frozenset[Place]:
    """Where the member is to start from at the end."""
    spot, member = choice.spot, choice.one.member.id
    if spot is None or (spot.bank is None and spot.place is None):
        return frozenset()
    at = spot.place if spot.bank is None else Place(BANK, spot.bank, member)
    return frozenset({at} if at is not None else ())


def _replaced(told: Told, member: str, replaced: frozenset[Place]) -> Told:
    """A file of the bank that is written to: the layout has seen that nothing else needs it."""
    return told._replace(reasons=()) if told.place.on(member) in replaced else told


def _wanted_of(room: Room, volume: Volume | None = None) -> int:
    """The free bytes that are asked for by themselves, or the size of the image."""
    if room.share is not None:
        return int((volume.capacity or 0) * room.share) if volume is not None else 0
    if room.release is not None:
        return max(room.release.sizes, default=0)
    return room.free or 0


def _lost(case: _Case, spot: Spot | None) -> Lost | None:
    """What is lost by writing to a bank."""
    if spot is None or spot.bank is None or spot.there:
        return None
    bank, image = case.one.member.bank(spot.bank), case.one.banks.get(spot.bank)
    if image is None:
        state = "not there" if bank is None else "bad" if bank.state == "bad" else "empty"
        return Lost(state=state)
    release = case.asked.room.release
    assert release is not None
    writing = Writing(
        judged=case.judged,
        one=case.one,
        walk=case.walk,
        runs=case.runs,
        release=release,
        shelf=case.asked.shelf,
    )
    return Lost(
        version=image.version, verdict=image.judgement.verdict, elsewhere=elsewhere(writing, image)
    )


def _not_proven(chosen: Chosen | None) -> str:
    """What is not proven of a choice."""
    if chosen is None or chosen.proven:
        return ""
    return (
        "the number of files is the smallest; that no choice frees fewer bytes beyond the need is "
        "not proven, since the volume's cluster is not known"
    )


def _no_roles(case: _Case, told: Sequence[Told]) -> str:
    """Why nothing is offered where the sheet tells no roles."""
    sheet = case.judged.judge.sheet
    if sheet.roles or not any(each.role == "unknown" for each in told):
        return ""
    name = sheet.name
    return f"the sheet {name} tells no roles, so nobody knows what its files are for: add [roles]"


def _ways(case: _Case, wanted: int) -> Iterator[str]:
    """Other ways to get there than by deleting on this volume."""
    volume, room = case.volume, case.asked.room
    assert volume is not None
    if volume.capacity is not None and wanted > volume.capacity:
        yield f"{volume.name}: holds {show_size(volume.capacity)} in all, less than is wanted"
    for other in case.one.member.volumes or ():
        stays = not other.removable or case.asked.policy.boot_from_removable
        usable = stays and not case.judged.judge.sheet.start.holds_nothing(other)
        if other is not volume and usable and other.state == "ok" and (other.free or 0) >= wanted:
            free = show_size(other.free or 0)
            yield f"another volume: {other.name}: has {free} free; copy the image there and name it"
    if (
        room.release is not None
        and layout_of(case.judged.judge.sheet.start.layout).holder == "files"
    ):
        yield (
            "a stick: start the new image from one, in a window, then the old one no longer runs "
            "and may go"
        )


def _drops(choice: Choice) -> tuple[Drop, ...]:
    roles = {each.place: each.role for each in choice.told}
    return tuple(
        Drop(
            place=str(unit.places[0]),
            frees=unit.frees,
            tier=unit.tier,
            why=unit.why,
            role=roles[unit.places[0]],
            files=tuple(str(place) for place in unit.places),
        )
        for unit in choice.going
    )


def _keeps(choice: Choice, units: list[Unit]) -> tuple[Keep, ...]:
    """Every file of the volume that stays, and why."""
    assert choice.volume is not None
    gone = {place for unit in choice.going for place in unit.places}
    tiers = {place: unit.tier for unit in units for place in unit.places}
    keeps = []
    for place, file, role, reasons in choice.told:
        if place.volume != choice.volume.name or place in gone:
            continue
        tier = tiers.get(place)
        why = tuple(reason.text for reason in reasons)
        if not why:
            why = ("not needed for this plan",) if tier else (_stays_with(place, choice.one),)
        keeps.append(Keep(place=str(place), why=why, role=role, size=file.size, tier=tier))
    return tuple(keeps)


def _stays_with(place: Place, one: JudgedMember) -> str:
    users = sorted(str(each) for each, image in one.sets.items() if place in image.parts)
    if len(users) > 1:
        return f"shared by the sets {' and '.join(users)}"
    return "it stays with its set"


def _locked(units: list[Unit], unlocked: frozenset[Unlock], short: int) -> tuple[Locked, ...]:
    """What each locked tier would add, and whether it would be enough."""
    found, below = [], 0
    for tier, name in LOCKED.items():
        of_tier = [unit for unit in units if unit.tier == tier and name not in unlocked]
        adds = sum(unit.frees for unit in of_tier)
        if of_tier and short > 0:
            places = tuple(str(unit.places[0]) for unit in of_tier)
            below += adds
            found.append(
                Locked(
                    tier=tier, adds=adds, alone=adds >= short, enough=below >= short, places=places
                )
            )
    return tuple(found)


def _in_bank(case: _Case, release: KnownRelease, spot: Spot) -> CleanupPlan:
    """The plan where banks hold their image themselves: which one to write to, or to start."""
    member = case.one.member.id
    choice = Choice(
        judged=case.judged,
        one=case.one,
        volume=None,
        release=release,
        spot=spot,
        lost=_lost(case, spot),
    )
    plan = CleanupPlan(
        **of_device(case.judged.device),
        member=member,
        volume=None,
        free=None,
        wanted=_wanted_of(case.asked.room),
        enough=True,
        free_after=None,
        short_by=None,
        reload_before=case.walk.reload,
        reload_after=case.walk.reload,
        starts_before=started(case.walk, member),
        starts_after=started(case.walk, member),
        bank=spot.bank,
        bank_why=spot.why,
        there=spot.there,
        lost=choice.lost,
        note=spot.why,
    )
    acts = acts_of(choice, (case.walk, case.walk))
    changes = [change for act in acts for change in act.changes]
    tried = replay(case.judged, changes, before=case.walk, meant=_meant(choice))
    if tried.harm:
        return _refused(plan, tried)
    return _with_steps(case, plan, choice, acts, tried)


def _nothing(case: _Case, note: str) -> CleanupPlan:
    wanted = _wanted_of(case.asked.room)
    return _no_plan(case.judged, case.one, case.volume, case.walk, wanted, note)


def _no_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume | None,
    walk: DeviceWalk,
    wanted: int,
    note: str,
) -> CleanupPlan:
    return CleanupPlan(
        **of_device(judged.device),
        member=one.member.id,
        volume=volume.name if volume is not None else judged.judge.sheet.start.default_volume,
        free=volume.free if volume is not None else None,
        wanted=wanted,
        enough=False,
        free_after=None,
        short_by=None,
        reload_before=walk.reload,
        reload_after=walk.reload,
        capacity=volume.capacity if volume is not None else None,
        note=note,
    )

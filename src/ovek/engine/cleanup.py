"""The cleanup plan of a volume: which units go to reach an amount of free space.

A unit is a single file, or a whole set with its packages that no other set shares. Deleting frees
whole clusters. Which units go is chosen exactly: see `choose`. The plan is then replayed: the boot
walk after it must not be worse than before, or the plan is refused as a defect of Ovek. Only what a
person unlocked by name may make it worse, and then the plan says from which step to which.

In layouts with banks, the plan for an image names the bank to write to: never the one that runs,
nor the only one that starts. Where a bank is made of files, those that it holds now go first.
"""

from collections.abc import Iterator
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.banks import (
    COMMITTED,
    TRIAL,
    bank_to_write,
    holds_its_image,
    said_of_bank,
    writes_a_bank,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.choose import Choice, Unit, choose, in_order
from ovek.engine.roles import Standing, standings
from ovek.engine.steps import Explained, bank_steps, started, steps_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember, judge_device
from ovek.model.place import BANK, Place, parse_place
from ovek.model.plan import LOCKED, CleanupPlan, Drop, Keep, Locked, Room, Unlock
from ovek.model.policy import Policy
from ovek.model.sheet import Role, Sheet
from ovek.model.size import show_size
from ovek.model.snapshot import Device, Member, Volume
from ovek.model.walk import RELOADS_WORST_FIRST, DeviceWalk, MemberWalk

_LATE = float("inf")
_PAIR = {f"{BANK}:{TRIAL}", f"{BANK}:{COMMITTED}"}


class PlanDefectError(Exception):
    """A plan would leave the device worse than before: a defect of Ovek, never to be followed."""


# How much a plan tells: the numbers and what goes, every file, or every step, too.
Detail = Literal["numbers", "files", "steps"]


class _Asked(Struct, frozen=True, kw_only=True):
    """All that a plan is made from, besides the device."""

    policy: Policy
    room: Room
    shelf: frozenset[str]
    unlocked: frozenset[Unlock]
    keep: tuple[str, ...]
    detail: Detail


def plan_device(
    judged: JudgedDevice,
    policy: Policy,
    room: Room,
    *,
    shelf: frozenset[str] = frozenset(),
    unlocked: frozenset[Unlock] = frozenset(),
    keep: tuple[str, ...] = (),
    detail: Detail = "files",
) -> list[CleanupPlan]:
    """Plan for every member of a device.

    `shelf` holds the digests of the images that the shelf holds, proven; `keep` are globs of files
    that a person keeps. Steps take their time, since each is walked. Raises PlanDefectError.
    """
    asked = _Asked(
        policy=policy, room=room, shelf=shelf, unlocked=unlocked, keep=keep, detail=detail
    )
    walk = walk_device(judged)
    return [
        _plan_member(judged, one, each, walk, asked)
        for one, each in zip(judged.members or (), walk.members, strict=True)
    ]


def _plan_member(
    judged: JudgedDevice,
    one: JudgedMember,
    member_walk: MemberWalk,
    walk: DeviceWalk,
    asked: _Asked,
) -> CleanupPlan:
    sheet, member, room = judged.judge.sheet, one.member, asked.room
    volume = image_volume(sheet, member)
    bank, why, replaced = None, "", frozenset[Place]()
    if writes_a_bank(judged, one, room):
        bank, why = bank_to_write(judged, one, member_walk)
        if holds_its_image(judged, member):
            return _bank_plan(judged, one, walk, asked, bank, why)
        if bank is None:
            return _no_plan(judged, one, volume, walk, room, why)
        there = member.bank(bank)
        texts = (there.places if there is not None else None) or ()
        replaced = frozenset(parse_place(text).on(None) for text in texts)
    if note := _no_room_to_plan(volume, sheet, room):
        return _no_plan(judged, one, volume, walk, room, note)
    assert volume is not None
    wanted = wanted_bytes(judged, one, volume, asked.policy, room)
    offered_only = asked.detail == "numbers"
    if offered_only and not replaced and room.sweep is None and (volume.free or 0) >= wanted[0]:
        # Nothing has to go, and nobody asks what stays.
        return _volume_plan(judged, one, volume, walk, [], asked, wanted, bank, why, replaced)
    found = standings(
        judged,
        one,
        member_walk,
        asked.policy,
        shelf=asked.shelf,
        room_for=room.release.file if room.release is not None else None,
        unlocked=asked.unlocked,
        keep=asked.keep,
        replaced=replaced,
        offered_only=offered_only,
    )
    return _volume_plan(judged, one, volume, walk, found, asked, wanted, bank, why, replaced)


def _no_room_to_plan(volume: Volume | None, sheet: Sheet, room: Room) -> str:
    """Why there is no plan for a volume; empty where there is one."""
    if volume is None:
        name = sheet.start.default_volume
        return f"the volume {name}: is not in the snapshot" if name else "no volume is known"
    name = volume.name
    if volume.state in ("absent", "unreadable"):
        return f"the volume {name}: is {volume.state}"
    if volume.free is None:
        return f"how much is free on {name}: is not known"
    if volume.files is None:
        return f"the files of {name}: are not known"
    if room.share is not None and volume.capacity is None:
        return f"the capacity of {name}: is not known, so a share of it is not known either"
    release = room.release
    if release is not None and not release.sizes:
        return f"the size of {release.file} is not published"
    least = release.needs.volume if release is not None else None
    if release is not None and least and volume.capacity is not None and volume.capacity < least:
        told = f"{show_size(least)}, {name}: has {show_size(volume.capacity)}"
        return f"{release.file} needs a volume of {told}"
    return ""


def wanted_bytes(
    judged: JudgedDevice, one: JudgedMember, volume: Volume, policy: Policy, room: Room
) -> tuple[int, str]:
    """The free bytes wanted on a volume, and what they are made of in words."""
    if room.share is not None:
        return int((volume.capacity or 0) * room.share), ""
    release = room.release
    if release is None:
        return room.free or 0, ""
    reserve = policy.reserve_of(volume.capacity)
    there = any(
        image.judgement.verdict == "proven"
        and image.judgement.release is release
        and image.place.volume == volume.name
        for image in one.images.values()
    )
    size, capacity = max(release.sizes), judged.judge.sheet.capacity
    copied = 0 if there else _clusters(size, _cluster(judged, volume))
    unpacked = release.unpacked
    if unpacked is None and capacity.unpacked is not None:
        unpacked = int(size * capacity.unpacked)
    parts = [f"{release.file} is there already" if there else f"{show_size(copied)} for the image"]
    if unpacked:
        parts.append(f"{show_size(unpacked)} for what it unpacks to")
    if capacity.installing:
        parts.append(f"{show_size(capacity.installing)} while it is installed")
    if reserve is None:
        parts.append("no reserve, since the capacity is not known")
    elif reserve:
        parts.append(f"{show_size(reserve)} for the reserve")
    wanted = copied + (unpacked or 0) + (capacity.installing or 0) + (reserve or 0)
    return wanted, ", ".join(parts)


def units_of(found: list[Standing], one: JudgedMember, volume: Volume, cluster: int) -> list[Unit]:
    """The units of a volume that may go, unlocked or not."""
    by_place = {standing.place: standing for standing in found}
    in_sets: dict[Place, list[Place]] = {}
    for place, image in one.sets.items():
        for package in image.parts:
            in_sets.setdefault(package, []).append(place)
    units: list[Unit] = []
    for standing in found:
        if standing.place.volume != volume.name or standing.tier is None:
            continue
        if standing.place in one.sets:
            packages = one.sets[standing.place].parts
            own = [by_place[p] for p in packages if len(in_sets[p]) == 1 and p in by_place]
            units += _set_unit(standing, own, one, cluster)
        elif standing.place not in in_sets:
            units.append(_unit(standing, [standing], cluster))
    return units


def _set_unit(
    standing: Standing, own: list[Standing], one: JudgedMember, cluster: int
) -> Iterator[Unit]:
    tiers = [package.tier for package in own]
    if None in tiers or standing.tier is None:
        return
    whole = standing
    if 1 < standing.tier < 5 and own:
        worst = max(own, key=lambda package: package.tier or 0)
        whole = replace(standing, tier=worst.tier or standing.tier, why=worst.why)
    broken = one.sets[standing.place].judgement
    if standing.tier < 5 and broken.verdict in ("altered", "cut-short"):
        why = f"{broken.verdict} and nothing refers to it: {broken.why}"
        whole = replace(standing, tier=1, why=why)
    yield _unit(whole, [standing, *own], cluster)


def _unit(whole: Standing, files: list[Standing], cluster: int) -> Unit:
    assert whole.tier is not None
    frees, age = 0, None
    for one in files:
        frees += _clusters(one.file.size or 0, cluster)
        if one.file.modified is not None:
            time = one.file.modified.timestamp()
            age = time if age is None or time > age else age
    return Unit(
        places=tuple([one.place for one in files]),
        tier=whole.tier,
        why=whole.why,
        frees=frees,
        age=_LATE if age is None else age,
    )


def _volume_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume,
    walk: DeviceWalk,
    found: list[Standing],
    asked: _Asked,
    asked_for: tuple[int, str],
    bank: str | None,
    why: str,
    replaced: frozenset[Place],
) -> CleanupPlan:
    assert volume.free is not None
    units = units_of(found, one, volume, _cluster(judged, volume))
    forced = [unit for unit in units if unit.places[0] in replaced]
    open_units = [
        unit
        for unit in units
        if unit not in forced and (unit.tier not in LOCKED or LOCKED[unit.tier] in asked.unlocked)
    ]
    wanted, made_of = asked_for
    swept = asked.room.sweep
    if swept is not None:
        chosen: Choice | None = Choice(units=[one for one in open_units if one.tier <= swept])
    else:
        need = wanted - volume.free - sum(unit.frees for unit in forced)
        chosen = choose(open_units, need)
    enough = chosen is not None
    going = in_order([*forced, *(open_units if chosen is None else chosen.units)])
    after = volume.free + sum(unit.frees for unit in going)
    if swept is not None:
        wanted, made_of = after, f"everything up to tier {swept}"
    replayed = _replayed(judged, one, volume, walk, going)
    roles = {standing.place: standing.role for standing in found}
    plan = CleanupPlan(
        device=judged.device.device,
        member=one.member.id,
        volume=volume.name,
        free=volume.free,
        wanted=wanted,
        enough=enough,
        free_after=after,
        short_by=max(0, wanted - after),
        reload_before=walk.reload,
        reload_after=replayed.reload,
        starts_before=started(walk, one.member.id),
        starts_after=started(replayed, one.member.id),
        capacity=volume.capacity,
        drop=tuple(_drop(unit, roles) for unit in going),
        keep=() if asked.detail == "numbers" else _keeps(found, volume, going, units, one),
        locked=_locked(units, asked.unlocked, wanted - after),
        bank=bank,
        bank_why=why,
        lost=said_of_bank(one, bank, asked.shelf) if bank is not None else None,
        made_of=made_of,
        note="; ".join(filter(None, (_not_proven(chosen), _no_roles(judged, found)))),
        ways=() if enough else tuple(_ways(judged, one, volume, wanted, asked.room)),
    )
    if asked.detail != "steps":
        return plan
    return _with_steps(
        plan, steps_of(judged, one, volume, (walk, replayed), going, found, asked.room, bank)
    )


def _with_steps(plan: CleanupPlan, explained: Explained) -> CleanupPlan:
    return replace(plan, steps=explained.steps, stretch=explained.stretch)


def _not_proven(chosen: Choice | None) -> str:
    """What is not proven of a choice."""
    if chosen is None or chosen.proven:
        return ""
    return (
        "the number of files is the smallest; that no choice frees fewer bytes beyond the need is "
        "not proven, since the volume's cluster is not known"
    )


def _no_roles(judged: JudgedDevice, found: list[Standing]) -> str:
    """Why nothing is offered where the sheet tells no roles."""
    if judged.judge.sheet.roles or not any(one.role == "unknown" for one in found):
        return ""
    name = judged.judge.sheet.name
    return f"the sheet {name} tells no roles, so nobody knows what its files are for: add [roles]"


def _ways(
    judged: JudgedDevice, one: JudgedMember, volume: Volume, wanted: int, room: Room
) -> Iterator[str]:
    """Other ways to get there than by deleting on this volume."""
    if volume.capacity is not None and wanted > volume.capacity:
        yield f"{volume.name}: holds {show_size(volume.capacity)} in all, less than is wanted"
    for other in one.member.volumes or ():
        if other is not volume and other.state in ("ok", None) and (other.free or 0) >= wanted:
            free = show_size(other.free or 0)
            yield f"another volume: {other.name}: has {free} free; copy the image there and name it"
    if room.release is not None and judged.judge.sheet.start.layout == "files":
        yield (
            "a stick: start the new image from one, in a window, then the old one no longer runs "
            "and may go"
        )


def _drop(unit: Unit, roles: dict[Place, Role]) -> Drop:
    return Drop(
        place=str(unit.places[0]),
        frees=unit.frees,
        tier=unit.tier,
        why=unit.why,
        role=roles[unit.places[0]],
        files=tuple(str(place) for place in unit.places),
    )


def _keeps(
    found: list[Standing],
    volume: Volume,
    going: list[Unit],
    units: list[Unit],
    one: JudgedMember,
) -> tuple[Keep, ...]:
    gone = {place for unit in going for place in unit.places}
    tiers = {place: unit.tier for unit in units for place in unit.places}
    keeps = []
    for standing in found:
        place = standing.place
        if place.volume != volume.name or place in gone:
            continue
        tier = tiers.get(place)
        why = standing.held
        if not why and tier is None:
            why = (_stays_with(place, one),)
        elif not why:
            why = ("not needed for this plan",)
        keeps.append(
            Keep(
                place=str(place),
                why=why,
                role=standing.role,
                size=standing.file.size,
                tier=tier,
            )
        )
    return tuple(keeps)


def _stays_with(place: Place, one: JudgedMember) -> str:
    users = [str(each) for each, image in one.sets.items() if place in image.parts]
    if len(users) > 1:
        return f"shared by the sets {' and '.join(users)}"
    return "it stays with its set, which is held"


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


def _replayed(
    judged: JudgedDevice, one: JudgedMember, volume: Volume, walk: DeviceWalk, going: list[Unit]
) -> DeviceWalk:
    """Replay the plan and return the walk after it; raise PlanDefectError where it is worse.

    Where the walk visits something that goes, every step is replayed: a stop at any point has to
    be safe. What no walk visits changes none, so that the end speaks for every step.
    """
    if not going:
        return walk
    member = one.member
    before = next(each for each in walk.members if each.member == member.id)
    visited = {candidate.place for candidate in before.tried}
    banked = any(bank.places for bank in member.banks or ())
    touched = banked or any(str(place) in visited for unit in going for place in unit.places)
    replayed = walk
    for step in range(1, len(going) + 1) if touched else [len(going)]:
        replayed = walk_device(without(judged, one, volume, going[:step]))
        after = next(each for each in replayed.members if each.member == member.id)
        if worse(before, after) and not any(unit.tier in LOCKED for unit in going[:step]):
            raise PlanDefectError(
                f"{judged.device.device}, member {member.id}: the plan would change the next start "
                f"from {before.outcome} to {after.outcome}; do not follow it, report it"
            )
    return replayed


def without(
    judged: JudgedDevice, one: JudgedMember, volume: Volume, going: list[Unit]
) -> JudgedDevice:
    """The device as it is once the units are gone."""
    gone = {place for unit in going for place in unit.places}
    paths = {place.path for place in gone}
    sets = volume.sets
    left = replace(
        volume,
        files=tuple(file for file in volume.files or () if file.path not in paths),
        sets=None if sets is None else tuple(s for s in sets if s.set_file not in paths),
        free=None,
    )
    device = _with(judged.device, one.member, left)
    if any(bank.places for bank in one.member.banks or ()):
        return judge_device(device, judged.judge)  # what a bank is made of decides its verdict
    ours = replace(
        one,
        member=next(m for m in device.members or () if m.id == one.member.id),
        images={place: image for place, image in one.images.items() if place not in gone},
        sets={place: image for place, image in one.sets.items() if place not in gone},
    )
    members = tuple(ours if each is one else each for each in judged.members or ())
    return replace(judged, device=device, members=members)


def _with(device: Device, member: Member, volume: Volume) -> Device:
    volumes = tuple(volume if v.name == volume.name else v for v in member.volumes or ())
    changed = replace(member, volumes=volumes)
    members = tuple(changed if m.id == member.id else m for m in device.members or ())
    return replace(device, members=members)


def worse(before: MemberWalk, after: MemberWalk) -> bool:
    """Whether the second walk is worse: a worse outcome, or a start of another version.

    The other half of a pair that holds the same is as good a start.
    """
    rank = RELOADS_WORST_FIRST.index
    if rank(after.outcome) < rank(before.outcome):
        return True
    if before.starts is None or after.starts is None:
        return after.starts is not before.starts and before.starts is not None
    pair = {before.starts.place, after.starts.place} == _PAIR
    same = before.starts.version == after.starts.version
    return after.starts.place != before.starts.place and not (pair and same)


def image_volume(sheet: Sheet, member: Member) -> Volume | None:
    """The volume that images are copied to: the sheet's default volume, else the first."""
    name = sheet.start.default_volume
    if name is not None:
        return member.volume(name)
    return member.volumes[0] if member.volumes else None


def _cluster(judged: JudgedDevice, volume: Volume) -> int:
    return volume.cluster or judged.judge.sheet.capacity.cluster or 1


def _clusters(size: int, cluster: int) -> int:
    return -(-size // cluster) * cluster


def _bank_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    walk: DeviceWalk,
    asked: _Asked,
    bank: str | None,
    why: str,
) -> CleanupPlan:
    """The plan where banks hold their image themselves: which one to write to."""
    plan = CleanupPlan(
        device=judged.device.device,
        member=one.member.id,
        volume=None,
        free=None,
        wanted=_asked_for(asked.room),
        enough=bank is not None,
        free_after=None,
        short_by=None,
        reload_before=walk.reload,
        reload_after=walk.reload,
        starts_before=started(walk, one.member.id),
        starts_after=started(walk, one.member.id),
        bank=bank,
        bank_why=why,
        lost=said_of_bank(one, bank, asked.shelf) if bank is not None else None,
        note=why,
    )
    if bank is None:
        return plan
    explained = bank_steps(judged, one, walk, bank, asked.room, asked.shelf)
    if explained.stretch is not None:
        raise PlanDefectError(
            f"{judged.device.device}, member {one.member.id}: writing to bank {bank} would leave "
            "the next start worse on the way; do not follow it, report it"
        )
    return _with_steps(plan, explained) if asked.detail == "steps" else plan


def _asked_for(room: Room) -> int:
    return max(room.release.sizes, default=0) if room.release is not None else room.free or 0


def no_plans(judged: JudgedDevice, room: Room, note: str) -> list[CleanupPlan]:
    """A plan that says why there is none, for every member of a device."""
    walk = walk_device(judged)
    return [
        _no_plan(judged, one, image_volume(judged.judge.sheet, one.member), walk, room, note)
        for one in judged.members or ()
    ]


def _no_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume | None,
    walk: DeviceWalk,
    room: Room,
    note: str,
) -> CleanupPlan:
    return CleanupPlan(
        device=judged.device.device,
        member=one.member.id,
        volume=volume.name if volume is not None else judged.judge.sheet.start.default_volume,
        free=volume.free if volume is not None else None,
        wanted=_asked_for(room),
        enough=False,
        free_after=None,
        short_by=None,
        reload_before=walk.reload,
        reload_after=walk.reload,
        capacity=volume.capacity if volume is not None else None,
        note=note,
    )

"""The cleanup plan of a volume: which units go to reach an amount of free space.

A unit is a single file, or a whole set with its packages that no other set shares. Deleting frees
whole clusters. Units are chosen so that, in this order: as few as possible of the highest tier,
then of the next lower, … down to tier 1; then few bytes beyond the need; then oldest first, then
by name. The number of units of each tier is exact. The plan is then replayed: the boot walk after
it must not be worse than before, or the plan is refused as a defect of Ovek.

In layouts with banks that hold their image themselves, the plan names the bank to write to
instead: never the one that runs, nor the only one that starts.
"""

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.bootwalk import walk_device
from ovek.engine.roles import Standing, standings
from ovek.engine.verdicts import JudgedDevice, JudgedMember, judge_device
from ovek.model.place import Place
from ovek.model.plan import CleanupPlan, Drop, Keep, Locked, Tier, Unlock
from ovek.model.policy import Policy
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device, Member, Volume
from ovek.model.verdict import KnownRelease
from ovek.model.walk import RELOADS_WORST_FIRST, DeviceWalk, MemberWalk

LOCKED: dict[Tier, Unlock] = {5: "fallback", 6: "running"}
_LATE = float("inf")


class PlanDefectError(Exception):
    """A plan would leave the device worse than before: a defect of Ovek, never to be followed."""


class Unit(Struct, frozen=True, kw_only=True):
    """What goes or stays as one. `frees` in bytes; `age` in seconds since 1970, late if unknown."""

    standing: Standing
    places: tuple[Place, ...]
    tier: Tier
    why: str
    frees: int
    age: float


def plan_device(
    judged: JudgedDevice,
    policy: Policy,
    *,
    free: int | None = None,
    room_for: KnownRelease | None = None,
    shelf: frozenset[str] = frozenset(),
    unlocked: frozenset[Unlock] = frozenset(),
) -> list[CleanupPlan]:
    """Plan for every member of a device.

    `free` is the free space wanted, in bytes; else `room_for` is the release to make room for:
    its size and what it unpacks to, plus the policy's reserve. `shelf` holds the digests of the
    images that the shelf holds, proven. Raises PlanDefectError.
    """
    walk = walk_device(judged)
    plans = []
    for one, member_walk in zip(judged.members or (), walk.members, strict=True):
        volume = image_volume(judged.judge.sheet, one.member)
        if _holds_its_image(judged, one.member):
            plans.append(_bank_plan(judged, one, member_walk, walk, free, room_for))
            continue
        if volume is None or volume.free is None or volume.files is None:
            plans.append(_no_plan(judged, one, volume, walk, free, room_for))
            continue
        name = room_for.file if room_for is not None else None
        found = standings(judged, one, member_walk, policy, shelf=shelf, room_for=name)
        wanted, note = wanted_bytes(judged, one, volume, policy, free, room_for)
        plans.append(_volume_plan(judged, one, volume, walk, found, wanted, note, unlocked))
    return plans


def wanted_bytes(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume,
    policy: Policy,
    free: int | None,
    room_for: KnownRelease | None,
) -> tuple[int, str]:
    """The free bytes wanted on a volume, and what they are made of in words."""
    if room_for is None:  # the free space was asked for in bytes
        return free or 0, ""
    reserve = policy.reserve_of(volume.capacity)
    size = min(room_for.sizes, default=None)
    if size is None:
        raise ValueError(f"the size of {room_for.file} is not published")
    there = any(
        image.judgement.verdict == "proven"
        and image.judgement.release is room_for
        and image.place.volume == volume.name
        for image in one.images.values()
    )
    copied = 0 if there else _clusters(max(room_for.sizes), _cluster(judged, volume))
    factor = judged.judge.sheet.capacity.unpacked
    unpacked = room_for.unpacked
    if unpacked is None and factor is not None:
        unpacked = int(max(room_for.sizes) * factor)
    parts = [f"{room_for.file} is there already" if there else f"{copied} for the image"]
    if unpacked:
        parts.append(f"{unpacked} for what it unpacks to")
    if reserve is None:
        parts.append("no reserve, since the capacity is not known")
    elif reserve:
        parts.append(f"{reserve} for the reserve")
    return copied + (unpacked or 0) + (reserve or 0), ", ".join(parts)


def choose(units: Iterable[Unit], need: int) -> list[Unit] | None:
    """Choose units that free at least `need` bytes; None where all together do not.

    From the highest tier down: so few of it that, with the largest of it and all of the lower
    tiers, the need is met. Then, largest first, each is exchanged for the smallest of its tier
    that still meets the need, the oldest of those.
    """
    pool = sorted(units, key=lambda unit: (unit.tier, unit.frees))
    if sum(unit.frees for unit in pool) < need:
        return None
    if need <= 0:
        return []
    chosen: list[Unit] = []
    for tier in sorted({unit.tier for unit in pool}, reverse=True):
        below = sum(unit.frees for unit in pool if unit.tier < tier)
        above = sum(unit.frees for unit in chosen)
        for unit in sorted(
            (unit for unit in pool if unit.tier == tier), key=lambda unit: -unit.frees
        ):
            if above + below >= need:
                break
            chosen.append(unit)
            above += unit.frees
    return _tightened(chosen, pool, need)


def _tightened(chosen: list[Unit], pool: list[Unit], need: int) -> list[Unit]:
    """Exchange units within their tier for smaller ones, as long as the need is met."""
    beyond = sum(unit.frees for unit in chosen) - need
    picked = list(chosen)
    for at, unit in sorted(enumerate(chosen), key=lambda pair: -pair[1].frees):
        taken = {other.places for other in picked}
        options = [
            other
            for other in pool
            if other.tier == unit.tier
            and unit.frees - other.frees <= beyond
            and (other is unit or other.places not in taken)
        ]
        best = min(options, key=lambda other: (other.frees, other.age, str(other.places[0])))
        beyond -= unit.frees - best.frees
        picked[at] = best
    return _in_order(picked)


def _in_order(units: list[Unit]) -> list[Unit]:
    """Lowest tier first, then oldest, then by name."""
    return sorted(units, key=lambda unit: (unit.tier, unit.age, str(unit.places[0])))


def units_of(found: list[Standing], one: JudgedMember, volume: Volume, cluster: int) -> list[Unit]:
    """The units of a volume that may go, unlocked or not."""
    by_place = {standing.place: standing for standing in found}
    in_sets: dict[Place, list[Place]] = {}
    for place, image in one.sets.items():
        for package in image.parts:
            in_sets.setdefault(package, []).append(place)
    units = []
    for standing in found:
        if standing.place.volume != volume.name or standing.tier is None:
            continue
        if standing.place in one.sets:
            packages = one.sets[standing.place].parts
            own = [by_place[p] for p in packages if len(in_sets[p]) == 1 and p in by_place]
            units += _set_unit(standing, own, one, cluster)
        elif standing.place not in in_sets:
            units.append(_unit(standing, [standing], standing.tier, standing.why, cluster))
    return units


def _set_unit(
    standing: Standing, own: list[Standing], one: JudgedMember, cluster: int
) -> list[Unit]:
    tiers = [package.tier for package in own]
    if None in tiers or standing.tier is None:
        return []
    tier, why = standing.tier, standing.why
    if tier > 1 and tier < 5 and own:
        worst = max(own, key=lambda package: package.tier or 0)
        tier, why = worst.tier or tier, worst.why
    broken = one.sets[standing.place].judgement
    if tier < 5 and broken.verdict in ("altered", "cut-short"):
        tier, why = 1, f"{broken.verdict} and nothing refers to it: {broken.why}"
    return [_unit(standing, [standing, *own], tier, why, cluster)]


def _unit(standing: Standing, files: list[Standing], tier: Tier, why: str, cluster: int) -> Unit:
    times = [one.file.modified.timestamp() for one in files if one.file.modified is not None]
    return Unit(
        standing=standing,
        places=tuple(one.place for one in files),
        tier=tier,
        why=why,
        frees=sum(_clusters(one.file.size or 0, cluster) for one in files),
        age=max(times, default=_LATE),
    )


def _volume_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume,
    walk: DeviceWalk,
    found: list[Standing],
    wanted: int,
    note: str,
    unlocked: frozenset[Unlock],
) -> CleanupPlan:
    assert volume.free is not None
    units = units_of(found, one, volume, _cluster(judged, volume))
    open_units = [u for u in units if u.tier not in LOCKED or LOCKED[u.tier] in unlocked]
    need = wanted - volume.free
    chosen = choose(open_units, need)
    enough = chosen is not None
    going = chosen if chosen is not None else _in_order(open_units)
    after = volume.free + sum(unit.frees for unit in going)
    replayed = _replayed(judged, one.member, volume, walk, going)
    return CleanupPlan(
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
        drop=tuple(_drop(unit) for unit in going),
        keep=_keeps(found, volume, going, units, one),
        locked=_locked(units, unlocked, wanted - after),
        note=note,
    )


def _drop(unit: Unit) -> Drop:
    return Drop(
        place=str(unit.standing.place),
        frees=unit.frees,
        tier=unit.tier,
        why=unit.why,
        role=unit.standing.role,
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
    found = []
    for tier, name in LOCKED.items():
        of_tier = [unit for unit in units if unit.tier == tier and name not in unlocked]
        adds = sum(unit.frees for unit in of_tier)
        if of_tier and short > 0:
            places = tuple(str(unit.standing.place) for unit in of_tier)
            found.append(Locked(tier=tier, adds=adds, enough=adds >= short, places=places))
    return tuple(found)


def _replayed(
    judged: JudgedDevice, member: Member, volume: Volume, walk: DeviceWalk, going: list[Unit]
) -> DeviceWalk:
    """Replay the plan and return the walk after it; raise PlanDefectError where it is worse.

    Where the walk visits something that goes, every step is replayed: a stop at any point has to
    be safe. What no walk visits changes none, so that the end speaks for every step.
    """
    before = next(each for each in walk.members if each.member == member.id)
    visited = {candidate.place for candidate in before.tried}
    touched = any(str(place) in visited for unit in going for place in unit.places)
    steps = range(1, len(going) + 1) if touched else [len(going)]
    replayed = walk
    for step in steps if going else []:
        replayed = _replay(judged, member, volume, going[:step])
        after = next(each for each in replayed.members if each.member == member.id)
        if _worse(before, after) and not any(unit.tier in LOCKED for unit in going):
            raise PlanDefectError(
                f"{judged.device.device}, member {member.id}: the plan would change the next start "
                f"from {before.outcome} to {after.outcome}; do not follow it, report it"
            )
    return replayed


def _replay(judged: JudgedDevice, member: Member, volume: Volume, going: list[Unit]) -> DeviceWalk:
    """Walk the device as it is once the units are gone."""
    gone = {place.path for unit in going for place in unit.places}
    left = replace(
        volume,
        files=tuple(file for file in volume.files or () if file.path not in gone),
        sets=None
        if volume.sets is None
        else tuple(each for each in volume.sets if each.set_file not in gone),
        free=None,
    )
    return walk_device(judge_device(_with(judged.device, member, left), judged.judge))


def _with(device: Device, member: Member, volume: Volume) -> Device:
    volumes = tuple(volume if v.name == volume.name else v for v in member.volumes or ())
    changed = replace(member, volumes=volumes)
    members = tuple(changed if m.id == member.id else m for m in device.members or ())
    return replace(device, members=members)


def _worse(before: MemberWalk, after: MemberWalk) -> bool:
    """Whether the second walk is worse: a worse outcome, or another start."""
    rank = RELOADS_WORST_FIRST.index
    return rank(after.outcome) < rank(before.outcome) or (
        before.starts is not None and after.starts != before.starts
    )


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


def _holds_its_image(judged: JudgedDevice, member: Member) -> bool:
    """Whether images go into banks that hold them, not onto a volume."""
    if judged.judge.sheet.start.layout == "files":
        return False
    return bool(member.banks) and not any(bank.places for bank in member.banks or ())


def _bank_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    member_walk: MemberWalk,
    walk: DeviceWalk,
    free: int | None,
    room_for: KnownRelease | None,
) -> CleanupPlan:
    """Name the bank to write to: never the one that runs, nor the only one that starts."""
    running = judged.device.running.bank
    starts = member_walk.starts.place.removeprefix("bank:") if member_walk.starts else None
    can_start = [name for name, i in one.banks.items() if i.judgement.verdict == "proven"]
    states = {"empty": 0, "bad": 1}
    choices = [
        bank.name
        for bank in sorted(one.member.banks or (), key=lambda bank: states.get(bank.state or "", 2))
        if bank.name not in (running, starts) and [bank.name] != can_start
    ]
    if member_walk.outcome == "unknown":
        choices, note = (
            [],
            f"what starts next is not known ({member_walk.note}), so none may be written",
        )
    elif running is None:
        choices, note = [], "which bank runs is not known, so none may be written"
    elif choices:
        note = f"write to bank {choices[0]}: it neither runs nor starts next"
    else:
        note = "every bank runs, starts next or is the only proven one"
    wanted = free if free is not None else max(room_for.sizes, default=0) if room_for else 0
    return CleanupPlan(
        device=judged.device.device,
        member=one.member.id,
        volume=None,
        free=None,
        wanted=wanted,
        enough=bool(choices),
        free_after=None,
        short_by=None,
        reload_before=walk.reload,
        reload_after=walk.reload,
        bank=choices[0] if choices else None,
        note=note,
    )


def _no_plan(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume | None,
    walk: DeviceWalk,
    free: int | None,
    room_for: KnownRelease | None,
) -> CleanupPlan:
    name = volume.name if volume is not None else judged.judge.sheet.start.default_volume
    wanted = free if free is not None else max(room_for.sizes, default=0) if room_for else 0
    if volume is None:
        note = f"the volume {name or ''}: is not in the snapshot".replace(" :", "")
    elif volume.free is None:
        note = f"how much is free on {name}: is not known"
    else:
        note = f"the files of {name}: are not known"
    return CleanupPlan(
        device=judged.device.device,
        member=one.member.id,
        volume=name,
        free=volume.free if volume is not None else None,
        wanted=wanted,
        enough=False,
        free_after=None,
        short_by=None,
        reload_before=walk.reload,
        reload_after=walk.reload,
        note=note,
    )

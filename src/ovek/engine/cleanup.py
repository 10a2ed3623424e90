"""The cleanup plan of a member in numbers: which units go to reach an amount of free space.

What may go at all is `hold`, how much it would be missed `tier`, what goes together `units`, which
of it goes and where an image lands the choices of `plan`. All of it is then tried out: where any
point is worse for any member than before, the plan is refused by name, and every other member and
device still gets its own. Only what a person unlocked by name may make it worse. The steps are
those of the device's plan.
"""

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import NO_RATES, Rates, content_of
from ovek.engine.choose import DropUnit
from ovek.engine.hold import HeldFile
from ovek.engine.layouts import layout_named, layout_of
from ovek.engine.layouts.writing import Spot, Writing, elsewhere, image_volume
from ovek.engine.plan import Asked, plan
from ovek.engine.plan.bringing import deletions
from ovek.engine.plan.situation import Situation, Trial, begin, tried
from ovek.engine.plan.space_choices import (
    Case,
    Chosen,
    Goal,
    SpaceAsked,
    cases_of,
    choices_for,
    choose_on,
)
from ovek.engine.replay import footprint
from ovek.engine.room import no_room_to_plan, sized
from ovek.engine.rules import Subject
from ovek.engine.runbook import steps_of
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.engine.wanted import Wanted
from ovek.model.change import Change, Copy, WriteBank
from ovek.model.do import Do
from ovek.model.ofdevice import of_device
from ovek.model.place import BANK, Place
from ovek.model.plan import LOCKED, CleanupPlan, Drop, Keep, Locked, Lost, Room, Unlock
from ovek.model.runbook import RunbookStep
from ovek.model.size import show_size
from ovek.model.snapshot import Volume
from ovek.model.walk import DeviceWalk


def plan_device(judged: JudgedDevice, asked: SpaceAsked) -> list[CleanupPlan]:
    """Plan for every member of a device, in numbers."""
    walk, running = walk_device(judged), runs_of(judged)
    if asked.room.release is not None:
        release = sized(asked.room.release, judged, asked.sizes)
        asked = replace(asked, room=replace(asked.room, release=release))
    return [
        _plan_member(case) for case in cases_of(judged, judged.members or (), walk, running, asked)
    ]


def no_plans(judged: JudgedDevice, room: Room, note: str) -> list[CleanupPlan]:
    """A plan that says why there is none, for every member of a device."""
    walk, sheet = walk_device(judged), judged.judge.sheet
    return [
        _no_plan(judged, one, image_volume(sheet, one.member), walk, _wanted_of(room), note)
        for one in judged.members or ()
    ]


def _plan_member(case: Case) -> CleanupPlan:
    room, sheet = case.asked.room, case.judged.judge.sheet
    volume = image_volume(sheet, case.one.member)
    if room.release is None:
        note = no_room_to_plan(volume, sheet, room)
        if volume is None and layout_named(sheet.boot.layout).into_banks(case.one.member):
            note = "this device stores images in banks, not in files; use --room-for IMAGE"
        if note or volume is None:
            return _nothing(case, volume, note)
        wanted = None if room.sweep is not None else _wanted_of(room, volume)
        return _tried_out(case, choose_on(case, volume, Goal(wanted=wanted)))
    found = choices_for(case, room.release)
    if isinstance(found, str):
        return _nothing(case, volume, found)
    refused: CleanupPlan | None = None
    for chosen in found:
        found_plan = _tried_out(case, chosen)
        if not found_plan.refused:
            return found_plan
        refused = refused or found_plan
    assert refused is not None
    return refused


def _tried_out(case: Case, chosen: Chosen) -> CleanupPlan:
    """What a choice comes to; refused where it does harm that nobody unlocked."""
    plan = _in_bank(case, chosen) if chosen.volume is None else _on_volume(case, chosen)
    now = Situation(
        judged=case.judged, walk=case.walk, running=case.running, wanted=Wanted(),
        policy=case.asked.policy, shelf=case.asked.shelf,
    )  # fmt: skip
    changes = [*deletions(now, case.one, chosen.going), *_brings(case, chosen)]
    if _is_quiet(case, chosen, changes):
        return plan
    unlocked = any(unit.tier in LOCKED for unit in chosen.going)
    done = tried(begin(now), changes, _meant(chosen), "image", bold=unlocked)
    if isinstance(done, str):
        return _refused(plan, done)
    deleted = [each for each in done.stages if not isinstance(each.change, Copy | WriteBank)]
    walk = deleted[-1].walk if deleted else case.walk
    after = _started(walk, case.one.member.id)
    return replace(plan, next_boot_after=walk.next_boot, boots_after=after)


def _brings(case: Case, chosen: Chosen) -> Iterator[Change]:
    """The copy of the image, as if its digest was read at once."""
    spot, release = chosen.spot, case.asked.room.release
    if spot is None or release is None or spot.there or not chosen.able:
        return
    content = content_of(release)
    if spot.place is not None:
        yield Copy(place=spot.place, content=content, bank=spot.bank)
    else:
        yield WriteBank(member=case.one.member.id, bank=spot.bank or "", content=content)


def _is_quiet(case: Case, chosen: Chosen, changes: Sequence[Change]) -> bool:
    """Whether no walk looks at anything that changes, so that nothing has to be tried out."""
    spot, volume = chosen.spot, chosen.volume
    if not changes:
        return True
    if volume is None or (spot is not None and spot.bank is not None):
        return False
    if any(c.origin == "first-found" for each in case.walk.members for c in each.tried):
        return False
    looked_at = footprint(case.judged, case.walk)
    member = case.one.member.id
    places = [place.on(member) for unit in chosen.going for place in unit.places]
    places += [spot.place] if spot is not None and spot.place is not None else []
    folded = {(p.member, p.volume, volume.folded(p.path)) for p in looked_at}
    return not any((p.member, p.volume, volume.folded(p.path)) in folded for p in places)


def _meant(chosen: Chosen) -> frozenset[Place]:
    """Where the member is to boot from at the end."""
    spot, member = chosen.spot, chosen.one.member.id
    if spot is None or (spot.bank is None and spot.place is None):
        return frozenset()
    at = spot.place if spot.bank is None else Place(BANK, spot.bank, member)
    return frozenset({at} if at is not None else ())


def _started(walk: DeviceWalk, member: str) -> str | None:
    """What a member boots next, in words; None: nothing, or not known."""
    boots = walk.member(member).boots
    if boots is None:
        return None
    return f"{boots.version} from {boots.place}" if boots.version else boots.place


def _on_volume(case: Case, chosen: Chosen) -> CleanupPlan:
    """What a choice on a volume comes to, before it is tried out."""
    volume, member, spot, goal = chosen.volume, case.one.member.id, chosen.spot, chosen.goal
    assert volume is not None
    assert volume.free is not None
    after = volume.free + sum(unit.frees for unit in chosen.going)
    if volume.capacity is not None:
        after = max(volume.free, min(after, volume.capacity))
    wanted = after if goal.wanted is None else goal.wanted
    boots = _started(case.walk, member)
    plan = CleanupPlan(
        **of_device(case.judged.device),
        member=member,
        volume=volume.name,
        free=volume.free,
        wanted=wanted,
        enough=chosen.enough,
        fits=chosen.fits,
        free_after=after,
        short_by=max(0, wanted - after),
        next_boot_before=case.walk.next_boot,
        next_boot_after=case.walk.next_boot,
        boots_before=boots,
        boots_after=boots,
        capacity=volume.capacity,
        drop=_drops(chosen),
        keep=() if case.asked.detail == "numbers" else _keeps(chosen),
        bank=spot.bank if spot is not None else None,
        bank_why=spot.why if spot is not None else "",
        there=spot is not None and spot.there,
        lost=_lost(case, spot),
        made_of=goal.need,
        note="; ".join(filter(None, (_not_proven(chosen), _no_roles(case, chosen.told)))),
    )
    if plan.enough or plan.fits:
        return plan
    locked = _locked(chosen.units, case.asked.unlocked, plan.wanted - (plan.free_after or 0))
    return replace(plan, locked=locked, alternatives=tuple(_ways(case, volume, plan.wanted)))


def _in_bank(case: Case, chosen: Chosen) -> CleanupPlan:
    """The plan where banks hold their image themselves: which one to write to, or to boot."""
    member, spot = case.one.member.id, chosen.spot
    assert spot is not None
    boots = _started(case.walk, member)
    return CleanupPlan(
        **of_device(case.judged.device),
        member=member,
        volume=None,
        free=None,
        wanted=_wanted_of(case.asked.room),
        enough=True,
        free_after=None,
        short_by=None,
        next_boot_before=case.walk.next_boot,
        next_boot_after=case.walk.next_boot,
        boots_before=boots,
        boots_after=boots,
        bank=spot.bank,
        bank_why=spot.why,
        there=spot.there,
        lost=_lost(case, spot),
        note=spot.why,
    )


def _refused(plan: CleanupPlan, why: str) -> CleanupPlan:
    """The plan that would do harm: none, because of that."""
    return replace(
        plan,
        enough=False,
        refused=True,
        free_after=None,
        short_by=None,
        drop=(),
        locked=(),
        alternatives=(),
        fits=False,
        next_boot_after=plan.next_boot_before,
        boots_after=plan.boots_before,
        note=f"refused, because during the plan {why}",
    )


def deleting(judged: JudgedDevice, asked: SpaceAsked) -> Trial:
    """The deletions where no image is asked for, with the backups before them, tried out."""
    walk, running = walk_device(judged), runs_of(judged)
    now = Situation(
        judged=judged,
        walk=walk,
        running=running,
        wanted=Wanted(),
        policy=asked.policy,
        shelf=asked.shelf,
    )
    trial, sheet = begin(now), judged.judge.sheet
    for case in cases_of(judged, judged.members or (), walk, running, asked):
        volume = image_volume(sheet, case.one.member)
        if volume is None or no_room_to_plan(volume, sheet, asked.room):
            continue
        wanted = None if asked.room.sweep is not None else _wanted_of(asked.room, volume)
        chosen = choose_on(case, volume, Goal(wanted=wanted))
        bold = any(unit.tier in LOCKED for unit in chosen.going)
        changes = tuple(deletions(now, case.one, chosen.going))
        done = tried(trial, changes, frozenset(), "image", bold=bold)
        trial = done if isinstance(done, Trial) else trial
    return trial


def with_steps(
    subject: Subject, plans: list[CleanupPlan], asked: Asked, rates: Rates = NO_RATES
) -> list[CleanupPlan]:
    """Plans for an image with the steps of the device's plan up to the copy, each its member's."""
    made = plan(subject, asked)
    trial = made.course.trial
    steps = _up_to_the_copy(tuple(steps_of(made.before, trial, subject.shelf, rates)))
    barred = tuple(dict.fromkeys(each.why for each in made.barred))
    return _each_its_own(subject.judged, plans, steps, barred)


def with_deletions(
    judged: JudgedDevice, plans: list[CleanupPlan], asked: SpaceAsked, rates: Rates = NO_RATES
) -> list[CleanupPlan]:
    """Plans for space alone, with their deletions as steps."""
    trial = deleting(judged, asked)
    before = Situation(
        judged=judged, walk=walk_device(judged), running=runs_of(judged), wanted=Wanted(),
        policy=asked.policy,
    )  # fmt: skip
    return _each_its_own(judged, plans, tuple(steps_of(before, trial, rates=rates)), ())


def _up_to_the_copy(steps: tuple[RunbookStep, ...]) -> tuple[RunbookStep, ...]:
    """The steps until the first image is on every member, and its digest was read."""
    reload = next((at for at, each in enumerate(steps) if each.do.change == "reload"), len(steps))
    brings = [at for at, each in enumerate(steps[:reload]) if each.stage in ("image", "digest")]
    space = [at for at, each in enumerate(steps[:reload]) if each.stage == "free space"]
    last = max([*brings, *space], default=-1)
    return steps[: last + 1]


def _each_its_own(
    judged: JudgedDevice,
    plans: list[CleanupPlan],
    steps: tuple[RunbookStep, ...],
    barred: tuple[str, ...],
) -> list[CleanupPlan]:
    several, found = len(judged.members or ()) > 1, list[CleanupPlan]()
    for each in plans:
        ours = tuple(step for step in steps if not several or _is_of(step.do, each.member))
        danger = tuple(step.do.number for step in ours if step.do.harm)
        found.append(replace(each, steps=ours, danger=danger, barred=barred))
    return found


def _is_of(do: Do, member: str) -> bool:
    """Whether a step is made on a member; what is of the device as a whole is of each."""
    if do.member is not None:
        return do.member == member
    if do.place is None:
        return True
    return do.place.startswith(f"{member}/")


def _wanted_of(room: Room, volume: Volume | None = None) -> int:
    """The free bytes that are asked for by themselves, or the size of the image."""
    if room.share is not None:
        return int((volume.capacity or 0) * room.share) if volume is not None else 0
    if room.release is not None:
        return max(room.release.sizes, default=0)
    return room.free or 0


def _lost(case: Case, spot: Spot | None) -> Lost | None:
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
        running=case.running,
        release=release,
        shelf=case.asked.shelf,
    )
    return Lost(
        version=image.version, verdict=image.judgement.verdict, elsewhere=elsewhere(writing, image)
    )


def _not_proven(chosen: Chosen) -> str:
    """What is not proven of a choice."""
    if chosen.proven:
        return ""
    return (
        "no plan deletes fewer files; whether another choice frees fewer bytes is unknown, because "
        "the volume's cluster size is unknown"
    )


def _no_roles(case: Case, told: Sequence[HeldFile]) -> str:
    """Why nothing is offered where the sheet tells no roles."""
    sheet = case.judged.judge.sheet
    if sheet.roles or not any(each.role == "unknown" for each in told):
        return ""
    name = sheet.name
    return f"the sheet {name} has no [roles], so the purpose of its files is unknown: add [roles]"


def _ways(case: Case, volume: Volume, wanted: int) -> Iterator[str]:
    """Other ways to get there than by deleting on this volume."""
    room = case.asked.room
    if volume.capacity is not None and wanted > volume.capacity:
        yield f"the capacity of {volume.name} is {show_size(volume.capacity)}, less than is wanted"
    for other in case.one.member.volumes or ():
        stays = not other.removable or case.asked.policy.boot_from_removable
        usable = stays and not case.judged.judge.sheet.boot.holds_nothing(other)
        if other is not volume and usable and other.state == "ok" and (other.free or 0) >= wanted:
            free = show_size(other.free or 0)
            yield (
                f"another volume: {other.name} has {free} free; copy the image there and "
                "put it into the "
            )
            "boot settings"
    if room.release is not None and layout_of(case.judged).holder == "files":
        yield (
            "boot the new image from a stick in a maintenance window; after that the old image "
            "can be deleted"
        )


def _drops(chosen: Chosen) -> tuple[Drop, ...]:
    roles = {each.place: each.role for each in chosen.told}
    return tuple(
        Drop(
            place=str(unit.places[0]),
            frees=unit.frees,
            tier=unit.tier,
            why=unit.why,
            role=roles[unit.places[0]],
            files=tuple(str(place) for place in unit.places),
        )
        for unit in chosen.going
    )


def _keeps(chosen: Chosen) -> tuple[Keep, ...]:
    """Every file of the volume that stays, and why."""
    assert chosen.volume is not None
    gone = {place for unit in chosen.going for place in unit.places}
    tiers = {place: unit.tier for unit in chosen.units for place in unit.places}
    keeps = []
    for place, file, role, reasons in chosen.told:
        if place.volume != chosen.volume.name or place in gone:
            continue
        tier = tiers.get(place)
        why = tuple(reason.text for reason in reasons)
        if not why:
            why = ("not needed for this plan",) if tier else (_stays_with(place, chosen.one),)
        keeps.append(Keep(place=str(place), why=why, role=role, size=file.size, tier=tier))
    return tuple(keeps)


def _stays_with(place: Place, member: JudgedMember) -> str:
    users = sorted(str(each) for each, image in member.sets.items() if place in image.parts)
    if len(users) > 1:
        return f"shared by the package sets {' and '.join(users)}"
    return "its package set is kept"


def _locked(
    units: Sequence[DropUnit], unlocked: frozenset[Unlock], short: int
) -> tuple[Locked, ...]:
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


def _nothing(case: Case, volume: Volume | None, note: str) -> CleanupPlan:
    wanted = _wanted_of(case.asked.room)
    return _no_plan(case.judged, case.one, volume, case.walk, wanted, note)


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
        volume=volume.name if volume is not None else judged.judge.sheet.boot.default_volume,
        free=volume.free if volume is not None else None,
        wanted=wanted,
        enough=False,
        free_after=None,
        short_by=None,
        next_boot_before=walk.next_boot,
        next_boot_after=walk.next_boot,
        capacity=volume.capacity if volume is not None else None,
        note=note,
    )

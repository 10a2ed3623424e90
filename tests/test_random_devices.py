"""What holds for every device, on thousands of random ones (`builders.chance`).

`OVEK_CASES=20 python -m pytest tests/test_random_devices.py` goes through twenty times as many;
docs/working.md tells what that takes. A failure names its seed: `Chance(seed).case()` is the case.
"""

import os
from itertools import combinations
from random import Random

import pytest
from msgspec.structs import replace

import plain
from builders import NOW
from builders.chance import Case, Chance, cases
from ovek.engine.audit import Terms, audit_judged
from ovek.engine.bootwalk import walk_device
from ovek.engine.cleanup import plan_device
from ovek.engine.compare import compare_device
from ovek.engine.hold import Holds, Wishes
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.releases import ReleaseIndex
from ovek.engine.runs import runs_of
from ovek.engine.tier import Tiers
from ovek.engine.units import units_of
from ovek.engine.verdicts import judge_device, judge_for
from ovek.engine.wanted import Wants
from ovek.model.catalog import Origin, Published
from ovek.model.plan import CleanupPlan, Room
from ovek.model.snapshot import BootEntry, Device

TIMES = int(os.environ.get("OVEK_CASES", "1"))
BLOCKS = range(1 if "OVEK_QUICK" in os.environ else 2)


def block(number: int, size: int, **more):
    """One of eight blocks of cases, which are shared out to the processes of pytest."""
    return cases(number * 1_000_000, size * TIMES, **more)


def target(case: Case):
    return next(one for one in case.judged().judge.releases.releases if one.file == "sw-3.0.img")


def rooms(case: Case) -> tuple[Room, ...]:
    return Room(free=case.free), Room(sweep=4), Room(release=target(case))


def plans(case: Case, room: Room, what: Device | None = None, **more) -> list[CleanupPlan]:
    asked = SpaceAsked(policy=case.policy, room=room, shelf=case.shelf, keep=case.keep, **more)
    found = case.judged(what)
    if room.release is not None:  # each index makes its own
        release = next(
            one for one in found.judge.releases.releases if one.file == room.release.file
        )
        asked = replace(asked, room=Room(release=release))
    return plan_device(found, asked)


def gone(plan: CleanupPlan) -> list[plain.Where]:
    """What a plan deletes, in its order: member, volume and path."""
    files = [place for drop in plan.drop for place in drop.files]
    return [(plan.member, plan.volume or "", place.partition(":")[2]) for place in files]


def offered(case: Case, what: Device | None = None) -> set[tuple[str, str]]:
    """Every file that may go without an unlock."""
    found = plans(case, Room(sweep=4), what)
    return {(plan.member, place) for plan in found for drop in plan.drop for place in drop.files}


def audited(case: Case, what: Device | None = None):
    judged = case.judged(what)
    wants = Wants(case.policy)
    return audit_judged(judged, wants, Terms(now=NOW, plans=False))


@pytest.mark.parametrize("number", BLOCKS)
def test_no_plan_worsens_the_walk_of_any_member_at_any_step_nor_takes_what_is_held(number):
    for case in block(number, 60):
        walk = walk_device(case.judged())
        for room in rooms(case):
            for plan in plans(case, room):
                dropped = gone(plan)
                assert not plain.worst_on_the_way(case, dropped), (case.seed, room)
                for member, name, path in set(dropped) - replaced(case, plan):
                    volume = plain.volume_of(case.device, member, name)
                    file = next(file for file in volume.files if file.path == path)
                    assert not plain.is_held(case, walk, member, volume, file), (case.seed, path)


def replaced(case: Case, plan: CleanupPlan) -> set[plain.Where]:
    """The files of the bank that a plan writes to: what they are now goes first."""
    if plan.bank is None:
        return set()
    member = next(one for one in case.device.members or () if one.id == plan.member)
    bank = member.bank(plan.bank)
    return {plain.spelled(case.device, plan.member, place) for place in bank.places or ()}


@pytest.mark.parametrize("number", BLOCKS)
def test_a_plan_is_the_same_whether_numbers_or_files_are_asked_for(number):
    for case in block(number, 40):
        for room in rooms(case):
            told = [
                [replace(plan, keep=(), steps=()) for plan in plans(case, room, detail=detail)]
                for detail in ("numbers", "files")
            ]
            assert told[0] == told[1], (case.seed, room)


@pytest.mark.parametrize("number", BLOCKS)
def test_a_plan_for_more_frees_at_least_as_much(number):
    for case in block(number, 60):
        chance = Random(case.seed)
        less, more = sorted(chance.sample(range(0, 2 * 10**9), 2))
        for first, second in zip(
            plans(case, Room(free=less)), plans(case, Room(free=more)), strict=True
        ):
            if first.free_after is not None and second.free_after is not None:
                assert second.free_after >= first.free_after, case.seed
                assert second.capacity is None or second.free_after <= second.capacity


def without_a_fact(what: Device):
    """Every device that lacks one fact of this one, and which."""
    for name in ("version", "variant", "place", "bank"):
        if getattr(what.running, name) is not None:
            yield name, replace(what, running=replace(what.running, **{name: None}))
    for name in ("model", "revision"):
        if getattr(what.hardware, name) is not None:
            yield name, replace(what, hardware=replace(what.hardware, **{name: None}))
    yield from _less(what, "clock")
    for at, member in enumerate(what.members or ()):
        for name, less in _less_of_member(member):
            members = (*what.members[:at], less, *what.members[at + 1 :])
            yield name, replace(what, members=members)


def _less(thing, *names):
    for name in names:
        if getattr(thing, name) is not None:
            yield name, replace(thing, **{name: None})


def _less_of_member(member):
    yield from _less(member, "running_version", "volumes", "banks", "boot", "components")
    boot = member.boot
    for name in ("mode", "order", "default_bank") if boot is not None else ():
        setting = getattr(boot, name)
        for half, less in _less(setting, "live", "saved"):
            yield f"{name} {half}", replace(member, boot=replace(boot, **{name: less}))
        entries = setting.saved or () if name == "order" else ()
        for at, entry in enumerate(entries):
            if entry.place is not None:
                raw = (*entries[:at], BootEntry(raw="what is this"), *entries[at + 1 :])
                order = replace(setting, saved=raw)
                yield "entry", replace(member, boot=replace(boot, order=order))
    for at, volume in enumerate(member.volumes or ()):
        for name, less in _less_of_volume(volume):
            volumes = (*member.volumes[:at], less, *member.volumes[at + 1 :])
            yield name, replace(member, volumes=volumes)
    for at, bank in enumerate(member.banks or ()):
        for name, less in _less(bank, "state", "version", "variant", "digests", "places"):
            banks = (*member.banks[:at], less, *member.banks[at + 1 :])
            yield f"bank {name}", replace(member, banks=banks)


def _less_of_volume(volume):
    yield from _less(volume, "state", "filesystem", "files", "sets", "free", "capacity", "cluster")
    yield from _less(volume, "removable")
    for at, file in enumerate(volume.files or ()):
        for name, less in _less(file, "size", "modified", "digests"):
            files = (*volume.files[:at], less, *volume.files[at + 1 :])
            yield f"{name} of {file.path}", replace(volume, files=files)


def says(audit):
    return {(finding.rule, finding.place, finding.seen) for finding in audit.findings}


@pytest.mark.parametrize("number", BLOCKS)
def test_a_fact_less_offers_nothing_more_proves_nothing_and_silences_nothing(number):
    for case in block(number, 5, asks=True):
        before, may_go = audited(case), offered(case)
        proven = {image.place for image in before.images if image.verdict == "proven"}
        rules = {finding.rule for finding in before.findings}
        for name, what in without_a_fact(case.device):
            where = (case.seed, name)
            more = offered(case, what) - may_go
            after = audited(case, what)
            now_proven = {image.place for image in after.images if image.verdict == "proven"}
            more |= {("", place) for place in now_proven - proven}
            assert not more or now_readable(case, what), where
            more = says(after) - says(before)
            if after.next_boot == "proven" and before.next_boot != "proven":
                # Where the saved settings are not known the live ones are walked: that is told.
                assert any("live ones were walked" in seen for _, _, seen in more), where
            if rules - {finding.rule for finding in after.findings}:
                assert more or nobody_would_know(name), where


def now_readable(case: Case, what: Device) -> bool:
    """Whether a volume that surely could not be read now may be: its format is not known.

    What is listed may be read, unless the format forbids it.
    """
    return any(
        old.filesystem is not None
        and new.filesystem is None
        and not case.sheet.boot.can_read(old.filesystem)
        for was, now in zip(case.device.members or (), what.members or (), strict=True)
        for old, new in zip(was.volumes or (), now.volumes or (), strict=False)
    )


def nobody_would_know(name: str) -> bool:
    """Whether it is the digest of a file by whose name alone it is no image."""
    return (name.startswith("digests of") and not name.rpartition("/")[2].endswith(".img")) or (
        "SW-" in name
    )


def shuffled(case: Case, chance: Random) -> Case:
    """The same case with all that has no order in another one."""
    members = []
    for member in case.device.members or ():
        volumes = member.volumes
        if volumes is not None:
            if case.sheet.boot.default_volume is not None:
                volumes = mixed(volumes, chance)
            volumes = tuple(
                replace(each, sets=each.sets and mixed(each.sets, chance)) for each in volumes
            )
            if case.sheet.boot.fallback != "first-found" and not first_found(member):
                volumes = tuple(
                    replace(each, files=each.files and mixed(each.files, chance))
                    for each in volumes
                )
        components = member.components and mixed(member.components, chance)
        banks = member.banks
        if case.sheet.boot.fallback == "none":
            banks = banks and mixed(banks, chance)
        members.append(replace(member, volumes=volumes, components=components, banks=banks))
    catalog = list(case.catalog)
    chance.shuffle(catalog)
    catalog = [
        Published(each.release, Origin(each.origin.file, 0), each.publisher) for each in catalog
    ]
    what = replace(case.device, members=mixed(tuple(members), chance))
    return Case(
        seed=case.seed,
        device=what,
        sheet=case.sheet,
        catalog=catalog,
        policy=case.policy,
        free=case.free,
        keep=case.keep,
        shelf=case.shelf,
    )


def first_found(member) -> bool:
    mode = member.boot.mode if member.boot is not None else None
    return mode is None or "first-found" in (mode.live, mode.saved)


def mixed(things, chance: Random):
    things = list(things)
    chance.shuffle(things)
    return tuple(things)


def in_any_order(thing) -> object:
    """An answer with what has no order in one."""
    return sorted(map(str, thing))


@pytest.mark.parametrize("number", BLOCKS)
def test_no_answer_depends_on_the_order_of_what_has_none(number):
    for case in block(number, 50):
        # Lines tell where a release stood, and are no part of the answer.
        case = Case(**{**vars(case), "catalog": [
            Published(each.release, Origin(each.origin.file, 0), each.publisher)
            for each in case.catalog
        ]})  # fmt: skip
        other = shuffled(case, Random(case.seed))
        ours, theirs = audited(case), audited(other)
        assert ours.next_boot == theirs.next_boot, case.seed
        assert in_any_order(ours.images) == in_any_order(theirs.images), case.seed
        assert ours.findings == theirs.findings, case.seed
        for room in rooms(case):
            told = [
                in_any_order(
                    (each.member, each.enough, each.drop, each.bank, each.free_after, each.refused)
                    for each in plans(one, room)
                )
                for one in (case, other)
            ]
            assert told[0] == told[1], (case.seed, room)


@pytest.mark.parametrize("number", BLOCKS)
def test_a_compare_with_itself_is_empty(number):
    for case in block(number, 60):
        judged = case.judged()
        answer = compare_device(judged, case.judged())
        assert (answer.outcome, answer.changes) == ("same", ()), case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_what_is_said_of_a_device_does_not_depend_on_the_devices_beside_it(number):
    """Halves of a snapshot give the halves of the answers."""
    for at in range(12 * TIMES):
        some = [Chance(number * 1_000_000 + at * 6 + one).case() for one in range(6)]
        first = replace(some[0].sheet, name="switch")
        catalog, policy = some[0].catalog, some[0].policy
        devices = [replace(case.device, device=f"sw{at}") for at, case in enumerate(some)]

        def audits(devices, first=first, catalog=catalog, policy=policy, at=at):
            judge = judge_for(first, ReleaseIndex(catalog))
            wants = Wants(policy)
            terms = Terms(now=NOW, plans=at == 0)
            return [audit_judged(judge_device(each, judge), wants, terms) for each in devices]

        whole = audits(devices)
        assert whole == audits(devices[:3]) + audits(devices[3:])
        assert whole[::-1] == audits(devices[::-1])


@pytest.mark.parametrize("number", BLOCKS)
def test_what_goes_is_the_least_of_all_subsets_of_the_units(number):
    for case in block(number, 40):
        found = case.judged()
        holds = Holds(
            found, walk_device(found), runs_of(found), Wishes(policy=case.policy, keep=case.keep)
        )
        for one, plan in zip(found.members or (), plans(case, Room(free=case.free)), strict=True):
            volume = plain.volume_of(case.device, plan.member, plan.volume or "")
            if plan.short_by is None or volume is None:
                continue
            told = holds.of_member(one)
            tiers = Tiers(one, told, case.shelf, frozenset())
            units = units_of(one, volume, told, tiers, volume.cluster or 1)
            units = [unit for unit in units if unit.tier < 5]
            if len(units) > 10:
                continue
            best = min(enough(units, case.free - volume.free), default=None)
            assert plan.enough == (best is not None), case.seed
            if best is not None:
                assert cost(units, {drop.place for drop in plan.drop}) == best, case.seed


def enough(units, need: int):
    """The cost of every subset that frees so much."""
    for number in range(len(units) + 1):
        for chosen in combinations(units, number):
            if sum(unit.frees for unit in chosen) >= need:
                yield cost(units, {str(unit.places[0]) for unit in chosen})


def cost(units, names: set[str]):
    """Numbers by tier, the highest first; then bytes; then how old and how named."""
    chosen = [unit for unit in units if str(unit.places[0]) in names]
    numbers = tuple(sum(unit.tier == tier for unit in chosen) for tier in (4, 3, 2, 1))
    ranks = sorted((unit.age, unit.places[0].path) for unit in chosen)
    return numbers, sum(unit.frees for unit in chosen), ranks

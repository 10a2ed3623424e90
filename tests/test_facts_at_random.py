"""The same facts in every command, on random devices: a plain second reading of the pages."""

import os
from collections.abc import Iterator

import pytest
from msgspec.structs import replace

from builders import NOW
from builders.chance import Case, cases
from ovek.engine.audit import Terms, audit_judged
from ovek.engine.bootwalk import walk_device
from ovek.engine.catalog import pick
from ovek.engine.cleanup import plan_device
from ovek.engine.compare import on_target
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.wanted import Wants
from ovek.model.catalog import Origin, Published
from ovek.model.place import parse_place
from ovek.model.plan import Room
from ovek.model.snapshot import Device, Volume

TIMES = int(os.environ.get("OVEK_CASES", "1"))
BLOCKS = range(1 if "OVEK_QUICK" in os.environ else 2)


def block(number: int, size: int, **more) -> Iterator[Case]:
    return cases(5_000_000 + number * 1_000_000, size * TIMES, **more)


def audited(case: Case, what: Device | None = None):
    judged = case.judged(what)
    terms = Terms(now=NOW, plans=False)
    return audit_judged(judged, Wants(case.policy), terms)


@pytest.mark.parametrize("number", BLOCKS)
def test_the_answer_is_what_the_design_says_of_the_next_boot(number):
    for case in block(number, 80):
        found = audited(case)
        critical = [
            one for one in found.findings if one.severity == "critical" and one.waived is None
        ]
        running = {one.member: one.running for one in found.boots}
        boots = {one.member: one.version for one in found.boots}
        proven = found.next_boot == "proven"
        aims = {found.target} - {None}
        meant = [
            boots[name] is not None and boots[name] in {running[name], *aims} for name in boots
        ]
        if found.answer == "go":
            assert proven, case.seed
            assert not critical, case.seed
            assert all(meant), case.seed
        stray = proven and any(
            running[name] is not None and boots[name] not in {running[name], *aims}
            for name in boots
        )
        if found.next_boot == "stranded" or critical or (stray and aims):
            assert found.answer == "no-go", case.seed
        if found.answer == "no-go":
            assert found.next_boot == "stranded" or critical or (proven and aims), case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_what_is_unclear_has_a_finding_that_says_why(number):
    for case in block(number, 100):
        found = audited(case)
        if found.answer == "unclear" or found.next_boot in ("unproven", "unknown"):
            assert found.findings, case.seed
        if found.answer == "go":
            assert not found.why, case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_on_target_is_what_the_members_run_and_start(number):
    for case in block(number, 80):
        judged, found = case.judged(), audited(case)
        assert found.on_target == on_target(judged, walk_device(judged), found.target), case.seed
        pairs = [(one.running, one.version) for one in found.boots]
        if found.target is None:
            assert found.on_target is None, case.seed
        elif found.on_target:
            assert pairs, case.seed
            assert all(pair == (found.target, found.target) for pair in pairs), case.seed
            assert found.next_boot != "stranded", case.seed
        elif any(None not in pair and set(pair) != {found.target} for pair in pairs):
            assert found.on_target is False, case.seed


def unread(case: Case) -> Iterator[tuple[str, Volume]]:
    """The volumes that a device surely cannot read."""
    for one in case.device.members or ():
        for volume in one.volumes or ():
            reads, system = case.sheet.boot.reads, volume.filesystem
            foreign = reads is not None and system is not None and system not in reads
            if volume.files is not None and (foreign or volume.state in ("absent", "unreadable")):
                yield one.id, volume


def emptied(what: Device, gone: list[tuple[str, Volume]]) -> Device:
    """The device without the files of some volumes."""
    names = {(member, volume.name) for member, volume in gone}
    members = tuple(
        replace(
            one,
            volumes=one.volumes
            and tuple(
                replace(volume, files=(), sets=()) if (one.id, volume.name) in names else volume
                for volume in one.volumes
            ),
        )
        for one in what.members or ()
    )
    return replace(what, members=members)


@pytest.mark.parametrize("number", BLOCKS)
def test_what_lies_where_nobody_can_read_it_starts_nothing_and_saves_nothing(number):
    seen = 0
    for case in block(number, 200):
        hidden = list(unread(case))
        if not hidden:
            continue
        seen += 1
        less = emptied(case.device, hidden)
        ours, theirs = walk_device(case.judged()), walk_device(case.judged(less))
        for one, other in zip(ours.members, theirs.members, strict=True):
            told = (one.outcome, one.boots, one.rescue)
            assert told == (other.outcome, other.boots, other.rescue), case.seed
        names = {(member, volume.name) for member, volume in hidden}
        for one in ours.members:
            for each in (one.boots, *one.rescue):
                if each is not None and each.at is not None:
                    at = each.at
                    assert (at.member or one.member, at.volume) not in names, case.seed
        found, without = audited(case), audited(case, less)
        assert (found.answer, found.on_target) == (without.answer, without.on_target), case.seed
    assert seen


@pytest.mark.parametrize("number", BLOCKS)
def test_nobody_is_left_to_start_from_a_stick_unless_policy_says_so(number):
    for case in block(number, 80):
        removable = {
            (one.id, volume.name)
            for one in case.device.members or ()
            for volume in one.volumes or ()
            if volume.removable
        }
        if case.policy.boot_from_removable or not removable:
            continue
        for release in case.judged().judge.releases.releases[:3]:
            asked = SpaceAsked(policy=case.policy, room=Room(release=release), shelf=case.shelf)
            for plan in plan_device(case.judged(), asked):
                assert (plan.member, plan.volume) not in removable, case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_of_a_version_that_runs_and_is_gone_nothing_is_offered(number):
    for case in block(number, 150):
        device, running = case.device, case.device.running
        if len(device.members or ()) != 1 or running.place is None or running.bank is not None:
            continue
        judged, own = case.judged(), device.members[0].id
        (one,) = judged.members
        version = device.members[0].running_version or running.version
        holds = judged.image(parse_place(running.place).on(own))
        if holds is None or holds.judgement.verdict != "proven" or version is None:
            continue
        if holds.version in (None, version):
            continue
        asked = SpaceAsked(policy=case.policy, room=Room(sweep=4), shelf=case.shelf)
        gone = {
            place for plan in plan_device(judged, asked) for each in plan.drop
            for place in each.files
        }  # fmt: skip
        mine = {
            str(image.place)
            for image in (*one.images.values(), *one.sets.values())
            if image.version == version
        }
        assert not gone & mine, case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_the_same_releases_from_a_second_publisher_change_nothing(number):
    for case in block(number, 80):
        twice = [
            Published(
                replace(each.release, file=each.release.file),
                Origin("second.json", each.origin.line), "Another", each.trust,
            )
            for each in case.catalog
        ]  # fmt: skip
        double = Case(**{**vars(case), "catalog": [*case.catalog, *twice]})
        ours, theirs = audited(case), audited(double)
        assert (ours.answer, ours.next_boot, ours.target, ours.on_target) == (
            theirs.answer, theirs.next_boot, theirs.target, theirs.on_target,
        ), case.seed  # fmt: skip
        assert [(one.place, one.verdict) for one in ours.images] == [
            (one.place, one.verdict) for one in theirs.images
        ], case.seed
        asked = SpaceAsked(policy=case.policy, room=Room(sweep=4), shelf=case.shelf)
        plans, others = plan_device(case.judged(), asked), plan_device(double.judged(), asked)
        assert [one.drop for one in plans] == [one.drop for one in others], case.seed


@pytest.mark.parametrize("number", BLOCKS)
def test_the_file_that_is_picked_is_the_one_that_is_wanted(number):
    for case in block(number, 80):
        judged = case.judged()
        wanted = Wants(case.policy).of(judged)
        chosen = pick(judged, wanted)
        if wanted.release is not None and chosen.chosen is not None:
            assert chosen.chosen.file == wanted.release.file, case.seed

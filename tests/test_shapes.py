"""What is shared by devices alike is what each would have been told by itself."""

from dataclasses import replace as changed
from datetime import timedelta
from random import Random

import msgspec
import pytest
from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    NOW,
    POLICY,
    flash,
    image,
    judged,
    plain,
    published,
    release,
    sheet,
    sw,
)  # fmt: skip
from builders.chance import cases
from conftest import TIMES
from ovek import audit, open_site, select
from ovek.app.runner import Processes
from ovek.engine.audit import Terms, audit_within
from ovek.engine.bootwalk import walk_device
from ovek.engine.releases import ReleaseIndex
from ovek.engine.rules import subject_of
from ovek.engine.rules.every import RULES
from ovek.engine.runs import runs_after, runs_of
from ovek.engine.shapes import Shapes, outline, shape_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import judge_device, judge_for, rejudge
from ovek.engine.wanted import Wants
from ovek.model.bound import holds
from ovek.model.shelf import Backups, ShelfFacts
from ovek.model.snapshot import Config, Device, File, Member, Volume
from ovek.model.waiver import Waiver

DAY = timedelta(days=1)
END = (NOW + 400 * DAY).date()


def subject(case, what, shelf=None):
    ours = case.judged(what)
    return subject_of(
        ours, walk_device(ours), case.policy, Wants(case.policy).of(ours),
        times_of(what, NOW), shelf,
    )  # fmt: skip


def same(said):
    return [(each.member, each.place, each.severity, each.whole) for each in said]


@pytest.mark.parametrize("number", range(3))
def test_a_rule_looks_at_no_more_than_it_declares(number):
    names = {slug for slug, rule in RULES.items() if rule.reads == {"name"}}
    looked = set()
    for case in cases(number * 1_000_000 + 991, 80 * TIMES):
        backups = Backups(newest={}, whole=case.seed % 2 == 0)
        shelf = ShelfFacts(proven=case.shelf, broken={}, backups=backups)
        whole = subject(case, case.device, shelf)
        if any(one.cut for one in whole.judged.members or ()) or case.device.reload_at:
            continue
        bare = subject(case, outline(whole), shelf)
        for slug, rule in RULES.items():
            ours, theirs = list(rule.check(whole)), list(rule.check(bare))
            if not rule.reads:
                assert ours == theirs, (slug, case.seed)
            elif slug in names:
                assert same(ours) == same(theirs), (slug, case.seed)
            elif ours != theirs:
                looked.add(slug)
    assert looked  # and those that declare more do look at it


def like(what: Device, chance: Random, number: int) -> Device:
    """A device with the same outline: another name, other times, files and free space."""

    def file(one: File) -> File:
        moved = one.modified and one.modified - chance.choice((0, 1, 40, 400)) * DAY
        read = one.digests_at and one.digests_at - chance.choice((0, 0, 1, 50)) * DAY
        return replace(one, modified=moved, digests_at=read)

    def volume(one: Volume) -> Volume:
        if one.files is None or one.state != "ok":
            return one
        more = tuple(
            plain(f"notes-{number}-{at}.txt", chance.choice((0, MIB, 300 * MIB)))
            for at in range(chance.choice((0, 0, 1, 5)))
        )
        files = (*map(file, one.files), *more)
        free = one.free
        if free is not None:
            free = chance.choice((free, free, free // 2, 0, free + 4096))
            free = free if one.capacity is None else min(free, one.capacity)
        return replace(one, files=files, free=free)

    def member(one: Member) -> Member:
        return replace(one, volumes=one.volumes and tuple(map(volume, one.volumes)))

    days = chance.choice((0, 0, 1, 5, 30)) * DAY
    return replace(
        what,
        device=chance.choice((what.device, f"sw-{number}", "a b")),
        taken_at=what.taken_at - days,
        clock=what.clock and what.clock - days,
        members=what.members and tuple(map(member, what.members)),
    )


def sound(chance: Random) -> dict:
    """A case of a device on which little or nothing is to be done."""
    images = [image(version) for version in chance.sample(("1.0", "2.0", "3.0"), 2)]
    first = images[0].path
    config = Config(unsaved_changes=False, backed_up_at=NOW - chance.choice((1, 50)) * DAY)
    what = sw(
        *images, plain("old.log"), boots=tuple(f"flash:{each.path}" for each in images),
        place=f"flash:{first}", running=first[3:6], config=config,
    )  # fmt: skip
    return {"device": what, "sheet": sheet(), "catalog": CATALOG, "policy": POLICY}


@pytest.mark.parametrize("plans", [True, False])
@pytest.mark.parametrize("number", range(3))
def test_what_devices_alike_share_is_what_each_is_told_by_itself(number, plans):
    hits = 0
    for case in cases(number * 1_000_000 + 123, 20 * TIMES):
        chance = Random(case.seed)
        if chance.random() < 0.4:  # on which no step is left, as on most of a fleet
            case = changed(case, **sound(chance))
        roomy = replace(case.policy, reserve=chance.choice((case.policy.reserve, "1MiB", "0")))
        case = changed(case, policy=replace(roomy, snapshot_age=chance.choice(("7d", "900d"))))
        shelf = ShelfFacts(proven=case.shelf, broken={})
        wants, shapes = Wants(case.policy), Shapes(plans=plans)
        waivers = (Waiver(rule="image-unlisted", device="sw-3", until=END, by="x", why="y"),)
        terms = Terms(now=NOW, shelf=shelf, plans=plans, waivers=waivers)
        for at in range(8):
            what = like(case.device, chance, at)
            judged = case.judged(what)
            before = len(shapes._known)
            ours, bounds = audit_within(judged, wants, terms, shapes=shapes)
            alone, _ = audit_within(judged, Wants(case.policy), terms)
            assert ours == alone, (case.seed, at)
            hits += before > 0 and len(shapes._known) == before
            later = NOW + chance.choice((1, 5, 24, 240)) * timedelta(hours=1)
            if holds(bounds, later, what.taken_at, what.now):
                then, _ = audit_within(judged, Wants(case.policy), replace(terms, now=later))
                assert then == alone, (case.seed, at, later)
    assert hits > 10


def test_the_one_of_many_alike_that_is_too_full_is_told_so_and_planned_for():
    wants, shapes = Wants(replace(POLICY, reserve="100MiB", keep=1)), Shapes(plans=True)
    terms = Terms(now=NOW + 30 * DAY)  # so that all are found to be read long ago

    def found(name, free):
        volume = flash(image("1.0"), plain(f"{name}.log", 300 * MIB), free=free)
        what = replace(sw(volumes=(volume,)), device=name)
        told, _ = audit_within(judged(what), wants, terms, shapes=shapes)
        assert told == audit_within(judged(what), wants, terms)[0]
        return [each.rule for each in told.findings], [each.words for each in told.steps]

    assert found("a", 500 * MIB) == (["image-weakly-proven", "snapshot-old"], [])
    assert len(shapes._known) == 1
    assert found("b", 100 * MIB) == (["image-weakly-proven", "snapshot-old"], [])
    rules, steps = found("c", 100 * MIB - 1)
    assert rules[0] == "free-space-low" and steps == ["Delete flash:c.log"]
    assert len(shapes._known) == 1


def test_each_device_is_told_of_its_own_capacity():
    """A release needs more than either has: how much each has is in what is said."""
    big = release("9.0", hardware=("SW10",), needs={"volume": 900 * MIB})
    policy = replace(POLICY, keep=1, target="9.0", severity={"release-not-target": "off"})
    index = ReleaseIndex([*CATALOG, *published(big, file="big.json")])
    wants, shapes, told = Wants(policy), Shapes(plans=True), []
    for capacity in (600, 700):
        volume = flash(image("1.0"), capacity=capacity * MIB, free=400 * MIB)
        ours = judge_device(sw(volumes=(volume,)), judge_for(sheet(), index))
        found, _ = audit_within(ours, wants, Terms(now=NOW), shapes=shapes)
        assert found == audit_within(ours, Wants(policy), Terms(now=NOW))[0]
        told += [each.seen for each in found.findings if each.rule == "target-does-not-fit"]
    assert "600 MiB" in told[0] and "700 MiB" in told[1]


def test_a_cut_name_that_an_edit_brings_is_judged_with_the_others():
    before = judged(sw(image("1.0"), image("2.0")))
    cut = replace(image("1.0"), path="sw-", path_cut=True)
    for files in ((cut, image("2.0")), (cut, image("2.0"), plain("x")), (image("2.0"),)):
        what = sw(*files)
        after = rejudge(before, what)
        assert after == judge_device(what, before.judge)
        before = after


def test_a_waived_or_expected_device_and_one_with_cut_names_are_like_no_other():
    case = next(case for case in cases(5, 50) if case.judged().members)
    whole = subject(case, replace(case.device, reload_at=None))
    ours = Waiver(rule="x", device=case.device.device, until=NOW.date(), by="x", why="y")
    other = msgspec.structs.replace(ours, device="another")
    assert shape_of(whole, 1, (ours,)) is None
    known = shape_of(whole, 1, (other,))
    assert known is None or known == shape_of(whole, 1, ())
    assert known is None or known != shape_of(whole, 2, ())
    waits = subject(case, replace(case.device, reload_at=NOW))
    assert shape_of(waits, 1, ()) is None


@pytest.mark.parametrize("number", range(2))
def test_a_device_judged_after_an_edit_is_as_judged_anew(number):
    """Files go and come anywhere, several at once; images stay in the order of the files."""
    for case in cases(number * 1_000_000 + 55, 120 * TIMES):
        chance, judged = Random(case.seed), case.judged()
        running = runs_of(judged)
        for _ in range(4):
            what = edited(judged.device, chance)
            after = rejudge(judged, what)
            anew = judge_device(what, judged.judge)
            assert after == anew, case.seed
            for one, other in zip(after.members or (), anew.members or (), strict=True):
                assert list(one.images) == list(other.images), case.seed
            assert runs_after(judged, running, after) == runs_of(anew), case.seed
            judged, running = after, runs_of(anew)


def edited(what: Device, chance: Random) -> Device:
    """A device with some files gone, others come, and an order that names other images."""

    def volume(one: Volume) -> Volume:
        files = list(one.files or ())
        for _ in range(chance.choice((0, 1, 1, 3))):
            if files:
                files.pop(chance.randrange(len(files)))
        for at in range(chance.choice((0, 0, 1, 2))):
            name = f"sw-{chance.choice('1234')}.0.img"
            new = chance.choice((plain(f"new-{at}.txt"), image("1.0", path=name)))
            if all(new.path.casefold() != each.path.casefold() for each in files):
                files.insert(chance.randrange(len(files) + 1), new)
        return one if one.files is None else replace(one, files=tuple(files))

    def member(one: Member) -> Member:
        if chance.random() < 0.4:
            return one
        boot = one.boot
        if boot is not None and boot.order.saved and chance.random() < 0.4:
            boot = replace(boot, order=replace(boot.order, saved=boot.order.saved[::-1][:1]))
        return replace(one, boot=boot, volumes=one.volumes and tuple(map(volume, one.volumes)))

    return replace(what, members=what.members and tuple(map(member, what.members)))


def told(site, monkeypatch, *, shortcuts: bool, runner=None) -> list[bytes]:
    if shortcuts:
        monkeypatch.delenv("OVEK_NO_SHORTCUTS", raising=False)
    else:
        monkeypatch.setenv("OVEK_NO_SHORTCUTS", "1")
    found = audit(select(open_site(site), runner=runner), NOW).devices
    return [msgspec.json.encode(each) for each in found]


def test_a_fleet_says_the_same_with_every_shortcut_off_and_on_and_on_two_processes(
    tmp_path, monkeypatch
):
    from ovek.files.snapshot import write_snapshot

    chance, number = Random(9), iter(range(10_000))
    devices = []
    for free in (0, 100 * MIB, 900 * MIB):
        for images in (("1.0",), ("1.0", "2.0"), ("2.0", "3.0")):
            base = sw(volumes=(flash(*map(image, images), plain("old.log"), free=free),))
            devices += [
                replace(like(base, chance, n := next(number)), device=f"sw-{n}") for _ in "1234567"
            ]
    (tmp_path / "catalog").mkdir()
    (tmp_path / "snapshots").mkdir()
    (tmp_path / "fleet.toml").write_text('name = "alike"\n')
    kind = "".join(f'[[device]]\nname = "{one.device}"\nsheet = "oxwick-40"\n' for one in devices)
    (tmp_path / "fleet.toml").write_text(f'name = "alike"\n{kind}')
    some = [replace(one, sheet="oxwick-40") for one in devices]
    write_snapshot(tmp_path / "snapshots/one.jsonl", some)
    plain_ = told(tmp_path, monkeypatch, shortcuts=False)
    assert told(tmp_path, monkeypatch, shortcuts=True) == plain_
    assert told(tmp_path, monkeypatch, shortcuts=True) == plain_  # and as it was kept
    assert told(tmp_path, monkeypatch, shortcuts=True, runner=Processes(2)) == plain_

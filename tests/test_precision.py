"""Facts are taken for no more than they are: rounded sizes, names that a listing cut, no clock."""

import os
from datetime import datetime, timedelta
from random import Random

import pytest
from msgspec.structs import replace

import plain as second
from builders import (
    MIB,
    NOW,
    ONE,
    SIZE,
    audit,
    bank,
    device,
    file_set,
    flash,
    image,
    judged,
    loads,
    member,
    plain,
    published,
    release,
    sheet,
)
from builders.chance import Case, cases
from ovek.engine.bootwalk import walk_device
from ovek.engine.cleanup import plan_device
from ovek.engine.hold import Holds, Wishes
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.runs import runs_of
from ovek.engine.tier import Tiers
from ovek.model.digest import Digests
from ovek.model.plan import Room
from ovek.model.policy import Policy
from ovek.model.sheet import Reading
from ovek.model.snapshot import Component, File, Hardware

TIMES = int(os.environ.get("OVEK_CASES", "1"))
STEPS = (1024, MIB, 64 * MIB)


def verdict(file: File) -> str:
    found = judged(member(file)).members[0].images
    return next(iter(found.values())).judgement.verdict


@pytest.mark.parametrize("step", STEPS)
@pytest.mark.parametrize("digests", [None, Digests(md5="0" * 32)])
def test_a_size_that_may_be_the_published_one_is_neither_short_nor_altered(step, digests):
    for told in (SIZE, -(-SIZE // step) * step, SIZE // step * step, SIZE - step + 1):
        file = image("1.0", size=told, size_step=step, digests=digests)
        assert verdict(file) == ("altered" if digests else "unverified"), told


@pytest.mark.parametrize(("size", "step", "then"), [
    (SIZE - 1024, 1024, "truncated"), (SIZE - 1023, 1024, "unverified"),
    (SIZE + 1023, 1024, "unverified"), (SIZE + 1024, 1024, "altered"),
    (SIZE - 1, None, "truncated"), (0, MIB, "truncated"),
])  # fmt: skip
def test_sizes_differ_only_where_their_ranges_do_not_meet(size, step, then):
    assert verdict(image("1.0", size=size, size_step=step, digests=None)) == then


def test_a_size_of_0_kib_is_no_empty_file():
    def outcome(step):
        small = release("9.0", file="tiny.img", size=600)
        file = File(path="tiny.img", size=0, size_step=step, digests=small.digests)
        walk = walk_device(
            judged(member(file, boots=("flash:tiny.img",)), catalog=published(small))
        )
        return walk.members[0].tried[0].result

    assert (outcome(1024), outcome(None)) == ("proven", "empty")


def rounded(case: Case, step: int, chance: Random) -> Case:
    """The same device as a listing in steps shows it: up, down or to the nearest."""

    def size(told: int) -> int:
        return chance.choice((-(-told // step), told // step, (told + step // 2) // step)) * step

    def blurred(file: File) -> File:
        return file if file.size is None else replace(file, size=size(file.size), size_step=step)

    return replace_files(case, blurred)


def replace_files(case: Case, change) -> Case:
    members = []
    for one in case.device.members or ():
        volumes = one.volumes and tuple(
            replace(each, files=each.files and tuple(map(change, each.files)))
            for each in one.volumes
        )
        members.append(replace(one, volumes=volumes))
    what = replace(case.device, members=tuple(members))
    return Case(**{**vars(case), "device": what})


def verdicts(case: Case) -> dict[tuple[str, str], str]:
    return {
        (one.member.id, str(place)): each.judgement.verdict
        for one in case.judged().members or ()
        for place, each in one.images.items()
    }


def leftovers(case: Case) -> set[tuple[str, str]]:
    """What is of tier 1."""
    found, walk = case.judged(), walk_device(case.judged())
    holds = Holds(found, walk, runs_of(found), Wishes(policy=case.policy, keep=case.keep))
    tier_one = set()
    for one in found.members or ():
        told = holds.of_member(one)
        tiers = Tiers(one, told, case.shelf, frozenset())
        tier_one |= {(one.member.id, str(x.place)) for x in told if tiers.of(x)[0] == 1}
    return tier_one


def frees(case: Case) -> list[int | None]:
    plans = plan_device(case.judged(), SpaceAsked(policy=case.policy, room=Room(sweep=4)))
    return [plan.free_after for plan in plans]


@pytest.mark.parametrize("first", (0, 1_000_000))
def test_a_rounded_listing_never_makes_anything_worse_than_the_exact_one(first):
    for case in cases(first, 120 * TIMES, blur=False):
        chance = Random(case.seed)
        blurred = rounded(case, chance.choice(STEPS), chance)
        exact, before = verdicts(case), walk_device(case.judged())
        for at, then in verdicts(blurred).items():
            bad = ("altered", "truncated")
            assert then == exact[at] or exact[at] in bad or then not in bad, (case.seed, at)
        if before.next_boot != "stranded":
            assert walk_device(blurred.judged()).next_boot != "stranded", case.seed
        assert leftovers(blurred) <= leftovers(case), case.seed


def test_what_a_file_frees_is_no_more_than_it_surely_has():
    file = plain("a.partial", 3 * MIB, size_step=MIB)
    plan = plan_device(
        judged(member(volumes=(flash(file, free=0, cluster=1),))),
        SpaceAsked(policy=Policy(reserve="0%"), room=Room(free=2 * MIB)),
    )[0]
    assert (plan.enough, plan.free_after) == (True, 2 * MIB + 1)


def cut(file: File, length: int = 6) -> File:
    if len(file.path) <= length:
        return file
    return replace(file, path=file.path[:length], path_cut=True)


def test_a_name_that_is_cut_is_matched_as_a_beginning_and_never_missing():
    cut_one = replace(image("1.0"), path="sw-1", path_cut=True)
    walk = walk_device(judged(member(cut_one, boots=(ONE,))))
    assert walk.members[0].tried[0].result == "proven"
    unverified = replace(cut_one, digests=None)
    tried = walk_device(judged(member(unverified, boots=(ONE,)))).members[0].tried[0]
    assert (tried.result, "its name is cut by the listing" in tried.why) == ("unverified", True)
    whole = replace(unverified, path_cut=False)
    assert walk_device(judged(member(whole, boots=(ONE,)))).members[0].tried[0].result == "missing"


def test_a_cut_name_that_may_be_of_several_releases_is_of_none():
    file = replace(image("1.0", digests=None, size=5), path="sw-", path_cut=True)
    found = next(iter(judged(member(file)).members[0].images.values()))
    assert found.judgement.verdict == "unverified"
    assert "it may be any of 3: sw-1.0.img" in found.judgement.why
    only = next(iter(judged(member(replace(file, path="sw-2"))).members[0].images.values()))
    assert only.judgement.verdict == "truncated"


def test_where_two_cut_names_begin_alike_nobody_knows_which_starts():
    files = [
        replace(image(each, digests=None), path="sw-", path_cut=True) for each in ("1.0", "2.0")
    ]
    walk = walk_device(judged(member(*files, boots=(ONE,))))
    assert (walk.next_boot, walk.members[0].tried[0].result) == ("unknown", "unknown")


def test_a_cut_name_proven_to_be_another_release_is_not_what_the_order_names():
    file = replace(image("2.0"), path="sw-", path_cut=True)
    tried = walk_device(judged(member(file, boots=(ONE,)))).members[0].tried[0]
    assert (tried.result, "it may be sw-2.0.img" in tried.why) == ("unknown", True)


def test_a_cut_name_is_no_missing_package_pointer_or_part_of_a_bank():
    base = replace(plain("pkg/base-1"), path_cut=True)
    part = replace(plain("web-1"), path_cut=True)
    one = member(
        image("1.0"),
        boots=(ONE,),
        volumes=(flash(image("1.0"), plain("a.set"), base, part,
                       sets=(file_set("a.set", "pkg/base-1.2.3"),)),),
        components=(loads("web", "flash:web-1.2.pkg"),),
    )  # fmt: skip
    rules = {each.rule for each in audit(device(one, place=ONE)).findings}
    assert not rules & {"component-file-missing", "image-altered", "set-broken"}
    held = replace(one, volumes=(flash(image("1.0"), plain("a.set"),
                                       sets=(file_set("a.set", "pkg/base-1.2.3"),)),))  # fmt: skip
    assert "component-file-missing" in {
        each.rule for each in audit(device(held, place=ONE)).findings
    }


@pytest.mark.parametrize("first", (0, 1_000_000))
def test_cut_names_are_never_offered_and_strand_nothing(first):
    for case in cases(first, 120 * TIMES, blur=False):
        short = replace_files(case, cut)
        was, now = walk_device(case.judged()), walk_device(short.judged())
        if was.next_boot != "stranded":
            assert now.next_boot != "stranded", case.seed
        for before, after in zip(was.members, now.members, strict=True):
            missing = {each.place for each in before.tried if each.result == "missing"}
            missing_now = {each.place for each in after.tried if each.result == "missing"}
            tried = {each.place for each in before.tried}
            assert missing_now & tried <= missing, case.seed
        for plan in plan_device(short.judged(), SpaceAsked(policy=case.policy, room=Room(sweep=4))):
            for drop in plan.drop:
                for place in drop.files:
                    volume = second.volume_of(short.device, plan.member, plan.volume or "")
                    path = place.partition(":")[2]
                    assert not any(f.path_cut for f in volume.files if f.path == path), case.seed


def test_a_device_at_its_boot_loader_runs_nothing_and_holds_nothing_as_running():
    files = image("1.0"), image("2.0")
    up = device(member(*files, boots=("flash:sw-2.0.img",)), place=ONE, running="1.0")
    down = replace(up, at="boot-loader")
    assert [running.places for running in runs_of(judged(down))] == [()]
    found = audit(down)
    assert found.boots[0].running is None
    assert "running version" not in " ".join(each.seen for each in found.findings)
    for what, held in ((up, True), (down, False)):
        policy = Policy(reserve="0%", keep=1)
        plan = plan_device(judged(what), SpaceAsked(policy=policy, room=Room(sweep=4)))[0]
        assert (ONE in {drop.place for drop in plan.drop}) is not held


def test_what_to_do_at_the_boot_loader_is_what_starts_or_can_be_started():
    def do(*files, boots=(ONE,), **more):
        found = audit(replace(device(member(*files, boots=boots, **more)), at="boot-loader"))
        return next(each.words for each in found.findings if each.rule == "at-boot-loader")

    assert do(image("1.0")).startswith("Boot it: the next boot is 1.0 from flash:sw-1.0.img")
    assert "by hand from flash:sw-2.0.img (2.0, proven)" in do(image("2.0"))
    assert "stick" in do()


def test_old_logs_and_backups_are_counted_by_the_devices_own_clock():
    log = plain("old.log", modified=NOW - timedelta(days=40))
    for behind, may_go in ((0, True), (20, False)):
        what = replace(device(member(log)), clock=NOW - timedelta(days=behind))
        plan = plan_device(
            judged(what), SpaceAsked(policy=Policy(reserve="0%"), room=Room(sweep=1))
        )[0]
        assert bool(plan.drop) is may_go


@pytest.mark.parametrize("clock", ["0001-01-01T00:00:00+00:00", "9999-12-31T23:59:59+00:00"])
def test_a_clock_that_is_off_by_millennia_is_told_and_nothing_breaks(clock):
    log = plain("old.log")
    what = replace(device(member(log)), clock=datetime.fromisoformat(clock))
    assert "clock-off" in {each.rule for each in audit(what).findings}
    plan_device(judged(what), SpaceAsked(policy=Policy(reserve="0%"), room=Room(sweep=1)))


def test_a_catalog_with_digests_that_the_device_is_never_asked_for_is_told_so():
    only = published(release("1.0", digests=Digests(sha1="1" * 40)))
    kind = replace(sheet(), reading=Reading(digests=("sha512", "md5")))
    found = audit(device(member(image("1.0", digests=None), boots=(ONE,))), kind, only).findings
    told = next(each for each in found if each.rule == "image-unverified")
    assert told.seen.startswith(
        "sw-1.0.img is published with SHA-1 only, and the device is asked for SHA-512 and MD5"
    )
    assert "Add sha1 to reading.digests of the sheet switch" in told.words
    both = published(release("1.0", digests=Digests(sha1="1" * 40, md5="2" * 32)))
    found = audit(device(member(image("1.0", digests=None), boots=(ONE,))), kind, both).findings
    told = next(each for each in found if each.rule == "image-unverified")
    assert told.seen.startswith("no digest was read from the device")


def test_a_serial_number_is_that_of_one_member():
    one, two = member(id="1"), member(id="2", hardware=Hardware(serial="S2"))
    whole = Hardware(model="SW10", serial="S1")
    alone, pair = device(one, hardware=whole), device(one, two, hardware=whole)
    assert alone.hardware_of(one).serial == "S1"
    assert (pair.hardware_of(one).serial, pair.hardware_of(two).serial) == (None, "S2")
    assert pair.hardware_of(two).model == "SW10"


def test_each_slot_of_a_part_counts_by_itself():
    catalog = published(release("2.0", needs={"components": {"card": "4.9"}}))
    cards = (
        Component(component="card", slot="1", version="4.9"),
        Component(component="card", slot="3", version="4.0"),
    )
    one = member(image("2.0"), boots=("flash:sw-2.0.img",), components=cards)
    said = [x.seen for x in audit(device(one, running="1.0"), catalog=catalog).findings
            if x.rule == "component-too-old"]  # fmt: skip
    assert said == ["the next boot image sw-2.0.img needs card in slot 3 4.9; installed is 4.0"]


def test_a_volume_that_the_device_cannot_read_is_nothing_to_its_loader():
    stick = flash(image("1.0"), name="stick", filesystem="NTFS")
    what = device(member(boots=("stick:sw-1.0.img",), volumes=(flash(), stick)))
    for reads, reload in (
        (("ext4", "fat32"), "stranded"),
        (("ext4", "ntfs"), "proven"),
        (None, "proven"),
    ):
        kind = sheet() if reads is None else sheet(reads=reads)
        assert walk_device(judged(what, kind)).next_boot == reload


def test_two_banks_of_rounded_files_are_the_same_where_they_may_be():
    def same(size):
        files = image("1.0", path="a/sw-1.0.img"), image("1.0", path="b/sw-1.0.img", size=size,
                                                         size_step=1024)  # fmt: skip
        places = {"trial": "a/sw-1.0.img", "committed": "b/sw-1.0.img"}
        pair = [
            bank(name, "1.0", digests=None, places=(f"flash:{path}",))
            for name, path in places.items()
        ]
        what = device(member(*files, banks=tuple(pair)), in_bank="committed")
        kind = sheet("paired", fallback="other-bank", default_volume="flash")
        return walk_device(judged(what, kind)).members[0].tried[0].place

    assert (same(SIZE + 1000), same(SIZE + 4096)) == ("bank:trial", "bank:committed")

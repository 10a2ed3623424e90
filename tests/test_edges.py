"""The exact edges of what is decided: one more, one less, the other way round."""

from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    ONE,
    POLICY,
    SIZE,
    TWO,
    audit,
    bank,
    device,
    digest,
    flash,
    image,
    judged,
    member,
    plain,
    published,
    release,
    sheet,
)
from builders.planned import Planned
from ovek.engine import catalog
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import content_of, refusal
from ovek.engine.cleanup import plan_device
from ovek.engine.confirm import confirm
from ovek.engine.layouts import layout_named
from ovek.engine.layouts.interface import Seen
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.releases import ReleaseIndex
from ovek.engine.runs import runs_of
from ovek.engine.shelf import Use, UsedBy, judge_shelf, uses
from ovek.engine.verdicts import judge_device, judge_for
from ovek.engine.wanted import Wants
from ovek.engine.whatif import WhatIf, suppose
from ovek.model.change import Copy
from ovek.model.digest import Digests
from ovek.model.naming import Naming
from ovek.model.place import Place
from ovek.model.plan import Room
from ovek.model.policy import Policy
from ovek.model.shelf import ShelfFile
from ovek.model.snapshot import Bank, Boot, Hardware, Setting

BANKS = sheet("banks", fallback="other-bank")


def plan_of(what, *, kind=None, catalog=CATALOG, policy=POLICY, room_for=None, **room):
    found = judged(what, kind, catalog)
    asked = Room(**room)
    if room_for is not None:
        asked = Room(release=found.judge.releases.by_version[room_for][0])
    return plan_device(found, SpaceAsked(policy=policy, room=asked))[0]


def test_a_copy_fits_where_it_takes_just_what_is_free():
    content = content_of(judged(device(member())).judge.releases.by_version["2.0"][0])
    copy = Copy(place=Place("flash", "sw-2.0.img", "1"), content=content)
    for free, fits in ((SIZE, True), (SIZE - 1, False)):
        what = device(member(volumes=(flash(free=free),)))
        assert (refusal(what, copy, sheet()) == "") is fits


def test_room_for_an_image_is_enough_at_just_its_size():
    for free, enough in ((SIZE, True), (SIZE - 1, False)):
        volume = flash(image("1.0"), free=free)
        what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
        assert plan_of(what, room_for="2.0").enough is enough


def test_images_are_offered_only_while_the_order_is_known():
    files = (image("1.0"), image("2.0"), image("3.0"))
    known = Boot(mode=Setting(saved="first-found"), order=Setting(live=()))
    for boot, offered in ((known, True), (replace(known, order=Setting()), False)):
        what = device(member(*files, boot=boot), place=ONE)
        assert bool(plan_of(what, sweep=4).drop) is offered


def test_a_plan_is_confirmed_at_just_the_room_that_is_left_once_the_image_is_there():
    volume = flash(image("1.0"), plain("a.dump", 60 * MIB), free=50 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    plan = plan_of(what, room_for="2.0")
    for free, enough in ((0, True), (None, None)):
        after = flash(image("1.0"), image("2.0"), free=free)
        now = judged(device(member(volumes=(after,), boots=(ONE,)), place=ONE))
        assert confirm(plan, now, now.judge.releases.by_version["2.0"][0]).enough is enough
    for free, enough in ((SIZE, True), (SIZE - 1, False)):
        after = flash(image("1.0"), free=free)
        now = judged(device(member(volumes=(after,), boots=(ONE,)), place=ONE))
        assert confirm(plan, now, now.judge.releases.by_version["2.0"][0]).enough is enough


def test_the_room_of_an_image_that_was_there_before_is_not_taken_off_again():
    tight = replace(POLICY, reserve="30MiB")
    volume = flash(image("1.0"), image("2.0"), plain("a.dump", 30 * MIB), free=10 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    plan = plan_of(what, room_for="2.0", policy=tight)
    assert (plan.wanted, plan.enough) == (30 * MIB, True)
    for free, enough in ((30 * MIB, True), (29 * MIB, False)):
        after = flash(image("1.0"), image("2.0"), free=free)
        now = judged(device(member(volumes=(after,), boots=(ONE,)), place=ONE))
        assert confirm(plan, now, now.judge.releases.by_version["2.0"][0]).enough is enough


def test_a_second_copy_is_a_note_and_a_copy_on_another_volume_is_none():
    copies = {"flash": (image("1.0"), image("1.0", path="b.img"))}
    what = device(member(*copies["flash"], boots=(ONE,)), place=ONE)
    told = [(one.severity, one.place) for one in audit(what).findings
            if one.rule == "image-second-copy"]  # fmt: skip
    assert told == [("note", "flash:b.img")]
    card = flash(image("1.0", path="b.img"), name="card")
    apart = device(member(volumes=(flash(image("1.0")), card), boots=(ONE,)), place=ONE)
    assert "image-second-copy" not in {one.rule for one in audit(apart).findings}


def test_a_release_is_used_by_what_runs_it_and_by_what_starts_it_next():
    runs_one_starts_two = device(member(image("1.0"), image("2.0"), image("3.0"), boots=(TWO,)),
                                 place=ONE)  # fmt: skip
    found = judged(runs_one_starts_two)

    def used(what):
        return {one.release for one in uses(what, walk_device(what))}

    assert used(found) == {"sw-1.0.img", "sw-2.0.img"}
    banked = judged(device(member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="b"),
                           in_bank="a"), BANKS)  # fmt: skip
    assert used(banked) == {"sw-1.0.img", "sw-2.0.img"}
    altered = judged(device(member(image("1.0", content="x"), boots=(ONE,)), place=ONE))
    assert used(altered) == {None}


def test_only_the_right_copy_on_the_shelf_is_used_by_anybody():
    index = ReleaseIndex(CATALOG)
    files = [
        ShelfFile(path=path, size=SIZE, digests=Digests(md5=digest(content)))
        for path, content in (("sw-1.0.img", "sw-1.0.img"), ("old/sw-1.0.img", "flipped"))
    ]
    used = [Use("sw", "sw-1.0.img", Digests()), Use("odd", None, Digests(md5=digest("flipped")))]
    judgements = judge_shelf(files, index, [Naming(sheet())], UsedBy(used))
    assert [one.used_by for one in judgements] == [("sw",), ("odd",)]


def test_bytes_are_the_same_where_no_digest_of_theirs_differs():
    both = Digests(md5=digest("a"), sha512=digest("a", "sha512"))
    used = UsedBy([Use("sw", None, both)])
    assert used.of(Digests(md5=digest("a")), None) == ("sw",)
    assert used.of(Digests(md5=digest("a"), sha512=digest("b", "sha512")), None) == ()


def why_not(other, *more, running="1.0", **hardware):
    """Why another release than the picked one was not chosen."""
    known = [release("3.0", hardware=("SW*",), status="recommended"), *more]
    what = device(member(), running=running, hardware=Hardware(model="SW10", **hardware))
    judge = judge_for(sheet(), ReleaseIndex(published(*known)))
    found = judge_device(what, judge)
    picked = catalog.pick(found, Wants(Policy()).of(found))
    return {one.release.file: one.against for one in picked.others}.get(other)


def test_why_a_release_was_not_chosen_is_told_by_status_version_and_variant():
    mine = {"hardware": ("SW*",)}
    older = release("2.0", **mine, status="recommended")
    assert why_not("sw-2.0.img", older) == ("sw-3.0.img is newer",)
    old = release("4.0", **mine, status="old")
    assert why_not("sw-4.0.img", old) == ("its status is old; sw-3.0.img is recommended",)
    twin = release("3.0", file="z.img", **mine, status="recommended", variant="lite")
    assert why_not("z.img", twin) == ("sw-3.0.img is the same version; choose by variant (lite)",)
    hungry = release("4.0", **mine, needs={"memory": 8})
    assert why_not("sw-4.0.img", hungry, memory=8) == ("its status is unknown; sw-3.0.img is "
                                                       "recommended",)  # fmt: skip
    assert why_not("sw-4.0.img", hungry, memory=7)[0].startswith("it needs 8 B of memory")


def test_a_place_or_a_bank_each_tell_what_a_member_runs():
    what = device(member(image("1.0"), image("2.0"), boots=(ONE,)), running="1.0")
    unknown = runs_of(judged(what))[0]
    assert (unknown.sure, unknown.places) == (False, (Place("flash", "sw-1.0.img", "1"),))
    by_bank = device(member(banks=(bank("a", "1.0"), bank("b", "1.0")), default="a"), in_bank="a")
    assert runs_of(judged(by_bank, BANKS))[0].bank == "a"
    two = device(member(image("1.0"), role="active"),
                 member(image("2.0"), id="2", running_version="1.0"), place=ONE)  # fmt: skip
    assert [one.sure for one in runs_of(judged(two))] == [True, False]


def test_a_bank_is_held_against_the_release_of_its_own_variant():
    variants = published(
        release("1.0", file="full.img", variant="full"),
        release("1.0", file="lite.img", variant="lite"),
    )
    full = Bank(name="a", state="ok", version="1.0", variant="full")
    held = judged(device(member(banks=(full,), default="a")), BANKS, variants)
    assert held.members[0].banks["a"].judgement.release.file == "full.img"
    neither = replace(full, variant=None)
    unsure = judged(device(member(banks=(neither,), default="a")), BANKS, variants)
    assert unsure.members[0].banks["a"].judgement.release is None


def test_a_copy_that_mends_is_dangerous_until_it_is_done():
    """The loader finds the new image by itself, but not half of it."""
    volume = flash(image("1.0"), free=50 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    made = Planned(
        what, sheet(fallback="first-found"), policy=replace(POLICY, target="2.0"),
        may_drop=frozenset({"running"}),
    )  # fmt: skip
    harm = {each.change: (bool(each.harm), each.next_boot) for each in made.dos}
    assert harm["delete"] == (True, "stranded")
    assert harm["copy"][0] and harm["set-order"] == (False, "proven")
    assert made.danger == [2, 3]


def test_what_holds_for_several_images_names_them_and_for_one_only_that():
    def told(rule, *files, **more):
        found = audit(
            device(member(image("1.0"), *files, boots=(ONE,)), place=ONE), **more
        ).findings
        return next(one.seen for one in found if one.rule == rule)

    weak = "only an MD5 digest proves it"
    assert told("image-weakly-proven") == weak
    two = told("image-weakly-proven", image("2.0"))
    assert two == f"{weak}; also: flash:sw-2.0.img"
    bare = [image(version, digests=None) for version in ("2.0", "3.0")]
    assert told("image-unverified", bare[0]) == "no digest was read from the device"
    assert told("image-unverified", *bare).endswith("; also: flash:sw-3.0.img")


def test_a_pair_on_fat_holds_the_same_in_another_case():
    kind = sheet("paired", fallback="none")
    files = (image("1.0", path="t/SW.IMG"), image("1.0", path="c/sw.img"))
    banks = tuple(
        Bank(name=name, state="ok", places=(f"flash:{path}",))
        for name, path in (("trial", "t/SW.IMG"), ("committed", "c/sw.img"))
    )
    for system, boots in (("fat32", "bank:trial"), ("ext4", "bank:committed")):
        volume = flash(*files, filesystem=system)
        what = device(member(volumes=(volume,), banks=banks), place="flash:c/sw.img")
        assert walk_device(judged(what, kind)).members[0].boots.place == boots


def test_members_that_differ_now_are_told_what_a_reload_makes_of_them():
    def told(boots):
        first = member(image("1.0"), boots=(ONE,), running_version="1.0")
        second = member(image("2.0"), image("1.0"), boots=boots, id="2", running_version="2.0")
        found = audit(device(first, second)).findings
        return next(one.seen for one in found if one.rule == "member-versions-differ")

    assert told((TWO,)).endswith("; a reload does not change that")
    assert told((ONE,)).endswith("; a reload boots 1.0 on all of them")


def test_the_other_half_of_a_pair_is_a_way_back_only_where_the_loader_goes_on_to_it():
    files = (image("2.0", path="t/sw.img"), image("1.0", path="c/sw.img"))
    banks = tuple(
        Bank(name=name, state="ok", places=(f"flash:{path}",))
        for name, path in (("trial", "t/sw.img"), ("committed", "c/sw.img"))
    )
    what = device(member(*files, banks=banks), place="flash:c/sw.img")
    lone = device(member(files[1], banks=(Bank(name="trial", state="empty"), banks[1])),
                  place="flash:c/sw.img")  # fmt: skip

    def rules(what, fallback):
        return {one.rule for one in audit(what, sheet("paired", fallback=fallback)).findings}

    assert "no-fallback" not in rules(what, "other-bank")
    others = layout_named("paired").others
    for fallback, number in (("other-bank", 2), ("none", 0)):
        found = judged(what, sheet("paired", fallback=fallback))
        assert len(list(others(Seen(found, found.members[0])))) == number
    assert "bank-empty" in rules(lone, "other-bank")


def test_what_is_taken_to_be_bad_is_so_on_the_member_that_is_meant():
    what = judged(device(member(image("1.0"), boots=(ONE,)),
                         member(image("1.0"), boots=(ONE,), id="2"), place=ONE))  # fmt: skip
    for place, outcomes in (
        ("2/flash:sw-1.0.img", ["proven", "stranded"]),
        ("1/flash:sw-1.0.img", ["stranded", "proven"]),
        (ONE, ["stranded", "stranded"]),
    ):
        walk = walk_device(suppose(what, WhatIf(bad=(place,))))
        assert [each.outcome for each in walk.members] == outcomes
    bare = member(image("1.0", digests=None), boots=(ONE,))
    unverified = judged(device(bare, replace(bare, id="2")))
    walk = walk_device(suppose(unverified, WhatIf(bad=("2/flash:sw-1.0.img",))))
    assert [each.outcome for each in walk.members] == ["unproven", "stranded"]


def test_a_file_under_a_published_name_is_an_image_whatever_the_sheet_says_of_names():
    odd = published(release("7.0", file="strange", kind=None))
    found = judged(device(member(plain("strange", SIZE), plain("other", SIZE))), catalog=odd)
    told = {place.path: one.judgement.verdict for place, one in found.members[0].images.items()}
    assert told == {"strange": "unverified"}


def test_an_image_beside_the_directories_of_a_pair_is_in_none_of_them():
    banks = tuple(
        Bank(name=name, state="ok", places=(f"flash:{path}",))
        for name, path in (("trial", "t/sw.img"), ("committed", "c/sw.img"))
    )
    policy = replace(POLICY, target="2.0")

    def told(trial, *more):
        files = (image(trial, path="t/sw.img"), image("1.0", path="c/sw.img"), *more)
        volume = flash(*files, free=10 * MIB)
        what = device(member(volumes=(volume,), banks=banks), place="flash:c/sw.img")
        kind = sheet("paired", fallback="none")
        return {one.rule for one in audit(what, kind, policy=policy).findings}

    assert "no-room-for-target" in told("1.0", image("2.0"))
    assert "no-room-for-target" not in told("2.0")


def test_what_is_committed_is_done_only_where_it_starts_next():
    kind = sheet("paired", fallback="other-bank")
    banks = tuple(
        Bank(name=name, state="ok", places=(f"flash:{path}",))
        for name, path in (("trial", "t/sw.img"), ("committed", "c/sw.img"))
    )
    files = (image("1.0", path="t/sw.img"), image("2.0", path="c/sw.img"))
    for once, bank_named in ((None, "committed"), ("bank:trial", None)):
        one = member(*files, banks=banks, once=once)
        what = device(one, place="flash:c/sw.img", running="2.0")
        assert plan_of(what, kind=kind, room_for="2.0").bank == bank_named

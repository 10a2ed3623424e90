"""The same facts in every command: each with the near case in which nothing is said.

What lies on a volume that cannot be read, what runs by its bytes, which file is wanted of which
member, what an archive, a set and a bank come to, and what the answer says of it.
"""

import pytest
from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    ONE,
    THREE,
    TWO,
    audit,
    bank,
    component,
    device,
    digest,
    entry,
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
    sw,
)
from builders.chance import curious
from ovek.engine import catalog, custody
from ovek.engine.bootwalk import walk_device
from ovek.engine.cleanup import plan_device
from ovek.engine.compare import compare_device
from ovek.engine.fit import fit_all, standings
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.releases import ReleaseIndex
from ovek.engine.runs import runs_of
from ovek.engine.wanted import Wants
from ovek.model.catalog import Contained, Origin, Published
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.plan import Room
from ovek.model.policy import Policy, Want
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Bank, Boot, Config, Hardware, Member, Setting

BANKS, PAIRED = sheet("banks", fallback="other-bank"), sheet("paired", fallback="other-bank")
TARGET = Policy(reserve="0%", target="2.0")
KEEP_ONE = Policy(keep=1, reserve="0%")


def rules(what, kind=None, catalog=CATALOG, policy=None, **more):
    """The rules that say something of a device, but for missing facts."""
    found = audit(what, kind, catalog, policy, **more).findings
    return {one.rule for one in found} - {"facts-missing"}


def start(what, kind=None, catalog=CATALOG):
    """How each member starts: the outcome and the version."""
    walk = walk_device(judged(what, kind, catalog))
    return [(one.outcome, one.boots and one.boots.version) for one in walk.members]


def offered(what, kind=None, catalog=CATALOG, policy=KEEP_ONE):
    """What a cleanup of everything that may go would delete, by member."""
    found = judged(what, kind, catalog)
    plans = plan_device(found, SpaceAsked(policy=policy, room=Room(sweep=4)))
    return [{place for drop in plan.drop for place in drop.files} for plan in plans]


# -- volumes ---------------------------------------------------------------------------------------

READS = sheet(reads=("ext4", "fat32"))


def with_stick(*files, on_flash=(), filesystem="exfat", boots=(ONE,), **more):
    stick = flash(*files, name="stick", filesystem=filesystem, removable=True)
    return device(member(boots=boots, volumes=(flash(*on_flash), stick), **more), place=ONE)


def test_nothing_on_a_stick_that_the_device_cannot_read_can_be_started_by_hand():
    what = with_stick(image("1.0"))
    assert walk_device(judged(what, READS)).members[0].rescue == ()
    near = with_stick(image("1.0"), filesystem="fat32")
    assert [one.version for one in walk_device(judged(near, READS)).members[0].rescue] == ["1.0"]


def test_a_target_on_a_stick_that_the_device_cannot_read_is_not_there_already():
    def told(filesystem):
        what = with_stick(image("2.0"), on_flash=(image("1.0"),), filesystem=filesystem)
        found = audit(what, READS, policy=TARGET).findings
        return " ".join(one.seen for one in found)

    assert "already on the device" not in told("exfat")
    assert "already on the device" in told("fat32")


def test_what_lies_on_a_stick_that_the_device_cannot_read_is_no_copy_in_custody():
    def places(filesystem):
        what = judged(
            with_stick(image("2.0"), on_flash=(image("1.0"),), filesystem=filesystem), READS
        )
        return [copy.place for _, copy in custody.on_flash(what)]

    assert places("exfat") == ["sw flash:sw-1.0.img"]
    assert "sw stick:sw-2.0.img" in places("fat32")


def test_a_removable_volume_is_no_fallback_unless_policy_says_so():
    what = with_stick(image("2.0"), on_flash=(image("1.0"), image("2.0", path="z.img")),
                      filesystem="fat32")  # fmt: skip
    two = Policy(keep=2, reserve="0%")
    assert "flash:z.img" not in offered(what, policy=two)[0], "the copy on the stick is no fallback"
    alone = with_stick(image("2.0"), on_flash=(image("1.0"),), filesystem="fat32")
    assert audit(alone, policy=replace(two, boot_from_removable=True)).answer == "go"


def test_no_image_goes_to_a_removable_volume_unless_policy_says_so():
    card = flash(image("1.0"), name="card", removable=True)
    what = device(member(boots=("card:sw-1.0.img",), volumes=(card,)), place="card:sw-1.0.img")
    release_ = judged(what).judge.releases.by_version["2.0"][0]

    def plan(**more):
        asked = SpaceAsked(policy=Policy(reserve="0%", **more), room=Room(release=release_))
        return plan_device(judged(what), asked)[0]

    assert "is removable" in plan().note
    assert plan(boot_from_removable=True).enough


def test_a_stick_without_an_image_is_no_finding():
    assert "volume-other-format" not in rules(
        with_stick(plain("notes.txt"), on_flash=(image("1.0"),)), READS
    )
    assert "volume-other-format" in rules(with_stick(image("2.0"), on_flash=(image("1.0"),)), READS)


# -- what runs -------------------------------------------------------------------------------------


def test_the_version_and_variant_that_run_are_those_of_the_bytes_under_any_name():
    known = published(release("1.0", variant="lite"), release("2.0"))
    what = sw(image("1.0", path="mine.img"), boots=("flash:mine.img",), running=None,
              place="flash:mine.img")  # fmt: skip
    (running,) = runs_of(judged(what, catalog=known))
    assert (running.version, running.variant) == ("1.0", "lite")
    unread = sw(image("1.0", path="mine.img", digests=None), running=None, place="flash:mine.img")
    (running,) = runs_of(judged(unread, catalog=known))
    assert (running.version, running.variant) == (None, None)


def test_pick_path_and_target_take_the_variant_whose_bytes_run():
    known = published(
        release("1.0", file="any.bin", variant="lite", hardware=("SW*",)),
        *(
            release("2.0", file=f"sw-{name}-2.0.img", variant=name, hardware=("SW*",))
            for name in ("full", "lite")
        ),
    )
    mine = plain("mine.img", 100 * MIB, digests=Digests(md5=digest("any.bin")))
    found = judged(sw(mine, boots=("flash:mine.img",), place="flash:mine.img"), catalog=known)
    wanted = Wants(TARGET).of(found)
    assert wanted.release.file == "sw-lite-2.0.img"
    assert catalog.pick(found, wanted).chosen is wanted.release
    assert catalog.way(found, "2.0", wanted).steps == (wanted.release,)


def test_where_an_install_wrote_over_what_runs_it_is_said_to_be_gone_and_its_version_stays():
    written = image("2.0", path="boot.img")
    files = (written, image("1.0", path="old.img"), image("3.0"))
    what = sw(*files, boots=("flash:boot.img",), place="flash:boot.img")
    said = [one for one in audit(what).findings if one.rule == "running-image-gone"]
    assert "which is now 2.0" in said[0].seen
    assert offered(what) == [{THREE}], "all of 1.0 stays, what does not run may go"
    near = sw(image("1.0", path="boot.img"), image("3.0"), boots=("flash:boot.img",),
              place="flash:boot.img")  # fmt: skip
    assert "running-image-gone" not in rules(near)
    assert offered(near) == [{THREE}]


def test_a_broken_copy_of_what_runs_and_is_gone_is_no_leftover():
    def tiers(written):
        files = (image(written, path="boot.img"), image("1.0", content="flipped"))
        return offered(sw(*files, boots=("flash:boot.img",), place="flash:boot.img"))

    assert tiers("2.0") == [set()]
    assert tiers("1.0") == [{ONE}]


def test_a_name_alone_does_not_say_that_what_runs_is_gone():
    unread = image("2.0", digests=None)
    assert "running-image-gone" not in rules(sw(unread, boots=(TWO,), place=TWO))
    build = published(release("1.0"), release("1.0.88", file="sw-1.0.88.img"))
    told = sw(image("1.0"), running="1.0.88")
    assert "running-image-gone" not in rules(told, catalog=build), "a build number is no version"


def stack(*members, **more):
    return device(*(replace(one, id=str(at + 1)) for at, one in enumerate(members)), **more)


def test_a_running_place_without_a_member_is_the_active_members_and_says_nothing_of_others():
    lacks = member(image("2.0"), boots=(TWO,), role="standby")
    what = stack(member(image("1.0"), boots=(ONE,), role="active"), lacks, place=ONE)
    gone = [one.place for one in audit(what).findings if one.rule == "running-image-gone"]
    assert gone == []
    here = stack(member(image("2.0"), boots=(TWO,), role="active"), lacks, place=ONE)
    gone = [one.place for one in audit(here).findings if one.rule == "running-image-gone"]
    assert gone == ["1/flash:sw-1.0.img"]


def test_no_image_of_another_member_that_it_may_run_is_offered():
    other = member(image("1.0", path="x.img"), image("2.0"), boots=(TWO,))
    what = stack(member(image("1.0"), boots=(ONE,), role="active"), other, place=ONE)
    assert offered(what)[1] == set()
    settled = replace(other, running_version="2.0")
    assert offered(stack(what.members[0], settled, place=ONE))[1] == {"flash:x.img"}


def test_where_the_running_place_is_on_another_member_both_copies_stay():
    files = (image("1.0"), image("2.0"))
    what = stack(member(*files, boots=(TWO,)), member(*files, boots=(TWO,)), place="2/" + ONE)
    assert offered(what) == [set(), set()]
    near = stack(
        member(*files, boots=(TWO,)), member(*files, boots=(TWO,)), running="2.0", place="2/" + TWO
    )
    assert offered(near) == [{ONE}, {ONE}]


def test_a_bank_that_was_written_over_while_its_old_image_runs_is_told_for_what_it_is():
    def told(version):
        banks = (bank("a", version), bank("b", "1.0"))
        what = device(member(banks=banks, default="a"), in_bank="a")
        return start(what, BANKS), "running-image-gone" in rules(what, BANKS)

    assert told("2.0") == ([("proven", "2.0")], True)
    assert told("1.0") == ([("proven", "1.0")], False)


def test_a_start_from_another_members_flash_is_held_against_the_member_that_starts():
    known = published(release("1.0", hardware=("SW*",)), release("2.0"))

    def outcome(model):
        own = member(boots=("2/" + ONE,), hardware=Hardware(model=model))
        other = member(image("1.0"), boots=(ONE,), hardware=Hardware(model="SW10"))
        return start(stack(own, other), catalog=known)[0][0]

    assert outcome("AP10") == "stranded"
    assert outcome("SW20") == "proven"
    base = plain("pkg/base", MIB, digests=Digests(md5=digest("sw-1.0.img")))
    set_ = flash(base, plain("a.set", 1), sets=(file_set("a.set", "pkg/base"),))
    own = member(boots=("2/flash:a.set",), hardware=Hardware(model="AP10"))
    other = member(boots=("flash:a.set",), volumes=(set_,), hardware=Hardware(model="SW10"))
    assert start(stack(own, other), catalog=known)[0][0] == "stranded"


def test_bytes_that_are_known_under_two_names_count_by_both():
    same = Digests(md5=digest("sw-1.0.img"))
    known = published(
        release("1.0", file="a-part.img", digests=same, hardware=("AP*",), kind="component-image"),
        release("1.0", digests=same, hardware=("SW*",)),
        release("2.0"),
    )
    assert start(sw(image("1.0")), catalog=known) == [("proven", "1.0")]
    alone = published(release("1.0", digests=same, hardware=("AP*",)), release("2.0"))
    assert start(sw(image("1.0")), catalog=alone)[0][0] == "stranded"
    withdrawn = published(
        release("1.0", file="a-1.0.img", digests=same, hardware=("SW*",)),
        release("1.0", digests=same, hardware=("SW*",), status="withdrawn"),
    )
    assert "release-withdrawn" in rules(sw(image("1.0")), catalog=withdrawn)


def test_names_of_one_digest_that_sources_dispute_are_not_joined():
    md5 = digest("sw-1.0.img")
    one = release("1.0", digests=Digests(md5=md5, sha512="1" * 128), hardware=("AP*",))
    other = release(
        "1.0", file="b.img", digests=Digests(md5=md5, sha512="2" * 128), hardware=("SW*",)
    )
    index = ReleaseIndex(published(one, other))
    assert [each.hardware for each in index.releases] == [("SW*",), ("AP*",)]


def test_a_file_that_is_an_image_only_because_the_order_names_it_is_none_once_it_does_not():
    odd = plain("odd.bin", 100 * MIB)
    named = sw(odd, image("1.0"), boots=("flash:odd.bin", ONE))
    assert start(named) == [("unproven", None)]
    live = member(odd, image("1.0"), boots=(ONE,), live=("flash:odd.bin",))
    found = judged(device(live, place=ONE))
    assert Place("flash", "odd.bin") not in found.members[0].images


def test_what_a_set_file_comes_to_is_not_known_where_the_sets_are_not():
    def outcome(sets):
        volume = flash(plain("a.set", 1), sets=sets)
        return start(device(member(boots=("flash:a.set",), volumes=(volume,))))[0][0]

    assert outcome(None) == "unknown"
    assert outcome(()) == "stranded", "there is no set, so it is no image"


def test_a_set_file_in_a_list_of_our_own_makes_no_proven_set_less():
    names = ("base", "extra")
    known = published(*(release("1.0", file=name, kind="package") for name in names))
    ours = release("1.0", file="a.set", digests=Digests(md5=digest("a.set")), kind=None)
    own = [Published(ours, Origin("own.json", 1), None, "own")]
    files = [plain(f"pkg/{name}", MIB, digests=Digests(md5=digest(name))) for name in names]
    listed = plain("a.set", 1, digests=Digests(md5=digest("a.set")))
    volume = flash(*files, listed, sets=(file_set("a.set", "pkg/base", "pkg/extra"),))
    what = device(member(boots=("flash:a.set",), volumes=(volume,)))
    assert start(what, catalog=[*known, *own]) == [("proven", "1.0")]


def test_whatever_may_be_the_file_of_a_bank_stays_where_its_files_are_not_known():
    files = (image("1.0", path="c/sw.img"), image("2.0", path="t/sw.img"))

    def offers(places):
        banks = (Bank(name="committed", state="ok", version="1.0", places=places),
                 Bank(name="trial", state="empty"))  # fmt: skip
        return offered(device(member(*files, banks=banks), place="flash:c/sw.img"), PAIRED)

    assert offers(None) == [set()]
    assert offers(("flash:c/sw.img",)) == [{"flash:t/sw.img"}]


def test_memory_that_a_release_needs_counts_where_a_reload_into_it_is_asked_about():
    known = published(release("1.0"), release("2.0", needs={"memory": 8 * 2**30}))

    def answer(memory):
        what = replace(sw(image("1.0"), image("2.0"), boots=(TWO,)),
                       hardware=Hardware(model="SW10", memory=memory))  # fmt: skip
        found = audit(what, catalog=known, policy=TARGET)
        return found.answer, "next-boot-incompatible" in {one.rule for one in found.findings}

    assert answer(4 * 2**30) == ("no-go", True)
    assert answer(8 * 2**30) == ("go", False)


@pytest.mark.parametrize(
    "files",
    [
        [image("1.0", digests=None)],
        [image("1.0", path="a.img", content="own")],
        [plain("a.img", MIB)],
    ],
)
def test_an_unproven_start_always_has_a_finding_that_says_why(files):
    own = [Published(release("1.0", file="x", digests=Digests(md5=digest("own"))),
                     Origin("own.json", 1), None, "own")]  # fmt: skip
    path = f"flash:{files[0].path}"
    found = audit(sw(*files, boots=(path,), place=path), catalog=[*CATALOG, *own])
    assert found.answer == "unclear"
    assert [one for one in found.findings if one.place == path]
    foreign = published(release("1.0", revisions=("B*",)))
    found = audit(sw(image("1.0")), catalog=foreign)
    assert (found.answer, found.next_boot) == ("unclear", "unproven")
    assert "next-boot-unproven" in {one.rule for one in found.findings if one.place == ONE}
    assert "next-boot-unproven" not in rules(sw(image("1.0")))


# -- what is wanted --------------------------------------------------------------------------------

REVISIONS = published(
    *(
        release("1.0", file=f"{name}-1.0.img", revisions=(f"{name.upper()}*",), hardware=("SW*",))
        for name in "ab"
    ),
    *(
        release("2.0", file=f"{name}-2.0.img", revisions=(f"{name.upper()}*",), hardware=("SW*",),
                status="recommended")
        for name in "ab"
    ),
)  # fmt: skip
AB_NAMES = sheet(names=(r"[ab]-(?P<version>[0-9.]+)\.img",))


def unit(name, *versions, boots="1.0", **more):
    files = [
        plain(
            f"{name}-{version}.img", 100 * MIB, digests=Digests(md5=digest(f"{name}-{version}.img"))
        )
        for version in versions
    ]
    hardware = Hardware(model="SW10", revision=f"{name.upper()}1")
    return member(*files, boots=(f"flash:{name}-{boots}.img",), hardware=hardware,
                  running_version="1.0", **more)  # fmt: skip


@pytest.mark.parametrize("target", ["2.0", "recommended"])
def test_units_of_two_revisions_each_have_the_file_that_is_for_them(target):
    what = stack(unit("a", "1.0", "2.0"), unit("b", "1.0", "2.0"))
    found, policy = judged(what, AB_NAMES, REVISIONS), Policy(reserve="0%", target=target)
    wanted = Wants(policy).of(found)
    files = {"1": "a-2.0.img", "2": "b-2.0.img"}
    assert {name: wanted.release_of(name).file for name in files} == files
    picked = catalog.pick(found, wanted)
    assert {name: one.file for name, one in picked.by_member.items()} == files
    assert catalog.way(found, "2.0", wanted).hops is not None
    said = rules(what, AB_NAMES, REVISIONS, policy)
    assert not said & {"member-settings-differ", "member-target-missing", "target-does-not-fit"}
    assert "release-not-target" in said


def test_a_unit_that_lacks_the_file_for_it_is_told_though_it_has_that_of_another():
    half = stack(unit("a", "1.0", "2.0"), unit("b", "1.0"))
    assert "member-versions-differ" not in rules(half, AB_NAMES, REVISIONS, TARGET)
    found = audit(half, AB_NAMES, REVISIONS, TARGET).findings
    assert [one.place for one in found if one.rule == "member-target-missing"] == [
        "2/flash:b-2.0.img"
    ]


def test_members_alike_that_are_set_differently_are_told_all_the_same():
    files = (image("1.0"), image("2.0"))
    what = stack(member(*files, boots=(ONE, TWO)), member(*files, boots=(ONE,)))
    assert "member-settings-differ" in rules(what)


def test_a_version_that_several_files_have_means_the_one_that_fits_and_pick_names():
    known = published(
        release("1.0", hardware=("SW*",)),
        release("2.0", hardware=("SW*",), status="current"),
        release("2.0", file="sw-all-2.0.img", hardware=("SW*",), status="recommended"),
        release("2.0", file="ap-2.0.img", hardware=("AP*",), status="recommended"),
    )
    found = judged(sw(image("1.0")), catalog=known)
    wanted = Wants(TARGET).of(found)
    assert wanted.release.file == "sw-all-2.0.img"
    assert catalog.pick(found, wanted).chosen is wanted.release
    assert "no-room-for-target" in rules(
        sw(volumes=(flash(image("1.0"), free=MIB),)), catalog=known, policy=TARGET
    )


def test_where_only_the_variant_would_tell_no_file_is_chosen():
    known = published(
        release("1.0", hardware=("SW*",)),
        *(
            release("2.0", file=f"{name}-2.0.img", variant=name, hardware=("SW*",))
            for name in ("x", "y")
        ),
    )
    found = judged(sw(image("1.0")), catalog=known)
    assert Wants(TARGET).of(found).release is None
    assert catalog.pick(found, Wants(TARGET).of(found)).chosen is None
    chosen = Wants(replace(TARGET, variant="y")).of(found)
    assert chosen.release.file == "y-2.0.img"


def test_a_next_start_that_may_not_be_loaded_over_what_runs_is_no_go_also_by_version():
    known = published(release("1.0"), release("2.0", hardware=("SW*",), from_=("1.5",)))
    what = sw(image("1.0"), image("2.0"), boots=(TWO,))
    assert audit(what, catalog=known, policy=TARGET).answer == "no-go"
    near = published(release("1.0"), release("2.0", hardware=("SW*",), from_=("1",)))
    assert audit(what, catalog=near, policy=TARGET).answer == "go"


def test_a_target_may_be_a_file():
    known = published(release("1.0"), release("2.0"), release("2.0", file="other-2.0.img"))
    found = judged(sw(image("1.0")), catalog=known)
    wanted = Wants(Policy(target="other-2.0.img")).of(found)
    assert (wanted.target, wanted.release.file) == ("2.0", "other-2.0.img")


def test_an_image_of_unknown_version_is_not_the_target():
    unknown = plain("sw.bin", 100 * MIB)
    what = sw(unknown, image("1.0"), boots=("flash:sw.bin", ONE))
    assert audit(what, policy=TARGET).on_target is False
    assert audit(what, policy=Policy(reserve="0%")).on_target is None


def test_a_target_that_no_catalog_lists_costs_that_device_its_target():
    policy = Policy(reserve="0%", want=(Want(device="sw", target="7.7"),))
    found = audit(sw(image("1.0")), policy=policy)
    assert "target-unlisted" in {one.rule for one in found.findings}
    assert found.answer == "go"
    other = replace(sw(image("1.0")), device="other")
    assert "target-unlisted" not in rules(other, policy=policy)


def test_where_the_version_was_asked_in_vain_the_bytes_tell_one_and_nothing_else_is_offered():
    written = bank("a", "2.0")
    what = device(
        member(image("1.0"), image("3.0"), banks=(written,), default="a"), in_bank="a", running=None
    )
    kind = sheet("banks", fallback="other-bank")
    (running,) = runs_of(judged(what, kind))
    assert (running.version, running.sure) == ("2.0", True), "nobody asked: the bank tells"
    (running,) = runs_of(judged(what, curious(kind)))
    assert (running.version, running.sure) == ("2.0", False)
    assert {str(place.on(None)) for place in running.places} >= {"bank:a", ONE, THREE}


def test_an_image_that_is_for_other_hardware_is_not_what_runs():
    def version(fits):
        known = published(release("1.0", hardware=fits))
        (running,) = runs_of(judged(sw(image("1.0"), running=None), None, known))
        return running.version, running.sure

    assert version(("SW*",)) == ("1.0", True)
    assert version(("AP*",)) == (None, False)


def test_a_trial_on_a_volume_that_cannot_be_read_is_passed_over():
    halves = (
        Bank(name="trial", state=None, places=("card:sw-2.0.img",)),
        Bank(name="committed", state="ok", places=(TWO,)),
    )

    def boots(filesystem):
        card = flash(image("2.0"), name="card", filesystem=filesystem)
        what = device(
            member(volumes=(flash(image("2.0")), card), banks=halves),
            in_bank="committed",
            running="2.0",
        )
        return start(what, sheet("paired", fallback="other-bank", reads=("ext4",)))

    assert boots("exfat") == [("proven", "2.0")]
    assert boots("ext4") == [("unknown", None)], "the state of the trial is unknown"


@pytest.mark.parametrize("boots", [(ONE,), (TWO, ONE)])
def test_an_altered_image_that_is_the_same_on_the_shelf_points_to_custody(boots):
    def told(held, proven=()):
        shelf = ShelfFacts(proven=frozenset(proven), broken={}, held=frozenset({*held, *proven}))
        what = sw(image("1.0"), image("2.0", content="x"), boots=boots)
        found = audit(what, shelf=shelf).findings
        (one,) = [one.seen for one in found if one.place == TWO]
        return "ovek custody sw-2.0.img" in one

    assert told([digest("x")])
    assert not told([digest("y")]), "the shelf has other bytes"
    assert not told([digest("x")], [digest("sw-2.0.img")]), "the shelf has the right ones, too"


def test_a_target_that_only_the_name_of_a_listed_file_tells_asks_for_the_annotation():
    known = published(release("1.0"), replace(release("7.7"), version=None))
    found = audit(sw(image("1.0")), policy=Policy(target="7.7"), catalog=known)
    (said,) = [one for one in found.findings if one.rule == "target-unlisted"]
    assert "catalog annotate sw-7.7.img --version 7.7 --hardware SW10" in said.words
    other = audit(sw(image("1.0")), policy=Policy(target="7.8"), catalog=known)
    (said,) = [one for one in other.findings if one.rule == "target-unlisted"]
    assert "annotate" not in said.words


def test_two_publishers_with_the_same_bytes_are_one_release():
    same = Digests(md5=digest("sw-2.0.img"))
    known = [
        *published(
            release("1.0"), release("2.0", digests=same, hardware=("SW*",)), publisher="One"
        ),
        *published(
            release("2.0", file="two-2.0.img", digests=same, hardware=("SW*",)), publisher="Two"
        ),
    ]
    what = sw(image("1.0"), image("2.0", path="two-2.0.img"))
    found = judged(what, catalog=known)
    wanted = Wants(TARGET).of(found)
    assert wanted.release is not None, "there is no choice between two names of one file"
    assert (
        len([one for one in catalog.pick(found, wanted).others if one.release.version == "2.0"])
        == 0
    )
    told = audit(what, catalog=known, policy=TARGET).findings
    assert "already on the device" in " ".join(one.seen for one in told)
    assert "image-renamed" not in {one.rule for one in told}


def test_of_two_publishers_files_with_one_name_the_one_for_this_hardware_is_meant():
    known = [
        *published(release("1.0"), release("2.0", hardware=("AP*",)), publisher="One"),
        *published(
            release("2.0", digests=Digests(md5=digest("x")), hardware=("SW*",)), publisher="Two"
        ),
    ]
    found = judged(sw(image("1.0")), catalog=known)
    assert Wants(TARGET).of(found).release.publisher == "Two"


def test_policy_may_want_an_older_release_that_says_no_way_to_itself():
    what = sw(image("1.0"), image("2.0"), boots=(TWO,), running="2.0", place=TWO)
    back = Policy(reserve="0%", target="1.0")
    assert "upgrade-needs-step" not in rules(what, policy=back)
    barred = published(release("1.0", from_=("0.9",)), release("2.0"))
    found = judged(what, catalog=barred)
    assert catalog.way(found, "1.0", Wants(back).of(found)).hops is None


def test_a_device_of_unknown_model_says_what_is_missing_for_the_recommended_release():
    known = published(release("1.0"), release("2.0", hardware=("SW*",), status="recommended"))
    what = replace(sw(image("1.0")), hardware=Hardware())
    policy = Policy(reserve="0%", target="recommended")
    told = " ".join(one.seen for one in audit(what, catalog=known, policy=policy).findings)
    assert "which release is recommended for it, since its model is unknown" in told
    near = audit(sw(image("1.0")), catalog=known, policy=policy).findings
    assert "which release is recommended" not in " ".join(one.seen for one in near)


# -- archives, sets, banks -------------------------------------------------------------------------

INSIDE = Contained(path="sw-2.0.img", size=100 * MIB, digests=Digests(md5=digest("sw-2.0.img")))
ZIP = release("2.0", file="sw-2.0.zip", contains=(INSIDE,), hardware=("SW*",))
ZIPPED = published(release("1.0"), ZIP)


def test_an_archive_never_starts_whatever_names_it():
    for path in ("sw-2.0.zip", "sw-2.0.img"):
        packed = plain(path, 50 * MIB, digests=Digests(md5=digest("sw-2.0.zip")))
        what = sw(packed, image("1.0"), boots=(f"flash:{path}", ONE))
        assert start(what, catalog=ZIPPED) == [("proven", "1.0")], path
    unlisted = sw(plain("x.tar.gz", MIB), image("1.0"), boots=("flash:x.tar.gz", ONE))
    assert start(unlisted) == [("proven", "1.0")]
    near = sw(plain("x.bin", MIB), image("1.0"), boots=("flash:x.bin", ONE))
    assert start(near) == [("unproven", None)], "what nobody knows may start"


def test_an_archive_on_flash_is_not_the_target_that_is_there_and_its_image_is_brought():
    packed = plain("sw-2.0.zip", 50 * MIB, digests=Digests(md5=digest("sw-2.0.zip")))
    what = sw(packed, image("1.0"))
    told = " ".join(one.seen for one in audit(what, catalog=ZIPPED, policy=TARGET).findings)
    assert "already on the device" not in told
    unpacked = sw(image("2.0"), image("1.0"))
    found = judged(unpacked, catalog=ZIPPED)
    assert found.members[0].images[Place("flash", "sw-2.0.img")].starts_members


def paired(committed, trial, **more):
    files = [*(plain(f"committed/{name}", MIB, **more) for name in committed),
             *(plain(f"trial/{name}", MIB, **more) for name in trial)]  # fmt: skip
    banks = (
        Bank(name="committed", state="ok", version="4.0",
             places=tuple(f"flash:committed/{name}" for name in committed)),
        Bank(name="trial", state="ok" if trial else "empty", version="4.0" if trial else None,
             places=tuple(f"flash:trial/{name}" for name in trial)),
    )  # fmt: skip
    return device(member(*files, banks=banks), running="4.0")


def contents(*names):
    return tuple(
        Contained(path=name, size=MIB, digests=Digests(md5=digest(name))) for name in names
    )


WHOLE = published(release("4.0", file="all.zip", contains=contents("kernel", "root")))


def verdict(what, name="committed", known=WHOLE):
    return judged(what, PAIRED, known).members[0].banks[name].judgement.verdict


def test_a_committed_directory_that_lacks_a_file_of_its_release_is_not_ready():
    assert verdict(paired(("kernel",), ())) == "unverified"
    assert (
        "it lacks root"
        in judged(paired(("kernel",), ()), PAIRED, WHOLE)
        .members[0]
        .banks["committed"]
        .judgement.why
    )
    proven = device(
        member(
            plain("committed/kernel", MIB, digests=Digests(md5=digest("kernel"))),
            banks=(Bank(name="committed", state="ok", places=("flash:committed/kernel",)),
                   Bank(name="trial", state="empty")),
        )
    )  # fmt: skip
    assert verdict(proven) == "altered"


def test_a_directory_with_fewer_files_than_the_other_of_its_version_is_not_ready():
    known = published(*(release("4.0", file=name, kind="package") for name in ("kernel", "root")))

    def why(committed):
        held = {name: Digests(md5=digest(name)) for name in ("kernel", "root")}
        what = paired(committed, ("kernel", "root"))
        files = [
            replace(file, digests=held[file.path.rpartition("/")[2]])
            for file in what.members[0].volumes[0].files
        ]
        one = replace(what.members[0], volumes=(flash(*files),))
        found = judged(replace(what, members=(one,)), PAIRED, known)
        return found.members[0].banks["committed"].judgement

    assert why(("kernel",)).verdict == "unverified"
    assert "1 of the 2 files" in why(("kernel",)).why
    assert why(("kernel", "root")).verdict == "proven"


def test_a_package_that_two_releases_contain_makes_no_mixture():
    known = published(
        release("4.0", file="a.zip", contains=contents("base", "old")),
        release("5.0", file="b.zip", contains=contents("base", "new")),
    )

    def held(*names):
        files = [plain(f"c/{name}", MIB, digests=Digests(md5=digest(name))) for name in names]
        places = tuple(f"flash:c/{name}" for name in names)
        banks = (
            Bank(name="committed", state="ok", places=places),
            Bank(name="trial", state="empty"),
        )
        found = judged(device(member(*files, banks=banks)), PAIRED, known).members[0]
        return found.banks["committed"].judgement.verdict, found.banks["committed"].version

    assert held("base", "new") == ("proven", "5.0")
    assert held("base", "old") == ("proven", "4.0")
    assert held("old", "new")[0] == "altered"
    assert held("base")[0] == "altered", "it lacks a file of either"


def test_an_empty_trial_beside_a_proven_committed_directory_starts_what_is_committed():
    banks = (bank("committed", "1.0"), Bank(name="trial", state="empty"))
    assert start(device(member(banks=banks)), PAIRED) == [("proven", "1.0")]
    unknown = (bank("committed", "1.0"), Bank(name="trial", state="ok"))
    assert start(device(member(banks=unknown)), PAIRED)[0][0] == "unknown"


def test_a_package_that_a_set_file_lists_twice_is_one_and_goes_with_its_set():
    known = published(release("2.0", file="base", kind="package"), release("1.0"))
    base = plain("pkg/base", MIB, digests=Digests(md5=digest("base")))

    def offers(*packages):
        volume = flash(image("1.0"), base, plain("a.set", 1), sets=(file_set("a.set", *packages),))
        return offered(sw(volumes=(volume,)), catalog=known)

    assert (
        offers("pkg/base", "pkg/base") == offers("pkg/base") == [{"flash:a.set", "flash:pkg/base"}]
    )


# -- components ------------------------------------------------------------------------------------

WEB = [
    *published(
        release("1.0"),
        release("2.0", needs={"components": {"web": "2"}}),
        *(release(version, file=f"web-{version}.pkg", kind="component-image", size=MIB,
                  carries={"web": version}) for version in ("1", "2")),
    )
]  # fmt: skip


def with_web(loads_, *, boots=TWO, version="1"):
    files = [plain(f"web-{each}.pkg", MIB, digests=Digests(md5=digest(f"web-{each}.pkg")))
             for each in ("1", "2")]  # fmt: skip
    web = loads("web", loads_, version=version)
    return sw(image("1.0"), image("2.0"), *files, boots=(boots,), components=(web,))


def test_a_component_whose_file_will_be_new_enough_is_no_finding_before_the_reload():
    assert not {one for one in rules(with_web("flash:web-2.pkg"), catalog=WEB) if "too-old" in one}
    assert "component-too-old" in rules(with_web("flash:web-1.pkg"), catalog=WEB)


def test_a_component_that_the_image_which_starts_carries_is_no_finding():
    def said(**more):
        known = published(
            release("1.0"), release("2.0", needs={"components": {"web": "2"}}, **more)
        )
        web = component("web", "1")
        what = sw(image("1.0"), image("2.0"), boots=(TWO,), components=(web,))
        return "component-too-old" in rules(what, catalog=known)

    assert said()
    assert not said(carries={"web": "2"})


def test_a_component_that_the_device_does_not_have_bars_no_release():
    found = judged(sw(image("1.0"), components=()), catalog=WEB)
    target = found.judge.releases.by_version["2.0"][0]
    assert fit_all(standings(found), target).holds is True
    unknown = judged(sw(image("1.0"), components=None), catalog=WEB)
    assert fit_all(standings(unknown), target).holds is None


def test_with_has_its_effect_on_the_hardware_of_its_row():
    known = published(
        release("1.0", hardware=("SW1*",), with_=("web-2.pkg",)),
        release("1.0", hardware=("SW2*",), with_=("web-1.pkg",)),
        *(release(version, file=f"web-{version}.pkg", kind="component-image", size=MIB,
                  carries={"web": version}) for version in ("1", "2")),
    )  # fmt: skip

    def said(model):
        web = component("web", "1")
        what = replace(sw(image("1.0"), components=(web,)), hardware=Hardware(model=model))
        return "component-not-updated" in rules(what, catalog=known)

    assert said("SW10")
    assert not said("SW20")


def test_done_includes_that_components_are_new_enough_for_what_runs():
    def done(version):
        web = component("web", version)
        what = sw(image("2.0"), boots=(TWO,), running="2.0", place=TWO, components=(web,))
        return compare_device(None, judged(what, catalog=WEB), "2.0").done

    assert (done("1"), done("2"), done(None)) == (False, True, None)


def test_done_is_not_known_where_the_components_or_the_running_release_are_not():
    def done(components, place=TWO, catalog=WEB):
        what = sw(image("2.0"), boots=(TWO,), running="2.0", place=place, components=components)
        return compare_device(None, judged(what, catalog=catalog), "2.0").done

    assert done(None) is None
    assert done((), catalog=CATALOG) is True, "there is none, and none is needed"
    assert done(None, catalog=CATALOG) is True, "none is needed"
    old = (component("web", "1"),)
    assert done(old, place=None) is False, "each release of that version needs a newer one"
    assert done(old, place=None, catalog=[*WEB, *published(release("2.0", file="x.img"))]) is None
    assert done((component("web", "2"),), place=None) is True


# -- settings and the answer -----------------------------------------------------------------------


def test_a_setting_that_is_saved_for_the_next_reload_is_pending_and_not_unsaved():
    def said(*, unsaved):
        boot = Boot(mode=Setting(live="first-found", saved="listed"),
                    order=Setting(saved=(entry(ONE),)),
                    ignores_saved_config=Setting(live=True, saved=False))  # fmt: skip
        one = Member(id="1", volumes=(flash(image("1.0")),), boot=boot, banks=(), components=())
        return rules(device(one, place=ONE, config=Config(unsaved_changes=unsaved)))

    assert said(unsaved=False) & {"boot-setting-pending", "boot-mode-unsaved"} == {
        "boot-setting-pending"
    }
    assert "boot-mode-unsaved" in said(unsaved=None)


def test_a_proven_start_that_is_neither_what_runs_nor_what_is_wanted_is_no_go():
    stale = sw(image("1.0"), image("3.0"), boots=(ONE,), running="3.0", place=THREE)
    assert audit(stale, policy=TARGET).answer == "no-go"
    assert audit(stale).answer == "unclear", "nobody said what is wanted"
    wanted = sw(image("1.0"), image("2.0"), boots=(TWO,))
    assert audit(wanted, policy=TARGET).answer == "go"
    assert audit(sw(image("1.0")), policy=TARGET).answer == "go", "what runs starts again"


def test_the_first_install_on_the_way_to_the_target_is_wanted_too():
    known = published(
        release("1.0"),
        release("2.0", from_=("1",)),
        release("3.0", from_=("2",), hardware=("SW*",)),
    )
    what = sw(image("1.0"), image("2.0"), boots=(TWO,))
    assert audit(what, catalog=known, policy=Policy(reserve="0%", target="3.0")).answer == "go"
    direct = published(release("1.0"), release("2.0"), release("3.0", hardware=("SW*",)))
    assert audit(what, catalog=direct, policy=Policy(reserve="0%", target="3.0")).answer == "no-go"


def test_where_it_is_not_known_whether_the_saved_configuration_is_read_the_answer_is_unclear():
    asked = curious(sheet())
    what = sw(image("1.0"), mode="listed")
    assert audit(what, asked).answer == "unclear"
    boot = replace(what.members[0].boot, ignores_saved_config=Setting(saved=False))
    read = replace(what, members=(replace(what.members[0], boot=boot),))
    assert audit(read, asked).answer == "go"
    assert audit(what).answer == "go", "a sheet that does not ask for it has no such setting"


# -- own records -----------------------------------------------------------------------------------


def own(**digests):
    ours = release("1.0", file="trial.bin", digests=Digests(**digests), size=MIB)
    return [*CATALOG, Published(ours, Origin("own.md5", 3), None, "own")]


def why(file, known):
    found = judged(sw(file, boots=(f"flash:{file.path}",)), catalog=known)
    judgement = found.members[0].images[Place("flash", file.path)].judgement
    return judgement.verdict, judgement.why


def test_a_file_that_differs_from_our_own_record_of_its_name_is_told_so():
    known = own(md5=digest("trial"))
    same = plain("trial.bin", MIB, digests=Digests(md5=digest("trial")))
    assert why(same, known)[0] == "matched"
    other = plain("trial.bin", MIB, digests=Digests(md5=digest("changed")))
    verdict_, told = why(other, known)
    assert (verdict_, "does not match your own record" in told) == ("unlisted", True)
    short = plain("trial.bin", 5)
    assert "5 bytes, your own record" in why(short, known)[1]


def test_a_file_of_our_own_record_that_was_not_read_is_asked_for_by_its_digest():
    verdict_, told = why(plain("trial.bin", MIB), own(md5=digest("trial")))
    assert verdict_ == "unverified"
    assert "has its MD5, which was not read from this file" in told
    assert "not in the catalog" not in told
    assert "not in the catalog" in why(plain("other.bin", MIB), own(md5=digest("trial")))[1]


def test_the_size_of_a_proven_copy_is_a_known_size():
    known = published(release("1.0"), release("2.0", size=None))
    found = judged(sw(image("1.0"), image("2.0")), catalog=known)
    bare = judged(sw(image("1.0")), catalog=known)
    target = found.judge.releases.by_version["2.0"][0]

    def note(device_, **more):
        asked = SpaceAsked(policy=KEEP_ONE, room=Room(release=target), **more)
        return plan_device(device_, asked)[0].note

    assert "the size of sw-2.0.img is neither published" in note(bare)
    assert note(bare, sizes={digest("sw-2.0.img"): 100 * MIB}) == ""
    assert "not published" not in note(found)

"""One simulated device: what is true for one member is true for every other."""

from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    NOW,
    ONE,
    POLICY,
    SIZE,
    THREE,
    TWO,
    audit,
    bank,
    device,
    digest,
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
from builders.planned import Planned
from ovek.engine.bootwalk import walk_device
from ovek.engine.cleanup import plan_device
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.runs import runs_of
from ovek.model.catalog import Contained
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.plan import Room
from ovek.model.policy import Policy
from ovek.model.snapshot import Bank, Boot, BootEntry, Hardware, Setting

BANKS = sheet("banks", fallback="other-bank")
PAIRED = sheet("paired", fallback="other-bank")
KEEP_ONE = Policy(keep=1, reserve="0%")


def plans(what, kind=None, *, free=None, room_for=None, catalog=CATALOG, policy=POLICY, **more):
    found = judged(what, kind, catalog)
    room = Room(sweep=4) if free is None else Room(free=free)
    if room_for is not None:
        room = Room(release=found.judge.releases.by_version[room_for][0])
    return plan_device(found, SpaceAsked(policy=policy, room=room, **more))


def goes(plan):
    return {place for drop in plan.drop for place in drop.files}


def two(first, second, **more):
    """A stack of two members that runs 1.0."""
    return device(first, replace(second, id="2"), **{"place": ONE, **more})


def test_a_file_that_another_member_runs_from_is_held():
    what = two(member(boots=(THREE,)), member(image("2.0"), image("3.0"), boots=()),
               running="2.0", place="2/flash:sw-2.0.img")  # fmt: skip
    assert TWO not in goes(plans(what, policy=KEEP_ONE)[1])
    near = two(member(boots=(THREE,)), member(image("2.0"), image("3.0"), boots=()),
               running="3.0", place="2/flash:sw-3.0.img")  # fmt: skip
    assert TWO in goes(plans(near, policy=KEEP_ONE)[1])


def test_a_file_that_another_member_starts_on_or_names_is_held():
    crosses = ("2/flash:sw-2.0.img",)
    for first in (member(boots=crosses), member(boots=(), once=crosses[0]),
                  member(boots=(ONE, *crosses)), member(boots=(), live=crosses)):  # fmt: skip
        what = two(first, member(image("1.0"), image("2.0"), boots=(ONE,)))
        assert TWO not in goes(plans(what, policy=KEEP_ONE)[1])
    near = two(member(boots=(TWO,)), member(image("1.0"), image("2.0"), boots=(ONE,)))
    assert TWO in goes(plans(near, policy=KEEP_ONE)[1])


def test_a_file_that_a_part_of_another_member_is_loaded_from_is_held():
    web = plain("web-1.pkg", digests=Digests(md5=digest("web")))
    ours = member(image("1.0"), boots=(ONE,), components=(loads("web", "2/flash:web-1.pkg"),))
    assert "flash:web-1.pkg" not in goes(plans(two(ours, member(web, boots=(ONE,))))[1])
    own = member(image("1.0"), boots=(ONE,), components=(loads("web", "flash:web-1.pkg"),))
    assert "flash:web-1.pkg" in goes(plans(two(own, member(web, boots=(ONE,))))[1])


def test_no_member_is_stranded_by_the_plan_of_another():
    """Member 1 starts a broken copy's successor, which lies on member 2."""
    bad = image("3.0", content="flipped")
    what = two(
        member(boots=("2/flash:sw-3.0.img", "2/flash:sw-2.0.img")),
        member(image("1.0"), bad, image("2.0"), boots=(ONE,)),
    )
    found = plans(what, policy=KEEP_ONE)
    assert not goes(found[1]) & {TWO, THREE}
    assert not any(plan.refused for plan in found)


def test_a_bank_of_another_member_is_never_the_own_one():
    first = member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="b", once="2/bank:a")
    what = two(first, member(banks=(bank("a", "3.0"), bank("b", "2.0")), default="b"),
               place=None, in_bank="a")  # fmt: skip
    walk = walk_device(judged(what, BANKS)).members[0]
    assert (walk.boots.version, walk.boots.at) == ("3.0", Place("bank", "a", "2"))
    gone = replace(what, members=what.members[:1])
    tried = walk_device(judged(gone, BANKS)).members[0].tried
    assert (tried[0].result, tried[1].result) == ("absent", "proven")


def test_a_bank_that_alone_holds_what_a_member_runs_is_not_written():
    banks = (bank("a", "1.0"), bank("b", "2.0"), bank("c", "3.0"))
    second = member(banks=banks, default="a", running_version="2.0")
    what = two(member(banks=banks, default="a"), second, place=None, in_bank="a")
    catalog = [*CATALOG, *published(release("4.0"), file="new.json")]
    first, other = plans(what, BANKS, room_for="4.0", catalog=catalog)
    assert (first.bank, other.bank) == ("b", "c")


def test_what_a_member_runs_is_its_own_version_and_place():
    what = two(member(image("1.0"), role="active"), member(image("2.0"), running_version="2.0"))
    first, second = runs_of(judged(what))
    assert (first.version, first.sure, first.place) == (
        "1.0",
        True,
        Place("flash", "sw-1.0.img", "1"),
    )
    assert (second.version, second.sure, second.place) == ("2.0", False, None)
    assert second.places == (Place("flash", "sw-2.0.img", "2"),)


def test_a_rule_on_what_starts_looks_at_every_member():
    catalog = published(release("1.0"), release("2.0", status="withdrawn"))
    alike = member(image("1.0"), boots=(ONE,))
    behind = member(image("2.0"), boots=(TWO,))
    for members in ((alike, behind), (behind, alike)):
        what = two(*members, place=None)
        rules = {one.rule for one in audit(what, catalog=catalog).findings}
        assert "release-withdrawn" in rules
        policy = Policy(reserve="0%", allowed=("1.*",))
        assert "release-not-allowed" in {one.rule for one in audit(what, policy=policy).findings}
    near = two(alike, alike, place=None)
    assert "release-withdrawn" not in {one.rule for one in audit(near, catalog=catalog).findings}


def test_which_of_two_copies_is_the_second_does_not_depend_on_their_order():
    files = [image("1.0"), image("1.0", path="a-copy.img")]
    for order in (files, files[::-1]):
        found = audit(device(member(*order, boots=(ONE,)), place=ONE)).findings
        assert [one.place for one in found if one.rule == "image-second-copy"] == [
            "flash:a-copy.img"
        ]


def fat(*files, **more):
    more.setdefault("volumes", (flash(*files, filesystem="fat32", sets=more.pop("sets", ())),))
    return member(**more)


def test_case_never_matters_on_fat():
    upper = image("2.0", path="SW-2.0.IMG")
    named = device(fat(image("1.0"), upper, boots=(ONE, TWO)), place="flash:SW-1.0.IMG")
    assert not goes(plans(named, policy=KEEP_ONE)[0])
    pinned = device(fat(image("1.0"), upper, boots=(ONE,)), place=ONE)
    assert goes(plans(pinned, policy=KEEP_ONE)[0]) == {"flash:SW-2.0.IMG"}
    by_policy = Policy(keep=1, reserve="0%", pinned=("sw-2*",))
    assert not goes(plans(pinned, policy=by_policy)[0])
    assert not goes(plans(pinned, policy=KEEP_ONE, keep=("sw-2.0.img",))[0])
    exact = device(member(image("1.0"), upper, boots=(ONE,)), place=ONE)
    assert goes(plans(exact, policy=by_policy)[0]) == {"flash:SW-2.0.IMG"}  # another file there


def test_set_files_and_packages_are_found_in_any_case_on_fat():
    catalog = [*CATALOG, *published(release("2.0", file="base", kind="package"), file="p.json")]
    base = plain("PKG/BASE", SIZE, digests=Digests(md5=digest("base")))
    ours = fat(image("1.0"), plain("A.SET", 1), base, sets=(file_set("a.set", "pkg/base"),),
               boots=("flash:a.set",))  # fmt: skip
    found = judged(device(ours, place=ONE), catalog=catalog)
    assert walk_device(found).members[0].outcome == "proven"
    strict = replace(ours, volumes=(replace(ours.volumes[0], filesystem="ext4"),))
    assert walk_device(judged(device(strict), catalog=catalog)).members[0].outcome == "stranded"


def test_an_entry_in_another_case_is_as_severe_on_fat():
    broken = image("1.0", content="flipped")
    what = device(
        fat(broken, image("2.0"), boots=("flash:SW-1.0.IMG", TWO)), running="2.0", place=TWO
    )
    found = {one.rule: one.severity for one in audit(what).findings}
    assert found["boot-target-broken"] == "critical"


def test_a_copy_over_a_file_of_the_same_name_in_another_case_is_no_safe_step():
    """The wanted file's name is, on FAT, that of what boots next."""
    catalog = published(
        release("1.0", file="A-2.IMG"), release("3.0", file="a-2.img"), release("2.0")
    )
    boots = plain("A-2.IMG", SIZE, digests=Digests(md5=digest("A-2.IMG")))
    what = device(fat(boots, boots=("flash:A-2.IMG",)), place="flash:A-2.IMG")
    for detail in ("numbers", "files"):
        one = plans(what, room_for="3.0", catalog=catalog, detail=detail)[0]
        assert (one.enough, one.steps) == (False, ())
        assert "would overwrite flash:A-2.IMG, which is protected (running, next boot" in one.note
    strict = device(member(boots, boots=("flash:A-2.IMG",)), place="flash:A-2.IMG")
    assert plans(strict, room_for="3.0", catalog=catalog)[0].enough


def test_a_copy_goes_over_what_is_broken_and_never_over_what_a_person_keeps():
    broken = image("2.0", content="flipped")
    what = device(member(image("1.0"), broken, boots=(TWO, ONE)), place=ONE)
    assert plans(what, room_for="2.0")[0].enough
    pinned = Policy(reserve="0%", pinned=("sw-2.0.img",))
    assert "pinned by policy" in plans(what, room_for="2.0", policy=pinned)[0].note
    other = image("2.0", content="sw-3.0.img")  # another release under that name, and sound
    running = device(member(image("1.0"), other, boots=(ONE,)), running="3.0", place=TWO)
    assert "which is protected (running" in plans(running, room_for="2.0")[0].note


def banked(*banks, default="a", in_bank="a", files=(), **more):
    return device(member(*files, banks=banks, default=default, **more), in_bank=in_bank)


def of_files(name, *paths, **more):
    return Bank(name=name, state="ok", places=tuple(f"flash:{path}" for path in paths), **more)


def test_a_bank_that_shares_a_file_with_what_runs_is_not_written():
    files = (image("1.0", path="a/sw.img"), image("2.0", path="b/sw.img"))
    apart = (of_files("a", "a/sw.img"), of_files("b", "b/sw.img"))
    assert plans(banked(*apart, files=files), BANKS, room_for="3.0")[0].bank == "b"
    shared = (of_files("a", "a/sw.img"), of_files("b", "b/sw.img", "a/sw.img"))
    one = plans(banked(*shared, files=files), BANKS, room_for="3.0")[0]
    assert (one.bank, one.enough, one.drop) == (None, False, ())


def test_what_a_bank_holds_goes_first_only_if_nothing_else_holds_it():
    files = (image("1.0", path="a/sw.img"), image("2.0", path="b/sw.img"))
    apart = (of_files("a", "a/sw.img"), of_files("b", "b/sw.img"))
    what = banked(*apart, files=files)
    assert goes(plans(what, BANKS, room_for="3.0")[0]) == {"flash:b/sw.img"}
    for more in ({"keep": ("b/*",)}, {"policy": Policy(reserve="0%", pinned=("b/*",))}):
        one = plans(what, BANKS, room_for="3.0", **more)[0]
        assert (one.bank, one.drop) == (None, ())
    pointed = banked(*apart, files=files, components=(loads("web", "flash:b/sw.img"),))
    assert plans(pointed, BANKS, room_for="3.0")[0].bank is None
    settings = (*files, plain("b/site.settings"))
    mixed = (of_files("a", "a/sw.img"), of_files("b", "b/sw.img", "b/site.settings"))
    one = plans(banked(*mixed, files=settings), BANKS, room_for="3.0")[0]
    assert goes(one) == {"flash:b/sw.img"}


def bank_for(*banks, **more):
    kind = more.pop("kind", BANKS)
    return plans(banked(*banks), kind, room_for="3.0", **more)[0].bank


def test_the_bank_whose_loss_costs_least_is_written():
    running = bank("a", "1.0")
    assert bank_for(running, bank("b", "2.0"), bank("c")) == "c"
    assert bank_for(running, bank("b", "2.0"), bank("c", "2.0", state="bad")) == "c"
    broken = bank("c", "2.0", digests=Digests(md5=digest("flipped")))
    assert bank_for(running, bank("b", "2.0"), broken) == "c"
    shelf = frozenset({digest("sw-2.0.img")})
    nine = [*CATALOG, *published(release("0.9"), file="old.json")]
    old, two = bank("b", "0.9"), bank("c", "2.0")
    assert bank_for(running, old, two, shelf=shelf, catalog=nine) == "c"
    assert bank_for(running, old, two, catalog=nine) == "b"
    assert bank_for(running, two, old, catalog=nine) == "b"
    # The release before in another bank: what is later than the new one is not wanted there.
    four = [*CATALOG, *published(release("4.0"), file="new.json")]
    later = bank("b", "4.0")
    assert bank_for(running, later, two, catalog=four) == "c"
    assert bank_for(running, later, two, catalog=four, bank_rule="previous") == "b"


def test_a_bank_that_holds_the_image_already_only_has_to_be_started():
    what = banked(bank("a", "1.0"), bank("b", "3.0"))
    one = plans(what, BANKS, room_for="3.0")[0]
    assert (one.bank, one.there, one.lost) == ("b", True, None)
    told = Planned(what, BANKS, policy=replace(POLICY, target="3.0")).told
    assert told == ["set-default b", "save", "reload"]


def test_part_firmware_and_images_for_other_hardware_cannot_start_from_a_bank():
    catalog = [
        *CATALOG,
        *published(
            release("10.1", file="ldr.img", kind="component-image"),
            release("9.0", hardware=("AP*",)),
            file="more.json",
        ),
    ]  # fmt: skip
    for held, result in (
        (bank("a", "10.1", digests=Digests(md5=digest("ldr.img"))), "not-an-image"),
        (bank("a", "9.0"), "wrong-hardware"),
    ):
        walk = walk_device(judged(banked(held, bank("b", "2.0")), BANKS, catalog)).members[0]
        assert walk.tried[0].result == result
        assert walk.boots.place == "bank:b"


def test_the_hardware_of_a_member_is_its_own():
    catalog = published(release("1.0", hardware=("SW*",)))
    what = two(member(image("1.0"), boots=(ONE,)),
               member(image("1.0"), boots=(ONE,), hardware=Hardware(model="AP10")))  # fmt: skip
    walk = walk_device(judged(what, catalog=catalog))
    assert [each.outcome for each in walk.members] == ["proven", "stranded"]
    assert walk.members[1].tried[0].why == "sw-1.0.img is for SW*; this is AP10"


def test_a_bank_of_a_set_file_is_judged_by_the_set():
    catalog = [*CATALOG, *published(release("2.0", file="base", kind="package"), file="p.json")]
    base = plain("pkg/base", SIZE, digests=Digests(md5=digest("base")))
    volume = flash(plain("a.set", 1), base, sets=(file_set("a.set", "pkg/base"),))
    what = device(member(volumes=(volume,), banks=(of_files("a", "a.set"),), default="a"))
    assert walk_device(judged(what, BANKS, catalog)).next_boot == "proven"
    lacking = replace(volume, files=volume.files[:1])
    what = device(member(volumes=(lacking,), banks=(of_files("a", "a.set"),), default="a"))
    assert walk_device(judged(what, BANKS, catalog)).members[0].tried[0].result == "altered"


def test_a_state_that_is_not_known_is_not_ok():
    unknown = banked(replace(bank("a", "1.0"), state=None), bank("b", "2.0"))
    assert walk_device(judged(unknown, BANKS)).next_boot == "unknown"
    volume = flash(image("1.0"), state=None)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    assert walk_device(judged(what)).next_boot == "unknown"
    assert not plans(what, free=600 * MIB)[0].enough


def test_a_default_bank_that_does_not_exist_is_told_as_that():
    found = audit(banked(bank("a", "1.0"), bank("b", "2.0"), default="x"), BANKS).findings
    told = next(one for one in found if one.rule == "default-bank-missing")
    assert "but the device has only: a, b; bank:a boots instead" in told.seen


CONTAINED = published(
    release("1.0"),
    release(
        "4.0",
        file="all-4.0.zip",
        contains=tuple(
            Contained(path=name, digests=Digests(md5=digest(name)))
            for name in ("kernel.bin", "root.bin")
        ),
    ),
    release("2.0", file="other.bin"),
)


def pair(*trial):
    """A pair that committed kernel.bin and root.bin, with these files on trial."""
    names = ("c/kernel.bin", "c/root.bin", *trial)
    files = [plain(name, digests=Digests(md5=digest(name.partition("/")[2]))) for name in names]
    banks = (of_files("committed", *names[:2]), of_files("trial", *trial))
    return device(member(*files, banks=banks), place="flash:c/kernel.bin", running="4.0")


def test_a_directory_that_lacks_a_file_of_its_release_or_mixes_two_is_altered():
    whole = pair("t/kernel.bin", "t/root.bin")
    found = judged(whole, PAIRED, CONTAINED)
    assert walk_device(found).members[0].boots.place == "bank:trial"
    lacking = pair("t/kernel.bin")
    trial = judged(lacking, PAIRED, CONTAINED).members[0].banks["trial"].judgement
    assert (trial.verdict, trial.why) == ("altered", "it lacks root.bin of all-4.0.zip")
    told = audit(lacking, PAIRED, CONTAINED).findings
    assert any("root.bin" in one.seen and one.place == "bank:trial" for one in told)
    mixing = pair("t/kernel.bin", "t/root.bin", "t/other.bin")
    trial = judged(mixing, PAIRED, CONTAINED).members[0].banks["trial"].judgement
    assert trial.verdict == "altered"
    assert trial.why == "it mixes 2 releases: kernel.bin is of 4.0, other.bin is of 2.0"


def test_an_empty_directory_known_to_be_empty_is_empty():
    what = device(member(image("1.0", path="c/sw.img"),
                         banks=(of_files("trial"), of_files("committed", "c/sw.img"))),
                  place="flash:c/sw.img")  # fmt: skip
    assert walk_device(judged(what, PAIRED)).members[0].boots.place == "bank:committed"
    rules = {one.rule: one.place for one in audit(what, PAIRED).findings}
    assert rules["bank-empty"] == "bank:trial"
    one = plans(what, PAIRED, room_for="2.0")[0]
    assert (one.bank, one.enough) == ("trial", True)


def test_a_file_elsewhere_is_not_there_already_for_a_copy_into_a_directory():
    files = (image("1.0", path="c/sw.img"), image("1.0", path="t/sw.img"), image("2.0"))
    banks = (of_files("trial", "t/sw.img"), of_files("committed", "c/sw.img"))
    what = device(member(*files, banks=banks), place="flash:c/sw.img")
    one = plans(what, PAIRED, room_for="2.0")[0]
    told = Planned(what, PAIRED, policy=replace(POLICY, target="2.0")).told
    assert "copy to flash:t/sw-2.0.img" in told
    assert (one.made_of.there, one.made_of.image) == (False, SIZE)


def test_a_device_without_a_safe_plan_is_refused_by_itself():
    """An empty default, and a loader that halts at the bank that is half written."""
    halts = sheet("banks", fallback="other-bank", on_bad_image="halt")
    what = banked(bank("b"), bank("c"), bank("a", "1.0"), default="b")
    one = plans(what, halts, room_for="3.0")[0]
    assert (one.refused, one.enough) == (True, False)
    assert one.note.startswith("refused, because")
    goes_on = sheet("banks", fallback="other-bank", on_bad_image="next")
    assert plans(what, goes_on, room_for="3.0")[0].enough
    cluttered = replace(
        what, members=(replace(what.members[0], volumes=(flash(plain("a.dump", 30 * MIB)),)),)
    )
    free = plans(cluttered, halts, free=510 * MIB)[0]
    assert (free.enough, goes(free)) == (True, {"flash:a.dump"})


def test_two_banks_that_share_a_file_are_refused_and_free_space_can_be_had_all_the_same():
    files = (image("1.0", path="x/sw.img"), plain("a.dump", 30 * MIB))
    what = banked(of_files("a", "x/sw.img"), of_files("b", "x/sw.img"), files=files)
    assert not plans(what, BANKS, room_for="3.0")[0].enough
    assert goes(plans(what, BANKS, free=510 * MIB)[0]) == {"flash:a.dump"}


def test_an_entry_that_is_not_understood_is_told_and_no_image_is_offered():
    raw = Boot(order=Setting(saved=(BootEntry(place=ONE), BootEntry(raw="the second one"))))
    what = device(member(image("1.0"), image("2.0"), plain("a.dump"), boot=raw), place=ONE)
    assert goes(plans(what, policy=KEEP_ONE)[0]) == {"flash:a.dump"}
    told = next(one for one in audit(what).findings if one.rule == "boot-entry-unclear")
    assert "'the second one'" in told.seen
    other = two(member(image("1.0"), boot=raw), member(image("1.0"), image("2.0"), boots=(ONE,)))
    assert not goes(plans(other, policy=KEEP_ONE)[1])


def test_a_folder_that_a_pointer_names_is_held_whole():
    files = (plain("web/old.log"), plain("web/page.dump"), plain("webs.dump"))
    for name in ("flash:web/", "flash:web"):
        what = device(member(image("1.0"), *files, boots=(ONE,), components=(loads("w", name),)),
                      place=ONE)  # fmt: skip
        assert goes(plans(what)[0]) == {"flash:webs.dump"}
    assert {one.rule for one in audit(what).findings} & {"component-file-missing"} == set()


def in_sets(*sets, boots=(ONE,), place=ONE, more=(), **volume):
    names = ("base", "extra", "loose")
    catalog = [
        *CATALOG,
        *published(*(release("2.0", file=name, kind="package") for name in names), file="p.json"),
    ]
    files = [plain(f"pkg/{name}", SIZE, digests=Digests(md5=digest(name))) for name in names]
    files += [plain(each.set_file, 1) for each in sets]
    one = member(volumes=(flash(image("1.0"), *files, *more, sets=sets, **volume),), boots=boots)
    return device(one, place=place), catalog


def test_a_set_with_a_pinned_package_is_held_whole():
    what, catalog = in_sets(file_set("a.set", "pkg/base", "pkg/extra"))
    free = goes(plans(what, catalog=catalog, policy=KEEP_ONE)[0])
    assert {"flash:a.set", "flash:pkg/base", "flash:pkg/extra"} <= free
    pinned = Policy(keep=1, reserve="0%", pinned=("pkg/extra",))
    assert goes(plans(what, catalog=catalog, policy=pinned)[0]) == {"flash:pkg/loose"}


def test_a_broken_set_whose_package_runs_is_held_whole():
    broken = file_set("a.set", "pkg/base", "pkg/gone")
    what, catalog = in_sets(broken, place="flash:pkg/base", boots=())
    what = replace(what, running=replace(what.running, version="2.0"))
    assert not goes(plans(what, catalog=catalog, policy=KEEP_ONE)[0]) & {
        "flash:a.set", "flash:pkg/base",
    }  # fmt: skip


def test_packages_that_no_set_names_are_leftovers():
    what, catalog = in_sets(file_set("a.set", "pkg/base", "pkg/extra"), boots=(ONE, "flash:a.set"))
    drop = plans(what, catalog=catalog)[0].drop
    assert [(one.place, one.tier) for one in drop] == [("flash:pkg/loose", 1)]
    unknown, catalog = in_sets(boots=(ONE,))
    volume = replace(unknown.members[0].volumes[0], sets=None)
    unknown = device(replace(unknown.members[0], volumes=(volume,)), place=ONE)
    assert not goes(plans(unknown, catalog=catalog)[0])


def fallback_of(what, catalog=CATALOG, policy=POLICY):
    plan = plans(what, catalog=catalog, policy=policy)[0]
    return {keep.place for keep in plan.keep if "kept fallback" in keep.why}


def test_an_archive_and_the_set_made_from_it_are_one_image():
    sets = file_set("a.set", "pkg/base", "pkg/extra", "pkg/loose")
    what, catalog = in_sets(sets, boots=("flash:a.set",), place="flash:a.set",
                            more=(image("2.0"), image("3.0")))  # fmt: skip
    what = replace(what, running=replace(what.running, version="2.0"))
    assert fallback_of(what, catalog) == {THREE}
    without = replace(
        what,
        members=(
            replace(
                what.members[0],
                volumes=(
                    replace(
                        what.members[0].volumes[0],
                        files=tuple(
                            file
                            for file in what.members[0].volumes[0].files
                            if file.path != "sw-3.0.img"
                        ),
                    ),
                ),
            ),
        ),
    )
    assert fallback_of(without, catalog) == {ONE}


def test_a_renamed_copy_is_no_other_image():
    what = device(member(image("1.0"), image("1.0", path="sw-old.img"), image("2.0"), boots=(ONE,)),
                  place=ONE)  # fmt: skip
    assert fallback_of(what) == {TWO}


def test_the_kept_fallback_is_another_version_where_there_is_one():
    lite = release("2.0", file="sw-2.0-lite.img", variant="lite")
    catalog = [*CATALOG, *published(lite, file="lite.json")]
    same = plain("sw-2.0-lite.img", SIZE, modified=NOW,
                 digests=Digests(md5=digest("sw-2.0-lite.img")))  # fmt: skip
    both = device(member(image("2.0"), same, image("1.0"), boots=(TWO,)), running="2.0", place=TWO)
    assert fallback_of(both, catalog) == {ONE}
    alone = device(member(image("2.0"), same, boots=(TWO,)), running="2.0", place=TWO)
    assert fallback_of(alone, catalog) == {"flash:sw-2.0-lite.img"}


def test_what_may_be_the_fallback_and_nobody_measured_is_kept():
    what = device(member(image("1.0"), image("3.0", digests=None), image("2.0"), boots=(ONE,)),
                  place=ONE)  # fmt: skip
    assert fallback_of(what) == {TWO, THREE}
    older = device(member(image("1.0"), image("2.0", digests=None), image("3.0"), boots=(ONE,)),
                   place=ONE)  # fmt: skip
    assert fallback_of(older) == {THREE}


def test_free_after_is_never_more_than_the_volume_holds():
    volume = flash(image("1.0"), plain("a.dump", 90 * MIB), free=90 * MIB, capacity=100 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    assert plans(what)[0].free_after == 100 * MIB
    assert not plans(what, free=120 * MIB)[0].enough


def test_room_is_not_counted_for_the_file_that_a_copy_goes_over():
    tight = flash(image("1.0"), image("2.0", content="flipped"), free=10 * MIB)
    what = device(member(volumes=(tight,), boots=(ONE, TWO)), place=ONE)
    one = plans(what, room_for="2.0")[0]
    assert (one.enough, one.made_of.image, one.drop) == (True, 0, ())


def test_where_only_the_reserve_does_not_fit_nothing_locked_is_named_for_it():
    volume = flash(image("1.0"), plain("a.dump", 20 * MIB), free=90 * MIB, capacity=1000 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    one = plans(what, room_for="2.0", policy=Policy(reserve="30MiB"))[0]
    assert (one.enough, one.fits, one.short_by, one.locked) == (False, True, 20 * MIB, ())
    assert goes(one) == {"flash:a.dump"}
    assert plans(what, room_for="2.0", policy=Policy(reserve="5MiB"))[0].enough


def test_no_answer_is_better_for_a_version_of_five_thousand_digits():
    long = "1" * 5000
    what = device(member(image("1.0", digests=None), boots=(ONE,)), running=long, place=ONE)
    told = next(one for one in audit(what).findings if one.rule == "facts-missing")
    assert "its value has 5000 characters, too many for a version" in told.seen
    other = published(release(long, file="sw-1.0.img"))
    assert audit(what, catalog=other).running == long

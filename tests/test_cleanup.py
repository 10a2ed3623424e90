from datetime import timedelta
from typing import NamedTuple

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from builders import (
    CATALOG,
    MIB,
    NOW,
    OLD,
    ONE,
    POLICY,
    SIZE,
    THREE,
    TWO,
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
from builders.planned import Planned, short
from ovek.engine.bootwalk import walk_device
from ovek.engine.choose import DropUnit, choose
from ovek.engine.cleanup import plan_device, with_deletions, with_steps
from ovek.engine.confirm import confirm
from ovek.engine.hold import Holds, Wishes
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.runs import runs_of
from ovek.engine.tier import Tiers
from ovek.engine.units import units_of
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.plan import Room
from ovek.model.policy import Policy
from ovek.model.sheet import Capacity
from ovek.model.snapshot import Bank, Boot, FileSet, Setting, Volume
from ovek.model.walk import RELOADS_WORST_FIRST
from ovek.render.steps import need_of


class Stand(NamedTuple):
    """One file: its role, the reasons that hold it in words, and its tier if it may go."""

    role: str
    held: tuple[str, ...]
    tier: int | None


def stands(what, kind=None, policy=POLICY, catalog=CATALOG, **more):
    """Role, holds and tier of every file, by path."""
    found = judged(what, kind, catalog)
    told, tiers = told_of(found, policy, **more)
    return {
        each.place.path: Stand(
            each.role, tuple(reason.text for reason in each.reasons), tiers.of(each)[0]
        )
        for each in told
    }


def told_of(found, policy=POLICY, *, shelf=frozenset(), unlocked=frozenset(), room_for=None):
    """The files of a device's first member, and their tiers."""
    release = found.judge.releases.by_name[room_for][0] if room_for else None
    holds = Holds(found, walk_device(found), runs_of(found), Wishes(policy=policy, release=release))
    one = found.members[0]
    told = holds.of_member(one)
    return told, Tiers(one, told, shelf, unlocked)


def plans(what, free=None, kind=None, catalog=CATALOG, policy=POLICY, room=None, **more):
    """The plans of a device; `room_for` is a version of the catalog."""
    found = judged(what, kind, catalog)
    version = more.pop("room_for", None)
    if version is not None:
        room = Room(release=found.judge.releases.by_version[version][0])
    return plan_device(found, SpaceAsked(policy=policy, room=room or Room(free=free), **more))


def plan(what, free=None, kind=None, **more):
    return plans(what, free, kind, **more)[0]


def stepped(what, free=None, kind=None, *, catalog=CATALOG, policy=POLICY, room_for=None, **more):
    """The plan of a device with its steps: of the deletions alone, or up to the copy."""
    found = plans(what, free, kind, catalog, policy, room_for=room_for, **more)
    if room_for is None:
        asked = SpaceAsked(policy=policy, room=Room(free=free), **more)
        return with_deletions(judged(what, kind, catalog), found, asked)[0]
    made = Planned(
        what, kind, catalog, replace(policy, target=room_for), aim="target",
        shelf=more.get("shelf", frozenset()), may_drop=more.get("unlocked", frozenset()),
    )  # fmt: skip
    return with_steps(made.subject, found, made.asked)[0]


def told(one):
    return [short(step.do) for step in one.steps]


def dropped(one):
    return [drop.place.removeprefix("flash:") for drop in one.drop]


def running(*files, boots=(ONE,), **more):
    """A device that runs and starts 1.0 from flash."""
    return device(member(image("1.0"), *files, boots=boots, **more), place=ONE)


def test_every_reason_that_holds_a_file_is_told():
    found = stands(running(image("2.0"), image("3.0"), boots=(ONE, TWO)))
    assert found["sw-1.0.img"].held == ("running", "next boot", "in the boot order")
    assert found["sw-2.0.img"].held == ("in the boot order",)


def test_the_newest_other_proven_image_is_the_kept_fallback():
    found = stands(running(image("2.0"), image("3.0")))
    assert found["sw-3.0.img"].held == ("kept fallback",)
    assert found["sw-3.0.img"].tier == 5
    assert found["sw-2.0.img"].tier == 4


def test_the_image_that_room_is_made_for_counts_as_kept():
    found = stands(running(image("2.0")), room_for="sw-3.0.img")
    assert found["sw-2.0.img"].held == ()


def test_policy_keeps_as_many_as_it_says():
    found = stands(running(image("2.0"), image("3.0")), policy=Policy(keep=3, reserve="0%"))
    assert found["sw-2.0.img"].held == ("kept fallback",)


def test_an_entry_that_cannot_start_is_held_too():
    found = stands(running(image("2.0", content="flipped"), boots=(TWO, ONE)))
    assert found["sw-2.0.img"].tier is None


@pytest.mark.parametrize("path", ["a.settings", "a.licence", "a.key", "mystery"])
def test_configuration_licences_keys_and_the_unknown_are_held(path):
    assert stands(running(plain(path)))[path].tier is None


def test_pinned_files_are_held():
    policy = Policy(reserve="0%", pinned=("keep/*",))
    assert stands(running(plain("keep/a.dump")), policy=policy)["keep/a.dump"].tier is None
    assert stands(running(plain("a.dump")), policy=policy)["a.dump"].tier == 1


def test_a_parts_pointer_target_is_held_and_so_is_a_component_image_while_pointers_are_unknown():
    web = plain("web-1.pkg")
    assert stands(running(web, components=(loads("web", "flash:web-1.pkg"),)))["web-1.pkg"].held
    assert stands(running(web, components=None))["web-1.pkg"].held
    assert stands(running(web))["web-1.pkg"].tier == 4


def test_leftovers_and_broken_images_that_nothing_refers_to_are_tier_one():
    found = stands(running(plain("x.dump"), plain("x.partial"), image("2.0", content="flipped")))
    assert {found[path].tier for path in ("x.dump", "x.partial", "sw-2.0.img")} == {1}


def test_a_log_may_go_only_when_it_is_old():
    new = plain("new.log", modified=NOW - timedelta(days=2))
    found = stands(running(plain("old.log"), new, plain("undated.log", modified=None)))
    assert found["old.log"].tier == 1
    assert found["new.log"].tier is None
    assert found["undated.log"].tier is None


def test_a_second_copy_of_a_held_file_is_tier_two():
    assert stands(running(image("1.0", path="spare.img")))["spare.img"].tier == 2


def test_a_copy_that_agrees_in_a_weak_digest_only_is_no_copy():
    strong = {"md5": digest("sw-1.0.img"), "sha256": "1" * 64}
    held = image("1.0", digests=Digests(**{**strong, "sha256": "2" * 64}))
    what = device(member(held, plain("spare", digests=Digests(**strong)), boots=(ONE,)), place=ONE)
    assert stands(what)["spare"].tier != 2


def test_an_old_image_on_the_shelf_is_tier_three_and_else_four():
    old = running(image("2.0"), image("3.0"))
    shelf = frozenset({digest("sw-2.0.img")})
    assert stands(old, shelf=shelf)["sw-2.0.img"].tier == 3
    assert stands(old)["sw-2.0.img"].tier == 4


def test_nothing_is_offered_where_the_boot_settings_are_not_known():
    blind = device(member(image("1.0"), image("2.0"), boot=None), place=ONE)
    assert stands(blind)["sw-2.0.img"].tier is None


def test_every_image_of_the_running_version_is_held_where_the_place_is_not_known():
    what = device(member(image("1.0"), image("2.0"), image("3.0"), boots=(THREE,)), running="2.0")
    assert "running" in stands(what)["sw-2.0.img"].held


def test_a_sheet_without_roles_offers_nothing():
    assert plan(running(plain("x.dump")), 900 * MIB, sheet(roles={})).drop == ()


def test_a_plan_takes_the_fewest_of_the_highest_tier_then_the_fewest_below():
    files = [image("2.0"), plain("a.dump", 30 * MIB), plain("b.dump", 40 * MIB)]
    what = running(*files, image("3.0"))
    assert dropped(plan(what, 540 * MIB)) == ["b.dump"]
    assert dropped(plan(what, 560 * MIB)) == ["a.dump", "b.dump"]
    assert dropped(plan(what, 600 * MIB)) == ["sw-2.0.img"]
    assert dropped(plan(what, 620 * MIB)) == ["a.dump", "sw-2.0.img"]


def test_of_equal_counts_the_least_is_freed_beyond_the_need():
    files = [plain(f"{size}.dump", size * MIB) for size in (50, 20, 11, 10)]
    assert dropped(plan(running(*files), 511 * MIB)) == ["11.dump"]


def test_of_equal_sizes_the_oldest_goes():
    new = plain("a.dump", modified=NOW)
    assert dropped(plan(running(new, plain("b.dump", modified=OLD)), 501 * MIB)) == ["b.dump"]


def test_where_there_is_room_nothing_goes():
    one = plan(running(plain("a.dump")), 400 * MIB)
    assert (one.enough, one.drop, one.free_after) == (True, (), 500 * MIB)


def test_where_no_choice_is_enough_it_says_by_how_much_and_what_is_locked():
    one = plan(running(image("2.0"), plain("a.dump")), 601 * MIB + 1)
    assert (one.enough, one.short_by) == (False, 100 * MIB + 1)
    assert [(each.tier, each.adds, each.alone, each.enough) for each in one.locked] == [
        (5, SIZE, False, False),
        (6, SIZE, False, True),
    ]


def test_unlocked_tiers_are_used_only_where_needed():
    what = running(image("2.0"), plain("a.dump"))
    fallback = frozenset({"fallback"})
    assert dropped(plan(what, 501 * MIB, unlocked=fallback)) == ["a.dump"]
    assert dropped(plan(what, 590 * MIB, unlocked=fallback)) == ["sw-2.0.img"]


def test_deleting_frees_whole_clusters():
    volume = flash(image("1.0"), plain("a.dump", 1), cluster=MIB)
    one = plan(device(member(volumes=(volume,), boots=(ONE,)), place=ONE), 501 * MIB)
    assert (one.enough, one.drop[0].frees) == (True, MIB)


def sets_of(*, boots, **packages):
    """Two sets, `a.set` and `b.set`, that share pkg/shared."""
    catalog = published(*(release("1.0", file=name, kind="package") for name in packages))
    files = [plain(f"pkg/{name}", SIZE, digests=Digests(md5=digest(name))) for name in packages]
    sets = (
        file_set("a.set", "pkg/only_a", "pkg/shared"),
        file_set("b.set", "pkg/only_b", "pkg/shared"),
    )
    volume = flash(plain("a.set", 1), plain("b.set", 1), *files, sets=sets)
    return device(member(volumes=(volume,), boots=boots), place="flash:a.set"), catalog


def test_a_set_goes_as_a_whole_but_what_it_shares_stays():
    what, catalog = sets_of(boots=("flash:a.set",), only_a=1, only_b=1, shared=1)
    one = plan(what, 550 * MIB, catalog=catalog, policy=Policy(keep=1, reserve="0%"))
    assert one.drop[0].files == ("flash:b.set", "flash:pkg/only_b")
    kept = {keep.place: keep.why for keep in one.keep}
    assert "a package of flash:a.set" in kept["flash:pkg/shared"][0]


def test_room_for_an_image_is_its_size_what_it_unpacks_to_and_the_reserve():
    catalog = published(release("9.0", needs={"unpacked": 7 * MIB}), release("1.0"))
    one = plan(running(), catalog=catalog, room_for="9.0", policy=Policy(reserve="10 MiB"))
    assert one.wanted == SIZE + 17 * MIB
    assert need_of(one.made_of) == (
        "100 MiB for the image, 7.00 MiB for unpacking, 10.0 MiB for the reserve"
    )
    kind = replace(sheet(), capacity=Capacity(installing=3 * MIB))
    one = plan(running(), None, kind, catalog=catalog, room_for="9.0")
    assert one.wanted == SIZE + 10 * MIB


def test_an_image_that_is_there_already_needs_no_room():
    assert plan(running(), room_for="1.0").wanted == 0


def test_a_bank_layout_names_the_bank_to_write_to():
    kind = sheet("banks", fallback="other-bank")

    def target(*banks, **more):
        what = device(member(banks=banks, default="a", **more), in_bank="a")
        return plan(what, None, kind, room_for="3.0").bank

    assert target(bank("a", "1.0"), bank("b", "2.0")) == "b"
    assert target(bank("a", "1.0"), bank("b", "2.0"), once="bank:b") is None
    assert target(bank("a", "1.0"), bank("b", "2.0"), bank("c")) == "c"
    unproven = bank("a", "1.0", digests=Digests(md5=digest("x")))
    assert target(unproven, bank("b", "2.0")) is None


def test_where_the_running_bank_is_not_known_no_bank_may_be_written():
    what = member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="a")
    kind = sheet("banks", fallback="other-bank")
    assert plan(what, None, kind, room_for="3.0").bank is None


def test_where_the_next_start_is_not_known_no_bank_may_be_written():
    what = device(member(banks=(bank("a", "1.0"), bank("b", "2.0"))), in_bank="a")
    one = plan(what, None, sheet("banks", fallback="other-bank"), room_for="3.0")
    assert (one.bank, one.enough) == (None, False)
    assert "default bank is unknown" in one.note


def test_where_the_free_space_is_not_known_there_is_no_plan():
    one = plan(member(volumes=(flash(image("1.0"), free=None),), boots=(ONE,)), 1)
    assert (one.enough, one.short_by, one.drop) == (False, None, ())


def unit(at, tier, frees, age=0.0):
    return DropUnit(
        places=(Place("flash", f"{at:02}"),), tier=tier, why="", frees=frees, age=float(age)
    )


def subsets(units):
    for mask in range(2 ** len(units)):
        yield [one for at, one in enumerate(units) if mask >> at & 1]


def cost(chosen):
    """What a choice costs, worst first: numbers by tier, bytes, then how old and how named."""
    numbers = tuple(sum(one.tier == tier for one in chosen) for tier in (6, 5, 4, 3, 2, 1))
    ranks = sorted((one.age, str(one.places[0])) for one in chosen)
    return numbers, sum(one.frees for one in chosen), ranks


sizes = st.integers(1, 9) | st.sampled_from([4096, 8192, 12288, 1_000_003, 7_777_777])
some_units = st.lists(st.tuples(st.integers(1, 6), sizes, st.integers(0, 2)), max_size=11).map(
    lambda told: [unit(at, *one) for at, one in enumerate(told)]
)
few_tiers = st.lists(
    st.tuples(st.integers(1, 2), sizes, st.integers(0, 2)), min_size=4, max_size=11
).map(lambda told: [unit(at, *one) for at, one in enumerate(told)])


def is_the_best_of_all(units, need):
    chosen = choose(units, need)
    enough = [each for each in subsets(units) if sum(one.frees for one in each) >= need]
    if chosen is None:
        assert not enough
        return
    best = min(enough, key=cost)
    assert chosen.proven
    assert cost(chosen.units) == cost(best)


@settings(max_examples=80)
@given(some_units | few_tiers, st.integers(0, 20_000_000), st.integers(0, 100))
def test_the_choice_is_the_best_of_all_subsets(units, need, share):
    is_the_best_of_all(units, need)
    is_the_best_of_all(units, sum(one.frees for one in units) * share // 100)


@settings(max_examples=40)
@given(few_tiers, st.integers(1, 99))
def test_the_choice_by_halves_is_the_best_of_all_subsets_too(units, share):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("ovek.engine.choose._MOST_BITS", 0)
        is_the_best_of_all(units, sum(one.frees for one in units) * share // 100)


def test_a_choice_among_too_many_is_enough_and_says_that_it_is_not_proven():
    sizes = [1_000_003 * at**3 % 39_999_983 for at in range(1, 61)]
    units = [unit(at, 1, size) for at, size in enumerate(sizes)]
    need = sum(sizes) // 2
    chosen = choose(units, need)
    assert not chosen.proven
    assert sum(one.frees for one in chosen.units) >= need
    largest = sorted(sizes, reverse=True)
    fewest = next(n for n in range(61) if sum(largest[:n]) >= need)
    assert len(chosen.units) == fewest
    what = running(*(plain(f"{at:02}.dump", size) for at, size in enumerate(sizes)))
    assert "is unknown" in plan(what, 500 * MIB + need).note


def test_one_pair_among_many_frees_what_is_wanted_to_the_byte():
    files = [plain(f"{size}.dump", size * MIB) for size in (190, 185, 150, 131, 120, 110, 96, 80)]
    assert sorted(dropped(plan(running(*files), 800 * MIB))) == ["110.dump", "190.dump"]


names = st.sampled_from(["1.0", "2.0", "3.0"])


@given(
    st.lists(names, max_size=3),
    st.sets(names),
    st.sets(names),
    st.sampled_from(["none", "first-found"]),
    st.integers(400, 900),
    names,
)
def test_no_plan_makes_a_walk_worse_or_touches_a_held_file(
    boots, there, bad, fallback, free, running
):
    files = [image(name, content="x" if name in bad else None) for name in sorted(there)]
    what = device(
        member(*files, plain("a.dump", 30 * MIB), boots=tuple(f"flash:sw-{b}.img" for b in boots)),
        running=running,
        place=f"flash:sw-{running}.img",
    )
    kind = sheet(fallback=fallback)
    one = plan(what, free * MIB, kind)
    rank = RELOADS_WORST_FIRST.index
    assert rank(one.next_boot_after) >= rank(one.next_boot_before)
    held = {path for path, each in stands(what, kind).items() if each.tier is None}
    assert not held & set(dropped(one))


@st.composite
def cluttered(draw):
    """A device with sets that share packages, copies, leftovers and clusters, and its catalog."""
    catalog = published(
        *(release(version) for version in ("1.0", "2.0", "3.0")),
        *(release("1.0", file=f"p{at}", kind="package") for at in range(4)),
    )
    files = [
        image(name, content=draw(st.sampled_from([None, None, "x"])))
        for name in draw(st.lists(names, unique=True))
    ]
    files += [
        image(name, path=f"spare/{name}") for name in draw(st.lists(names, max_size=2, unique=True))
    ]
    files += [
        plain(f"{at}.dump", draw(st.integers(0, 40)) * MIB + draw(st.sampled_from([0, 1, 4095])))
        for at in range(draw(st.integers(0, 4)))
    ]
    packages = [f"pkg/p{at}" for at in range(4)]
    there = draw(st.lists(st.sampled_from(packages), unique=True))
    files += [
        plain(path, 10 * MIB, digests=Digests(md5=digest(path.removeprefix("pkg/"))))
        for path in there
    ]
    sets = tuple(
        FileSet(set_file=name, packages=tuple(draw(st.lists(st.sampled_from(packages), min_size=1,
                                                            max_size=3, unique=True))))
        for name in draw(st.lists(st.sampled_from(["a.set", "b.set"]), unique=True))
    )  # fmt: skip
    files += [plain(one.set_file, 1) for one in sets]
    places = st.sampled_from([ONE, TWO, THREE, "flash:a.set", "flash:b.set", "flash:gone"])
    volume = flash(*files, sets=sets, cluster=draw(st.sampled_from([None, 4096, MIB])))
    running = draw(places)
    one = member(volumes=(volume,), boots=tuple(draw(st.lists(places, max_size=3))))
    return device(one, place=running), catalog


@settings(max_examples=40)
@given(
    cluttered(),
    st.integers(0, 700),
    st.sampled_from(["none", "first-found"]),
    st.sampled_from(["next", "halt"]),
)
def test_every_prefix_of_the_steps_keeps_the_promised_reload_verdict(pair, free, fallback, bad):
    what, catalog = pair
    kind = sheet(fallback=fallback, on_bad_image=bad)
    one = stepped(what, free * MIB, kind, catalog=catalog)
    rank = RELOADS_WORST_FIRST.index
    assert one.danger == ()
    for step in one.steps:
        assert not step.do.harm
        assert rank(step.do.next_boot) >= rank(one.next_boot_before)
        # A boot that there was stays; where there was none, a plan may bring one about.
        assert step.do.boots == one.boots_before or one.boots_before is None
    held = {f"flash:{path}" for path, each in stands(what, kind, catalog=catalog).items()
            if each.tier is None}  # fmt: skip
    deleted = {place for drop in one.drop for place in drop.files}
    assert not held & deleted
    told = {keep.place for keep in one.keep} | deleted
    assert told == {f"flash:{file.path}" for file in what.members[0].volumes[0].files}


@settings(max_examples=40)
@given(cluttered(), st.integers(500, 640), st.booleans())
def test_a_plan_is_the_best_of_all_subsets_of_its_units(pair, free, unlock):
    what, catalog = pair
    unlocked = frozenset({"fallback"} if unlock else set())
    found = judged(what, sheet(), catalog)
    one = found.members[0]
    volume = one.member.volumes[0]
    told, tiers = told_of(found, unlocked=unlocked)
    units = [
        unit
        for unit in units_of(one, volume, told, tiers, volume.cluster or 1)
        if unit.tier < 5 or (unit.tier == 5 and unlock)
    ]
    need = free * MIB - volume.free
    enough = [each for each in subsets(units) if sum(one.frees for one in each) >= need]
    plan = plans(what, free * MIB, catalog=catalog, unlocked=unlocked)[0]
    assert plan.enough == bool(enough)
    if enough:
        best = min(enough, key=cost)
        assert {drop.files for drop in plan.drop} == {tuple(map(str, unit.places)) for unit in best}
        assert plan.free_after == volume.free + sum(unit.frees for unit in best)


def test_a_share_of_the_volume_may_be_asked_for():
    volume = flash(image("1.0"), plain("a.dump", 30 * MIB), free=10 * MIB, capacity=200 * MIB)
    what = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
    assert dropped(plan(what, room=Room(share=0.2))) == ["a.dump"]
    assert plan(what, room=Room(share=0.05)).drop == ()
    unknown = device(member(volumes=(flash(image("1.0"), capacity=None),), boots=(ONE,)), place=ONE)
    assert "is unknown" in plan(unknown, room=Room(share=0.2)).note


def test_a_sweep_takes_everything_up_to_a_tier_and_nothing_more():
    what = running(image("1.0", path="spare.img"), image("2.0"), image("3.0"), plain("a.dump"))
    assert dropped(plan(what, room=Room(sweep=1))) == ["a.dump"]
    assert dropped(plan(what, room=Room(sweep=2))) == ["a.dump", "spare.img"]
    assert dropped(plan(what, room=Room(sweep=4))) == ["a.dump", "spare.img", "sw-2.0.img"]
    fallback = plan(what, room=Room(sweep=5), unlocked=frozenset({"fallback"}))
    assert "sw-3.0.img" in dropped(fallback)


def test_a_file_that_a_person_keeps_is_not_offered():
    what = running(plain("a.dump", 30 * MIB), plain("b.dump", 40 * MIB))
    assert dropped(plan(what, 510 * MIB, keep=("b.*",))) == ["a.dump"]
    kept = {one.place: one.why for one in plan(what, 510 * MIB, keep=("b.*",)).keep}
    assert kept["flash:b.dump"] == ("kept by --keep",)


def test_the_running_image_goes_only_by_name_and_the_plan_tells_the_stretch_of_danger():
    what = device(member(volumes=(flash(image("1.0"), free=50 * MIB),), boots=(ONE,)), place=ONE)
    locked = plan(what, room_for="2.0")
    assert (locked.enough, locked.locked[0].tier, locked.locked[0].enough) == (False, 6, True)
    one = stepped(what, room_for="2.0", unlocked=frozenset({"running"}))
    assert dropped(one) == ["sw-1.0.img"]
    assert told(one) == [
        f"back-up {ONE}", f"delete {ONE}", f"copy to {TWO}", f"check-digest {TWO}",
    ]  # fmt: skip
    assert one.danger == (2, 3, 4)
    assert [step.do.next_boot for step in one.steps[1:]] == ["stranded"] * 3


def test_a_copy_of_what_may_go_is_no_reason_to_let_both_go_as_copies():
    what = running(image("2.0"), image("2.0", path="spare.img"))
    found = stands(what, unlocked=frozenset({"fallback"}))
    assert (found["sw-2.0.img"].tier, found["spare.img"].tier) == (5, 4)
    assert stands(what)["spare.img"].tier == 2


def test_a_running_set_is_unlocked_as_a_whole():
    what, catalog = sets_of(boots=("flash:a.set",), only_a=1, only_b=1, shared=1)
    only = frozenset({"running"})
    one = plan(what, 700 * MIB, catalog=catalog, policy=Policy(keep=1, reserve="0%"), unlocked=only)
    assert [drop.files for drop in one.drop] == [
        ("flash:b.set", "flash:pkg/only_b"),
        ("flash:a.set", "flash:pkg/only_a"),
    ]


def test_what_is_found_nowhere_else_is_backed_up_before_anything_is_deleted():
    one = stepped(running(image("2.0"), image("3.0")), 590 * MIB)
    assert told(one) == [f"back-up {TWO}", f"delete {TWO}"]
    assert [step.free for step in one.steps] == [500 * MIB, 600 * MIB]


def test_the_sheet_gives_the_line_to_type():
    kind = replace(sheet(), wording={"delete": "drop {member} {volume} {path}"})
    one = stepped(running(plain("a.dump", 9 * MIB)), 505 * MIB, kind)
    assert [step.do.lines for step in one.steps] == [("drop 1 flash a.dump",)]


def test_braces_that_hold_no_word_stay_in_the_line_to_type():
    kind = replace(sheet(), wording={"delete": "drop {path} { x {0.a} }"})
    one = stepped(running(plain("a.dump", 9 * MIB)), 505 * MIB, kind)
    assert one.steps[0].do.lines == ("drop a.dump { x {0.a} }",)


def test_the_image_that_room_is_made_for_is_not_deleted_where_it_is_there_already():
    what = running(image("3.0", path="new/sw-3.0.img"), plain("a.dump", 9 * MIB))
    tight = Policy(reserve="505MiB")
    one = stepped(what, room_for="3.0", policy=tight)
    assert dropped(one) == ["a.dump"]
    kept = {keep.place: keep.why for keep in one.keep}
    assert kept["flash:new/sw-3.0.img"] == ("the image that the space is for",)
    assert not any(each.startswith("copy") for each in told(one))


def test_a_broken_file_of_the_name_is_copied_again():
    what = running(image("3.0", content="x"), boots=(THREE, ONE))
    one = stepped(what, room_for="3.0")
    assert f"copy to {THREE}" in told(one)


def test_a_member_in_trouble_does_not_hide_what_a_step_does_to_another():
    lost = member(boots=(ONE,), id="2")
    small = member(volumes=(flash(image("1.0"), free=50 * MIB),), boots=(ONE,))
    what = device(small, lost, place=ONE)
    one = stepped(what, room_for="2.0", unlocked=frozenset({"running"}))
    assert one.danger[:2] == (2, 3)


def test_a_plan_is_done_when_the_image_has_taken_the_room_that_was_made():
    what = device(
        member(volumes=(flash(image("1.0"), plain("a.dump", 60 * MIB), free=50 * MIB),),
               boots=(ONE,)),
        place=ONE,
    )  # fmt: skip
    one = plan(what, room_for="2.0")
    volume = flash(image("1.0"), image("2.0"), free=10 * MIB)
    now = judged(device(member(volumes=(volume,), boots=(ONE,)), place=ONE))
    release_2 = now.judge.releases.by_version["2.0"][0]
    held = confirm(one, now, release_2)
    assert (held.not_done, held.too_much, held.enough) == ((), (), True)


def test_another_volume_and_a_stick_are_other_ways_where_there_is_not_enough():
    card = flash(name="card", free=900 * MIB)
    what = device(member(volumes=(flash(image("1.0"), free=0), card), boots=(ONE,)), place=ONE)
    ways = plan(what, room_for="2.0").alternatives
    assert ways[0].startswith("another volume: card has")
    assert ways[1].startswith("boot the new image from a stick")


def test_members_are_planned_for_one_by_one():
    two = member(volumes=(flash(image("1.0"), plain("a.dump"), free=0),), boots=(ONE,), id="2")
    what = device(member(image("1.0"), boots=(ONE,)), two, place=ONE)
    assert [dropped(one) for one in plans(what, MIB)] == [[], ["a.dump"]]


def test_a_sheet_without_roles_says_why_nothing_is_offered():
    one = plan(running(plain("x.dump")), 900 * MIB, sheet(roles={}, names=()))
    assert "has no [roles]" in one.note


def test_a_bank_plan_says_what_is_lost_and_is_safe_while_it_is_written():
    kind = sheet("banks", fallback="other-bank")
    what = device(member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="a"), in_bank="a")
    one = stepped(what, None, kind, room_for="3.0")
    assert (one.lost.version, one.lost.verdict, one.lost.elsewhere) == ("2.0", "proven", False)
    assert told(one) == ["back-up bank:b", "write-bank b", "check-digest bank:b"]
    assert [step.do.boots for step in one.steps] == ["1.0 from bank:a"] * 3
    shelf = frozenset({digest("sw-2.0.img")})
    assert plan(what, None, kind, room_for="3.0", shelf=shelf).lost.elsewhere


def paired(trial, committed, *, running, once=None):
    files = [image(trial, path="t/sw.img"), image(committed, path="c/sw.img")]
    banks = (
        Bank(name="trial", state="ok", places=("flash:t/sw.img",)),
        Bank(name="committed", state="ok", places=("flash:c/sw.img",)),
    )
    place = f"flash:{running}/sw.img"
    version = trial if running == "t" else committed
    return device(member(*files, banks=banks, once=once), place=place, running=version)


def test_a_pair_is_written_in_the_trial_directory_and_scheduled():
    kind = sheet("paired", fallback="other-bank")
    one = stepped(paired("1.0", "1.0", running="t"), None, kind, room_for="2.0")
    assert (one.bank, one.drop[0].place) == ("trial", "flash:t/sw.img")
    assert one.danger == ()
    assert told(one)[-1] == "check-digest flash:t/sw-2.0.img"


def test_a_trial_that_runs_and_is_not_committed_is_not_written_over():
    kind = sheet("paired", fallback="other-bank")
    one = plan(paired("2.0", "1.0", running="t"), None, kind, room_for="3.0")
    assert (one.enough, one.bank) == (False, None)
    assert "commit it or roll it back first" in one.note
    one = plan(paired("2.0", "1.0", running="c", once="bank:trial"), None, kind, room_for="3.0")
    assert "scheduled" in one.note


def test_a_plan_is_held_against_a_later_snapshot():
    what = running(plain("a.dump", 30 * MIB), plain("b.dump", 30 * MIB), plain("x.settings"))
    one = plan(what, 560 * MIB)

    def held(*files, free=500 * MIB):
        volume = flash(image("1.0"), *files, free=free)
        now = device(member(volumes=(volume,), boots=(ONE,)), place=ONE)
        return confirm(one, judged(now), None)

    done = held(plain("x.settings"), free=560 * MIB)
    assert (done.not_done, done.too_much, done.enough) == ((), (), True)
    half = held(plain("a.dump"), plain("x.settings"))
    assert (half.done, half.not_done) == (("flash:b.dump",), ("flash:a.dump",))
    assert held(free=600 * MIB).too_much == ("flash:x.settings",)


def test_a_volume_that_is_too_small_for_an_image_gets_no_plan():
    catalog = published(release("1.0"), release("9.0", needs={"volume": 20_000 * MIB}))
    assert "needs a volume of" in plan(running(), catalog=catalog, room_for="9.0").note


def test_a_volume_that_cannot_be_read_gets_no_plan():
    broken = Volume(name="flash", state="unreadable", free=0, files=())
    what = device(member(volumes=(broken,), boots=(ONE,)), place=ONE)
    assert "is unreadable" in plan(what, 1).note


def test_a_hold_and_a_mode_do_not_change_what_is_offered():
    boot = Boot(mode=Setting(saved="hold"), order=Setting(saved=()))
    held = device(member(image("1.0"), plain("a.dump"), boot=boot), place=ONE)
    assert dropped(plan(held, 501 * MIB)) == ["a.dump"]

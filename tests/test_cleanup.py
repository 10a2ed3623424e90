from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders import (
    MIB,
    NOW,
    OLD,
    POLICY,
    SIZE,
    bank,
    device,
    digest,
    file_set,
    flash,
    image,
    judged,
    member,
    plain,
    pointer,
    published,
    release,
    sheet,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.cleanup import Unit, choose, plan_device
from ovek.engine.releases import ReleaseIndex
from ovek.engine.roles import Standing, standings
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.policy import Policy

ONE, TWO, THREE = (f"flash:sw-{version}.img" for version in ("1.0", "2.0", "3.0"))


def stands(what, kind=None, policy=POLICY, **more):
    """Role, holds and tier of every file, by path."""
    found = judged(what, kind)
    walk = walk_device(found).members[0]
    one = found.members[0]
    return {each.place.path: each for each in standings(found, one, walk, policy, **more)}


def plan(what, free=None, kind=None, catalog=None, policy=POLICY, **more):
    found = judged(what, kind, **({"catalog": catalog} if catalog else {}))
    return plan_device(found, policy, free=free, **more)[0]


def dropped(one):
    return [drop.place.removeprefix("flash:") for drop in one.drop]


def running(*files, boots=(ONE,), **more):
    """A device that runs and starts 1.0 from flash."""
    return device(member(image("1.0"), *files, boots=boots, **more), place=ONE)


def test_every_reason_that_holds_a_file_is_told():
    found = stands(running(image("2.0"), image("3.0"), boots=(ONE, TWO)))
    assert found["sw-1.0.img"].held == ("running", "the next start", "named in the boot order")
    assert found["sw-2.0.img"].held == ("named in the boot order",)


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


def test_a_parts_pointer_target_is_held_and_so_is_a_part_image_while_pointers_are_unknown():
    web = plain("web-1.pkg")
    assert stands(running(web, pointers=(pointer("web", "flash:web-1.pkg"),)))["web-1.pkg"].held
    assert stands(running(web, pointers=None))["web-1.pkg"].held
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
    what = device(member(image("1.0"), image("2.0"), image("3.0"), boots=(THREE,)), runs="2.0")
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
    assert [(locked.tier, locked.adds, locked.enough) for locked in one.locked] == [
        (5, SIZE, False)
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
    wanted = ReleaseIndex(catalog).named("sw-9.0.img", case_blind=False)[0]
    one = plan(running(), catalog=catalog, room_for=wanted, policy=Policy(reserve="10 MiB"))
    assert one.wanted == SIZE + 17 * MIB


def test_an_image_that_is_there_already_needs_no_room():
    catalog = published(release("1.0"))
    wanted = ReleaseIndex(catalog).releases[0]
    found = judged(running(), catalog=catalog)
    there = plan_device(found, POLICY, room_for=found.judge.releases.releases[0])[0]
    assert there.wanted == 0
    assert wanted.file == "sw-1.0.img"


def test_a_bank_layout_names_the_bank_to_write_to():
    kind = sheet("banks", fallback="other-bank")

    def target(*banks, **more):
        what = device(member(banks=banks, default="a", **more), in_bank="a")
        return plan(what, 0, kind).bank

    assert target(bank("a", "1.0"), bank("b", "2.0")) == "b"
    assert target(bank("a", "1.0"), bank("b", "2.0"), once="bank:b") is None
    assert target(bank("a", "1.0"), bank("b", "2.0"), bank("c")) == "c"
    unproven = bank("a", "1.0", digests=Digests(md5=digest("x")))
    assert target(unproven, bank("b", "2.0")) is None


def test_where_the_running_bank_is_not_known_no_bank_may_be_written():
    what = member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="a")
    assert plan(what, 0, sheet("banks", fallback="other-bank")).bank is None


def test_where_the_next_start_is_not_known_no_bank_may_be_written():
    what = device(member(banks=(bank("a", "1.0"), bank("b", "2.0"))), in_bank="a")
    one = plan(what, 0, sheet("banks", fallback="other-bank"))
    assert (one.bank, one.enough) == (None, False)
    assert "default bank is not known" in one.note


def test_where_the_free_space_is_not_known_there_is_no_plan():
    one = plan(member(volumes=(flash(image("1.0"), free=None),), boots=(ONE,)), 1)
    assert (one.enough, one.short_by, one.drop) == (False, None, ())


def unit(at, tier, frees):
    place = Place("flash", f"{at}")
    standing = Standing(
        place=place, file=plain(f"{at}"), role="leftover", held=(), tier=tier, why=""
    )
    return Unit(standing=standing, places=(place,), tier=tier, why="", frees=frees, age=0.0)


def subsets(units):
    for mask in range(2 ** len(units)):
        yield [one for at, one in enumerate(units) if mask >> at & 1]


def counts(chosen):
    return tuple(sum(one.tier == tier for one in chosen) for tier in (6, 5, 4, 3, 2, 1))


some_units = st.lists(st.tuples(st.integers(1, 6), st.integers(1, 12)), max_size=8).map(
    lambda pairs: [unit(at, *pair) for at, pair in enumerate(pairs)]
)


@given(some_units, st.integers(0, 60))
def test_no_subset_needs_fewer_units_from_the_highest_tier_down(units, need):
    chosen = choose(units, need)
    enough = [each for each in subsets(units) if sum(one.frees for one in each) >= need]
    if chosen is None:
        assert not enough
        return
    assert sum(one.frees for one in chosen) >= need
    assert len({one.places for one in chosen}) == len(chosen)
    assert counts(chosen) == min(counts(each) for each in enough)


names = st.sampled_from(["1.0", "2.0", "3.0"])


@given(
    st.lists(names, max_size=3),
    st.sets(names),
    st.sets(names),
    st.sampled_from(["none", "first-found"]),
    st.integers(400, 900),
    names,
)
def test_no_plan_makes_a_walk_worse_or_touches_a_held_file(boots, there, bad, fallback, free, runs):
    files = [image(name, content="x" if name in bad else None) for name in sorted(there)]
    what = device(
        member(*files, plain("a.dump", 30 * MIB), boots=tuple(f"flash:sw-{b}.img" for b in boots)),
        runs=runs,
        place=f"flash:sw-{runs}.img",
    )
    kind = sheet(fallback=fallback)
    one = plan(what, free * MIB, kind)
    assert one.reload_after == one.reload_before
    held = {path for path, each in stands(what, kind).items() if each.tier is None}
    assert not held & set(dropped(one))

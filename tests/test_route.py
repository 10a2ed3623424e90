"""Fit and route: one answer to which release, and how it is reached; asked by everything."""

import os
from itertools import product
from random import Random

import pytest
from msgspec.structs import replace

from builders import MIB, ONE, device, flash, image, judged, member, plain, published, release
from ovek.engine import catalog
from ovek.engine.audit import Terms, audit_judged
from ovek.engine.cleanup import plan_device
from ovek.engine.fit import Standing, fit, fit_all, standings
from ovek.engine.plan.space_choices import SpaceAsked
from ovek.engine.releases import ReleaseIndex
from ovek.engine.route import RouteMemo, after, needed, route
from ovek.engine.wanted import Wants
from ovek.model.plan import Room
from ovek.model.policy import Policy, Want
from ovek.model.snapshot import Component, Hardware

TIMES = int(os.environ.get("OVEK_CASES", "1"))


def index(*releases):
    return ReleaseIndex(published(*releases)).releases


def standing(version="1.0", **more):
    more.setdefault("hardware", Hardware(model="SW10", revision="B2", memory=4 * MIB))
    return Standing(version=version, **more)


def holds(one, **more):
    """What each condition of a release comes to."""
    (known,) = index(one)
    return {each.of: each.holds for each in fit(standing(**more), known).conditions}


CARD = {"needs": {"components": {"card": "4.9"}}}


def card(version, **more):
    return Component(component="card", version=version, **more)


@pytest.mark.parametrize(("said", "of", "ours", "answer"), [
    ({"status": "withdrawn"}, "status", {}, False),
    ({"status": None}, "status", {}, True),
    ({"track": "feature"}, "track", {"track": "maintenance"}, False),
    ({"hardware": ("SW*",)}, "hardware", {}, True),
    ({"hardware": ("AP*",)}, "hardware", {}, False),
    ({"hardware": ("SW*",)}, "hardware", {"hardware": Hardware()}, None),
    ({"revisions": ("C*",)}, "revision", {}, False),
    ({"revisions": ("C*",)}, "revision", {"hardware": Hardware(model="SW10")}, None),
    ({"variant": "lite"}, "variant", {"variant": "full"}, False),
    ({"variant": "lite"}, "variant", {}, None),
    ({"needs": {"memory": 4 * MIB}}, "memory", {}, True),
    ({"needs": {"memory": 4 * MIB + 1}}, "memory", {}, False),
    ({"needs": {"memory": 1}}, "memory", {"hardware": Hardware()}, None),
    ({"needs": {"volume": 9}}, "volume", {"capacity": 8}, False),
    ({"needs": {"volume": 9}}, "volume", {}, None),
    ({"from_": ("0.9",)}, "from", {}, False),
    ({"from_": ("1",)}, "from", {}, True),
    ({"from_": ("0.9",)}, "from", {"version": None}, None),
    ({"from_": ("0.9",)}, "from", {"version": "2.0"}, True),  # it runs already
    (CARD, "components", {"components": (card("4.9", slot="1"), card("4.0", slot="3"))}, False),
    (CARD, "components", {"components": (card(None),)}, None),
    (CARD, "components", {"components": None}, None),
])  # fmt: skip
def test_each_condition_is_yes_no_or_not_known(said, of, ours, answer):
    assert holds(release("2.0", **said), **ours)[of] is answer


def test_a_release_that_brings_what_it_needs_asks_for_no_part():
    one = release("2.0", needs={"components": {"card": "4.9"}}, carries={"card": "5.0"})
    assert "components" not in holds(one, components=())
    late = release("2.0", needs={"components": {"card": "4.9"}}, carries={"card": "4.0"})
    assert (
        holds(late, components=(Component(component="card", version="4.0"),))["components"] is False
    )


def test_a_component_that_a_device_does_not_have_bars_no_release():
    one = release("2.0", needs={"components": {"card": "4.9"}})
    assert "components" not in holds(one, components=())
    assert holds(one, components=None)["components"] is None, "unknown is not none"


def test_every_member_counts_with_its_own_hardware():
    small = member(image("1.0"), id="2", hardware=Hardware(memory=MIB))
    what = judged(
        device(member(image("1.0")), small, hardware=Hardware(model="SW10", memory=9 * MIB))
    )
    (one,) = index(release("2.0", needs={"memory": 2 * MIB}))
    found = fit_all(standings(what), one)
    assert found.is_for is False
    assert found.against == ("it needs 2.00 MiB of memory, member 2 has 1.00 MiB",)


LOADER = release(
    "10.2",
    file="ldr-10.2.img",
    kind="component-image",
    carries={"loader": "10.2"},
    hardware=("SW*",),
)


def way(*releases, to, **more):
    known = index(*releases)
    targets = [one for one in known if one.version == to and one.kind != "component-image"]
    return route(standing(**more), targets, known)


def test_a_loader_goes_first_where_the_image_needs_it():
    needs = {"needs": {"components": {"loader": "10.2"}}}
    components = (Component(component="loader", version="9"),)
    found = way(release("2.0", **needs), LOADER, to="2.0", components=components)
    assert [(hop.loads, hop.release.file) for hop in found.hops] == [
        ("component", "ldr-10.2.img"), ("image", "sw-2.0.img"),
    ]  # fmt: skip
    enough = (Component(component="loader", version="10.2"),)
    assert len(way(release("2.0", **needs), LOADER, to="2.0", components=enough).hops) == 1
    none = way(release("2.0", **needs), to="2.0", components=components)
    assert (none.hops, none.known) == (None, True)
    assert "it needs loader 10.2; installed is 9" in none.missing
    unknown = way(
        release("2.0", **needs), LOADER, to="2.0", components=(Component(component="loader"),)
    )
    assert (unknown.hops, unknown.known) == (None, False)


def test_an_image_that_carries_the_loader_may_stand_between():
    between = release("1.5", carries={"loader": "10.2"})
    last = release("2.0", needs={"components": {"loader": "10.2"}})
    found = way(between, last, to="2.0", components=(Component(component="loader", version="9"),))
    assert [hop.release.version for hop in found.hops] == ["1.5", "2.0"]


def test_a_withdrawn_release_or_another_variant_is_no_hop():
    last = release("3.0", from_=("2.0",))
    assert way(release("2.0"), last, to="3.0").hops is not None
    assert way(release("2.0", status="withdrawn"), last, to="3.0").hops is None
    lite = release("2.0", variant="lite")
    assert way(lite, last, to="3.0", variant="full").hops is None
    assert way(lite, last, to="3.0", variant="lite").hops is not None


VERSIONS = ("1.0", "1.5", "2.0", "2.5", "3.0")


def chance(seed):
    """A random catalog of images and loaders, and where a member stands."""
    random = Random(seed)
    known = []
    for version in VERSIONS[1:]:
        for variant in random.sample((None, "full", "lite"), random.randint(1, 2)):
            carries = {"loader": random.choice(("9", "10", "11"))} if random.random() < 0.3 else {}
            needs = {"components": {"loader": random.choice(("9", "10", "11"))}}
            known.append(
                release(
                    version,
                    file=f"sw-{variant}-{version}.img",
                    variant=variant,
                    carries=carries,
                    needs=needs if random.random() < 0.4 else {},
                    from_=random.choice((None, None, random.sample(VERSIONS, 2), ("1",), ("2",))),
                    status=random.choice((None, None, None, "withdrawn")),
                    hardware=random.choice((("SW*",), ("SW*",), ("AP*",))),
                )
            )
    known += [
        release(each, file=f"ldr-{each}.img", kind="component-image", carries={"loader": each})
        for each in random.sample(("10", "11"), random.randint(0, 2))
    ]
    components = (Component(component="loader", version=random.choice(("9", "10", None))),)
    ours = standing(components=components, variant=random.choice(("full", "lite", None)))
    return known, ours, random.choice(VERSIONS[1:])


def plainly(known, ours, targets):
    """The length of the shortest chain, by trying every chain of up to five."""
    for length in range(1, 6):
        for chain in product(known, repeat=length):
            now = ours
            if chain[-1] in targets and all(
                (now := stepped(now, one)) is not None for one in chain
            ):
                return length
    return None


def stepped(now, one):
    """Where a member stands after one install; None where that does not fit."""
    part = one.kind == "component-image"
    if fit(now, one).holds is not True or (not part and not now.version < one.version):
        return None
    components = tuple(
        replace(each, version=one.carries["loader"])
        if each.version is not None and int(one.carries.get("loader", "0")) > int(each.version)
        else each
        for each in now.components
    )
    return replace(now, components=components, version=now.version if part else one.version)


@pytest.mark.parametrize("first", (0, 1000))
def test_a_route_fits_at_every_hop_and_no_shorter_chain_exists(first):
    for seed in range(first, first + 60 * TIMES):
        releases, ours, target = chance(seed)
        known = index(*releases)
        targets = [one for one in known if one.version == target and one.kind != "component-image"]
        found = route(ours, targets, known)
        now = ours
        for hop in found.hops or ():
            assert fit(now, hop.release).holds is True, seed
            now = after(now, hop)
        assert not found.hops or now.version == target, seed
        able = [one for one in known if fit(ours, one).is_for is not False]
        shortest = plainly(able, ours, targets)
        assert (None if found.hops is None else len(found.hops)) == shortest, seed
        unrelated = release("2.0", file="other.img", hardware=("ZZ*",))
        again = index(*releases, unrelated)
        same = route(ours, [o for o in again if o.file in {t.file for t in targets}], again)
        assert [h.release.file for h in same.hops or ()] == [
            h.release.file for h in found.hops or ()
        ], seed


@pytest.mark.parametrize("seed", range(40 * TIMES))
def test_pick_audit_and_cleanup_never_name_different_files(seed):
    releases, ours, target = chance(seed)
    wants = Want(device="sw", target=Random(seed).choice((target, "recommended")))
    volume = flash(image("1.0"), plain("a.partial", 80 * MIB), free=30 * MIB)
    one = member(volumes=(volume,), boots=(ONE,), components=ours.components)
    running = replace(device(one, place=ONE).running, variant=ours.variant)
    what = replace(device(one, place=ONE, hardware=ours.hardware), running=running)
    status = [replace(each, status=each.status or "recommended") for each in releases]
    found = judged(what, catalog=published(*status))
    wanted = Wants(Policy(want=(wants,), reserve="0%")).of(found)
    picked = catalog.pick(found, wanted)
    assert wanted.release is None or picked.chosen is wanted.release
    audit = audit_judged(found, Wants(Policy(want=(wants,))), Terms(now=what.taken_at))
    said = " ".join(each.seen for each in audit.findings if each.rule == "upgrade-needs-step")
    ours = wanted.goal is not None and picked.chosen is wanted.goal
    if ours and picked.path is not None and len(picked.path.hops or ()) > 1:
        for hop in picked.path.hops:
            assert hop.release.file in said
    if wanted.release is not None:
        plan = plan_device(found, SpaceAsked(policy=Policy(), room=Room(release=wanted.release)))[0]
        assert plan.made_of is None or plan.made_of.file == picked.chosen.file


def test_a_search_is_shared_only_by_members_of_which_every_release_asks_the_same():
    middle = release("2.0", needs={"memory": 4 * MIB})
    last = release("3.0", from_=("2.0",))
    known, memo = index(release("1.0"), middle, last), RouteMemo()
    targets = [one for one in known if one.version == "3.0"]

    def hops(memory, **more):
        ours = standing(hardware=Hardware(model="SW-1", memory=memory, **more))
        asked = route(ours, targets, known, memo, needed(known))
        assert asked == route(ours, targets, known)
        return None if asked.hops is None else len(asked.hops)

    assert [hops(8 * MIB), hops(4 * MIB), hops(16 * MIB, serial="S1")] == [2, 2, 2]
    assert len(memo.searches) == 1
    assert [hops(4 * MIB - 1), hops(2 * MIB), hops(None)] == [None, None, None]
    assert len(memo.searches) == 3


def test_what_is_wanted_is_shared_only_by_devices_alike_and_tells_of_each_its_own():
    needy = published(release("1.0"), release("2.0", needs={"memory": 4 * MIB}))
    wants = Wants(Policy(target="2.0"), {})

    def told(memory):
        what = device(member(image("1.0")), hardware=Hardware(model="SW10", memory=memory))
        wanted = wants.of(judged(what, catalog=needy))
        return None if wanted.unfit is None else "; ".join(wanted.unfit.against)

    assert [told(8 * MIB), told(4 * MIB)] == [None, None]
    assert "the device has 2.00 MiB" in told(2 * MIB)
    assert "the device has 1.00 MiB" in told(MIB)
    assert told(16 * MIB) is None

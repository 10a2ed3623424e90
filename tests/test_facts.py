"""A fact that is not known is never passed: it is told as missing."""

from datetime import timedelta

from hypothesis import example, given
from hypothesis import strategies as st
from msgspec.structs import replace

from builders import (
    MIB,
    NOW,
    audit,
    bank,
    component,
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
from builders.chance import curious
from ovek.engine.bootwalk import walk_device
from ovek.model.policy import Policy
from ovek.model.snapshot import Component, Config, Setting
from ovek.model.walk import RELOADS_WORST_FIRST

VERSIONS = ("1.0", "2.0", "3.0")
POLICY = Policy(reserve="10%", target="2.0", allowed=("2.*",), backup_age="7d")
CATALOG = published(
    release("1.0", hardware=("SW*",), needs={"components": {"loader": "10"}}),
    release("2.0", hardware=("SW*",), carries={"loader": "10"}),
    release("3.0", hardware=("AP*",)),
)


@st.composite
def files_devices(draw):
    """A device that next boot from files, with some troubles."""
    names = draw(st.lists(st.sampled_from(VERSIONS), min_size=1, unique=True))
    files = [
        image(name, content=draw(st.sampled_from([None, None, "x"])),
              size=draw(st.sampled_from([100 * MIB, 100 * MIB, MIB])))
        for name in names
    ]  # fmt: skip
    places = st.sampled_from([f"flash:sw-{name}.img" for name in VERSIONS])
    volume = flash(
        *files,
        plain("a.set"),
        free=draw(st.sampled_from([MIB, 5000 * MIB, 9999 * MIB])),
        sets=draw(st.sampled_from([(), (file_set("a.set", "pkg/gone"),)])),
    )
    setting = st.sampled_from(["listed", "first-found"])
    one = member(
        volumes=(volume,),
        boots=tuple(draw(st.lists(places, max_size=2))),
        live=tuple(draw(st.lists(places, max_size=2))),
        components=(
            loads("web", "flash:web-1.pkg"),
            component("loader", draw(st.sampled_from(["9", "10"]))),
        ),
    )
    mode = Setting(live=draw(setting), saved=draw(setting))
    ignores = Setting(live=False, saved=draw(st.booleans()))
    one = replace(one, boot=replace(one.boot, mode=mode, ignores_saved_config=ignores))
    return device(
        one,
        running=draw(st.sampled_from(VERSIONS)),
        place=draw(places),
        config=Config(unsaved_changes=draw(st.booleans()), backed_up_at=NOW - timedelta(days=9)),
    )


@st.composite
def bank_devices(draw):
    """A device with two banks, with some troubles."""
    made = st.sampled_from([None, *VERSIONS])
    banks = tuple(bank(name, draw(made)) for name in "ab")
    one = member(banks=banks)
    default = Setting(live=draw(st.sampled_from("ab")), saved=draw(st.sampled_from("ab")))
    ignores = Setting(live=False, saved=False)
    one = replace(one, boot=replace(one.boot, default_bank=default, ignores_saved_config=ignores))
    config = Config(unsaved_changes=False, backed_up_at=NOW)
    return device(one, running="1.0", in_bank=draw(st.sampled_from("ab")), config=config)


def less(what):
    """Every device that lacks one fact of this one."""
    for name in ("running", "hardware", "config"):
        yield replace(what, **{name: None if name == "config" else type(getattr(what, name))()})
    one = what.members[0]
    for name in ("volumes", "banks", "boot", "components"):
        yield replace(what, members=(replace(one, **{name: None}),))
    for name in ("mode", "order", "default_bank", "ignores_saved_config"):
        boot = replace(one.boot, **{name: Setting()})
        yield replace(what, members=(replace(one, boot=boot),))
        for half in ("live", "saved"):
            setting = replace(getattr(one.boot, name), **{half: None})
            boot = replace(one.boot, **{name: setting})
            yield replace(what, members=(replace(one, boot=boot),))
    for volume in one.volumes:
        for name in ("free", "capacity", "files", "sets"):
            changed = replace(volume, **{name: None})
            yield replace(what, members=(replace(one, volumes=(changed,)),))
        for file in volume.files or ():
            for name in ("digests", "size"):
                bare = replace(file, **{name: None})
                files = tuple(bare if each is file else each for each in volume.files)
                changed = replace(volume, files=files)
                yield replace(what, members=(replace(one, volumes=(changed,)),))
    for each in one.banks:
        for name in ("digests", "version", "state"):
            bare = replace(each, **{name: None})
            banks = tuple(bare if other is each else other for other in one.banks)
            yield replace(what, members=(replace(one, banks=banks),))
    yield replace(what, members=None)


def found(what, kind):
    answer = audit(what, kind, CATALOG, POLICY)
    return answer.next_boot, {finding.rule for finding in answer.findings}


def holds(what, kind):
    reload, before = found(what, kind)
    for bare in less(what):
        reload_then, after = found(bare, kind)
        if before - after:
            assert after & {"facts-missing", "image-unverified"}, (before - after, bare)
        assert after or not before
        if reload_then == "proven" and reload != "proven":
            # Where the saved settings are not known the live ones are walked, and that is told.
            assert walk_device(judged(bare, kind, CATALOG)).members[0].from_ == "live"
            assert "facts-missing" in after


@given(files_devices(), st.sampled_from(["none", "first-found"]))
def test_removing_a_fact_never_turns_a_finding_into_a_pass(what, fallback):
    holds(what, curious(sheet(fallback=fallback)))


@given(bank_devices(), st.sampled_from(["none", "other-bank"]))
def test_removing_a_fact_of_a_bank_never_turns_a_finding_into_a_pass(what, fallback):
    holds(what, curious(sheet("banks", fallback=fallback)))


def test_a_missing_fact_names_the_question_that_asks_for_it():
    what = device(member(image("1.0"), boots=("flash:sw-1.0.img",)), running=None)
    answer = audit(what, curious(sheet()))
    finding = next(each for each in answer.findings if each.rule == "facts-missing")
    assert "the running version" in finding.seen
    assert "ovek survey sw" in finding.words
    assert "check in sheet switch: order, boot, device" in finding.words


def test_a_fact_that_the_sheet_never_asks_for_is_not_missed():
    what = device(member(image("1.0"), boots=("flash:sw-1.0.img",)))
    assert "facts-missing" not in {finding.rule for finding in audit(what).findings}


@given(files_devices(), st.sampled_from(["none", "first-found"]))
@example(device(member(boots=None)), "none")
def test_no_fact_less_makes_a_start_more_certain(what, fallback):
    kind = sheet(fallback=fallback)
    rank = RELOADS_WORST_FIRST.index
    before = walk_device(judged(what, kind, CATALOG)).next_boot
    bare = replace(what, members=tuple(replace(one, boot=None) for one in what.members))
    assert rank(walk_device(judged(bare, kind, CATALOG)).next_boot) <= max(rank(before), 1)


def missing(what, catalog=CATALOG):
    found = audit(what, curious(sheet()), catalog).findings
    return next((one.seen for one in found if one.rule == "facts-missing"), "")


def test_what_runs_is_missed_only_where_neither_place_nor_bank_tells():
    one = member(image("1.0"), boots=("flash:sw-1.0.img",))
    assert "what it was booted from" in missing(device(one))
    assert "what it was booted from" not in missing(device(one, place="flash:sw-1.0.img"))
    assert "what it was booted from" not in missing(device(one, in_bank="a"))


def test_the_variant_is_missed_only_where_there_are_variants_and_none_is_told():
    variants = published(release("1.0", variant="full"))
    unread = image("1.0", digests=None)
    what = device(member(unread, boots=("flash:sw-1.0.img",)), place="flash:sw-1.0.img")
    assert "which variant is running" in missing(what, variants)
    assert "which variant is running" not in missing(what)
    told = replace(what, running=replace(what.running, variant="full"))
    assert "which variant is running" not in missing(told, variants)


def test_a_part_that_the_wanted_release_needs_is_missed_until_it_runs_or_is_told():
    needy = published(release("1.0"), release("2.0", needs={"components": {"loader": "10"}}))

    def told(target="2.0", components=None, **more):
        file = image("1.0")
        what = device(member(file, boots=("flash:sw-1.0.img",), components=components), **more)
        policy = Policy(reserve="0%", target=target)
        found = audit(what, curious(sheet()), needy, policy).findings
        return "the version of loader" in " ".join(one.seen for one in found)

    assert told()
    assert told(components=(Component(component="loader"),))
    assert not told(components=(Component(component="loader", version="9"),))
    assert not told(target=None)
    assert not told(target="1.0")

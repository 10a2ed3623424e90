"""What changed between two snapshots, and whether an upgrade did what it was meant to."""

from msgspec.structs import replace

from builders import (
    CATALOG,
    ONE,
    TWO,
    bank,
    device,
    flash,
    image,
    judged,
    member,
    sheet,
)
from builders.chance import Chance
from conftest import TIMES
from ovek.engine.compare import compare_device
from ovek.model.snapshot import Config, Hardware
from test_random_devices import without_a_fact

BEFORE = device(member(image("1.0"), boots=(ONE,)), place=ONE)
AFTER = device(member(image("1.0"), image("2.0"), boots=(TWO, ONE)), place=TWO, running="2.0")


def compared(old, new, kind=None, expect=None):
    return compare_device(
        judged(old, kind, CATALOG) if old is not None else None,
        judged(new, kind, CATALOG) if new is not None else None,
        expect,
    )


def told(old, new, kind=None):
    return {(c.what, c.was, c.now) for c in compared(old, new, kind).changes}


def test_an_upgrade_is_told_as_an_engineer_would():
    assert told(BEFORE, AFTER) == {
        ("running version", "1.0", "2.0"),
        ("running from", ONE, TWO),
        (TWO, None, "proven"),
        ("saved boot order", ONE, f"{TWO}, {ONE}"),
    }


def test_nothing_changed_is_told_as_the_same():
    assert compared(BEFORE, BEFORE).outcome == "same"
    assert compared(None, BEFORE).outcome == "new"
    assert compared(BEFORE, None).outcome == "gone"


def test_a_verdict_that_changed_shows_the_whole_digest():
    bad = device(member(image("1.0", content="x"), boots=(ONE,)), place=ONE)
    what, was, now = told(BEFORE, bad).pop()
    assert (what, was) == (ONE, "proven")
    assert now.startswith("altered")


def test_banks_parts_of_the_volume_and_the_configuration_are_told():
    kind = sheet("banks", fallback="other-bank")
    one = device(member(banks=(bank("a", "1.0"), bank("b")), default="a"), in_bank="a",
                 config=Config(unsaved_changes=False))  # fmt: skip
    two = device(member(volumes=(flash(free=100 * 2**20),), banks=(bank("a", "1.0"),
                 bank("b", "2.0")), default="b"), in_bank="a",
                 config=Config(unsaved_changes=True))  # fmt: skip
    assert told(one, two, kind) == {
        ("bank:b", "empty", "2.0, proven"),
        ("saved default bank", "a", "b"),
        ("free on flash", "500 MiB", "100 MiB"),
        ("configuration", "saved", "unsaved changes"),
    }


def test_live_and_saved_settings_that_change_alike_are_told_as_one():
    one = device(member(image("1.0"), boots=(ONE,), live=(ONE,)), place=ONE)
    two = device(member(image("1.0"), boots=(ONE, ONE), live=(ONE, ONE)), place=ONE)
    assert told(one, two) == {("boot order, live and saved,", ONE, f"{ONE}, {ONE}")}


def test_an_expected_version_is_held_against_every_member():
    left = member(image("1.0"), boots=(ONE,), id="2", running_version="1.0")
    stack = device(*AFTER.members, left, running="2.0", place=TWO)
    found = compared(BEFORE, stack, expect="2.0")
    assert found.done is False
    assert [one.done for one in found.members] == [True, False]
    assert found.members[1].why == "running 1.0"
    assert compared(BEFORE, AFTER, expect="2.0").done is True


def test_an_upgrade_that_a_reload_would_undo_is_not_done():
    undone = device(member(image("1.0"), image("2.0"), boots=(ONE,)), place=TWO, running="2.0")
    assert "but the next boot is 1.0" in compared(None, undone, expect="2.0").members[0].why
    gone = device(member(boots=(TWO,)), running="2.0")
    assert "would not boot again" in compared(None, gone, expect="2.0").members[0].why
    unknown = device(member(image("2.0"), boots=(TWO,)), running=None)
    assert compared(None, unknown, expect="2.0").done is None


def test_what_is_not_known_on_one_side_is_no_removal_and_nothing_new():
    no_files = replace(BEFORE, members=(member(volumes=(flash(),), boots=(ONE,)),))
    blind = replace(
        no_files, members=(replace(no_files.members[0], volumes=(replace(flash(), files=None),)),)
    )
    (change,) = compared(BEFORE, blind).changes
    assert (change.what, change.was, change.unknown) == ("the files on flash", "1 files", "now")
    gone = compared(BEFORE, no_files).changes
    assert [(change.what, change.was, change.now, change.unknown) for change in gone] == [
        (ONE, "proven", None, None)
    ]


def test_no_fact_that_is_missing_is_told_as_a_removal():
    for seed in range(12 * TIMES):
        case = Chance(seed).case()
        old = case.judged()
        for name, less in without_a_fact(case.device):
            for first, second in ((old, less), (less, old)):
                pair = [case.judged(x) if x is less else x for x in (first, second)]
                for change in compare_device(*pair).changes:
                    if (change.was, change.now).count(None):
                        assert change.unknown is not None, (seed, name, change)


def test_a_proof_that_is_lost_leads_and_ends_with_one(ovek):
    ovek("compare", "--baseline", "before")
    rotten = image("1.0", content="rotten")
    ovek.snapshot(
        device(member(rotten, image("2.0"), boots=(TWO,)), place=TWO, running="2.0"),
        device(member(image("1.0"), boots=(ONE,)), place=ONE, device="more"),
    )
    lines = ovek("compare", "before", exits=1).stdout.splitlines()
    assert lines[0].startswith("2 devices compared: 1 worse, ")
    assert lines[2].split(None, 2)[2] == "flash:sw-1.0.img: was proven, now altered"
    assert lines.index("more  new (not in the earlier snapshot)") < next(
        at for at, line in enumerate(lines) if line.startswith("sw  ")
    )
    found = ovek.json("compare", "before", exits=1)["devices"][0]["no_longer_proven"]
    assert [one["what"] for one in found] == [ONE]


def test_a_target_is_each_devices_own(ovek):
    ovek("compare", "--baseline", "before")
    ovek.snapshot(AFTER, replace(BEFORE, device="other"), replace(BEFORE, device="third"))
    want = '[[want]]\ndevice = "{}"\ntarget = "{}"\n'
    ovek.write("policy.toml", want.format("sw", "2.0") + want.format("other", "1.0"))
    shown = ovek("compare", "before", "--expect", "target", exits=1).stdout
    assert shown.startswith("3 devices compared: 2 done, 0 not done, 1 unknown.\n3 devices, as of ")
    assert "Unknown: third." in shown
    answer = ovek.json("compare", "before", "--expect", "target", exits=1)
    assert {one["device"]: (one["expected"], one["done"]) for one in answer["devices"]} == {
        "sw": ("2.0", True), "other": ("1.0", True), "third": (None, None),
    }  # fmt: skip
    ovek("compare", "before", "--expect", "recommended", exits=1)


def test_a_member_that_was_swapped_is_told_by_its_serial_number():
    def stack(*serials):
        return device(
            *(member(id=str(at), hardware=Hardware(serial=one)) for at, one in enumerate(serials))
        )

    assert told(stack("S1", "S2"), stack("S1", "S3")) == {("serial number", "S2", "S3")}
    assert told(stack("S1", "S2"), stack("S1", None)) == set()


def test_what_a_member_runs_is_told_of_that_member():
    def stack(second):
        units = [member(id=at, running_version=each) for at, each in (("1", "1.0"), ("2", second))]
        return device(*units)

    (change,) = compared(stack("1.0"), stack("2.0")).changes
    assert (change.member, change.was, change.now) == ("2", "1.0", "2.0")


def test_a_name_that_one_listing_cut_is_no_other_image():
    short = replace(image("1.0"), path="sw-1", path_cut=True)
    assert told(BEFORE, replace(BEFORE, members=(member(short, boots=(ONE,)),))) == set()


def test_a_baseline_is_kept_and_compared_with(ovek):
    ovek("compare", "--baseline", "before")
    assert "1 device compared: no change." in ovek("compare", "before").stdout
    ovek.snapshot(AFTER)
    assert "already exists" in ovek.refuses("compare", "--baseline", "before")
    shown = ovek("compare", "before", "--expect", "2.0").stdout
    assert shown.startswith("1 device compared: 1 done, 0 not done.\nsw: go.")
    assert "every member runs 2.0 and boots it next." in shown
    assert "running version 1.0 → 2.0" in shown
    ovek("compare", "before", "--expect", "3.0", exits=1)
    answer = ovek.json("compare", "before")
    assert answer["summary"] == {
        "changed": 1, "same": 0, "new": 0, "gone": 0, "done": 0, "not_done": 0, "worse": 0,
    }  # fmt: skip


def test_a_device_that_would_no_longer_start_ends_with_one(ovek):
    ovek("compare", "--baseline", "before")
    ovek.snapshot(device(member(boots=(ONE,)), place=ONE))
    shown = ovek("compare", "before", exits=1).stdout
    assert shown.startswith("1 device compared: 1 worse, ")
    assert "  worse    sw  it would no longer boot" in shown


def test_what_cannot_be_compared_is_refused(ovek):
    ovek("compare", "--baseline", "before")
    assert "Did you mean 'before'?" in ovek.refuses("compare", "befor")
    assert "ovek compare OLD [DEVICE]..." in ovek("compare", exits=2).stderr
    assert "not a valid name" in ovek("compare", "--baseline", "../x", exits=2).stderr
    ovek.write("bad.jsonl", "{")
    assert "damaged: " in ovek.refuses("compare", "bad.jsonl")

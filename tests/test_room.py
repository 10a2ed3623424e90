"""`ovek cleanup` as it is typed: room for what, on one device or the fleet, step by step, drawn."""

import ast
from pathlib import Path

import msgspec
import pytest

import ovek as package
from builders import MIB, ONE, device, flash, image, member, plain, release
from ovek.demo import write_site


def sw(*files, free=500 * MIB, name="sw", **more):
    volume = flash(image("1.0"), *files, free=free, capacity=1000 * MIB)
    return device(member(volumes=(volume,), boots=(ONE,)), place=ONE, device=name, **more)


@pytest.fixture
def cramped(ovek):
    """A device that has to delete one of two leftovers for 2.0."""
    ovek.snapshot(sw(plain("a.partial", 80 * MIB), plain("b.partial", 90 * MIB), free=20 * MIB))
    ovek.write("policy.toml", 'reserve = "0%"\ntarget = "2.0"\n')
    return ovek


def test_room_for_a_file_a_version_and_the_target_is_the_same_plan(cramped):
    plans = [
        cramped.json("cleanup", "sw", "--room-for", name)["plans"]
        for name in ("sw-2.0.img", "2.0", "target")
    ]
    assert plans[0] == plans[1] == plans[2]
    assert [drop["place"] for drop in plans[0][0]["drop"]] == ["flash:a.partial"]
    assert plans[0][0]["wanted"] == 100 * MIB


def test_a_share_of_the_volume_is_asked_for_in_percent(cramped):
    assert cramped.json("cleanup", "sw", "--free", "10%")["plans"][0]["wanted"] == 100 * MIB


def test_what_is_asked_for_in_vain_is_refused_by_name(cramped):
    assert "Did you mean sw-2.0.img?" in cramped.refuses("cleanup", "--room-for", "sw-2.0.im")
    assert "has no image or version '9.9'" in cramped.refuses("cleanup", "--room-for", "9.9")
    told = cramped.refuses("cleanup", "sw", "--free", "2GiB")
    assert "the capacity of flash on sw is 0.977 GiB, and 2.00 GiB is asked for" in told
    assert "Did you mean 'sw'?" in cramped.refuses("cleanup", "swx", "--free", "1MiB")
    cramped.write("policy.toml", "keep = 2\n")
    told = cramped("cleanup", "sw", "--room-for", "target", exits=1).stdout
    assert "policy has no target" in told


def test_the_checklist_has_a_box_a_step_with_what_is_expected_after_it(cramped):
    text = cramped("cleanup", "sw", "--room-for", "2.0", "--format", "markdown").stdout
    assert "- [ ] 1. Delete flash:a.partial *(free space)*" in text
    assert "  - frees: 80.0 MiB, tier 1: leftover, not used by any setting" in text
    assert "  - expect: 100 MiB free; next boot: 1.0 from flash:sw-1.0.img (proven)" in text
    assert "- [ ] 2. Copy sw-2.0.img to flash: *(image)*" in text
    assert "reload" not in text.lower()


def test_the_wording_of_the_sheet_is_in_the_checklist(cramped):
    sheet = (cramped.folder / "sheets/switch.toml").read_text()
    cramped.write("sheets/switch.toml", sheet + '[wording]\ndelete = "drop {volume} {path}"\n')
    text = cramped("cleanup", "sw", "--room-for", "2.0", "--format", "markdown").stdout
    assert "  ```\n  drop flash a.partial\n  ```" in text
    cramped.write("sheets/switch.toml", sheet + '[wording]\ndelete = "drop {flash}"\n')
    assert "the wording of delete has {flash}" in cramped.refuses("cleanup", "--free", "1MiB")


def test_no_module_that_talks_to_devices_looks_at_the_wording():
    root = Path(package.__file__).parent
    for file in [*(root / "sources").rglob("*.py"), *(root / "standin").rglob("*.py")]:
        names = {node.attr for node in ast.walk(ast.parse(file.read_text()))
                 if isinstance(node, ast.Attribute)}  # fmt: skip
        assert "wording" not in names, file


def test_a_plan_is_confirmed_by_a_later_snapshot(cramped):
    after = sw(plain("b.partial", 90 * MIB), free=100 * MIB)
    cramped.snapshot(after, name="later.jsonl")
    typed = ("cleanup", "sw", "--room-for", "2.0", "--snapshot", "snapshots/now.jsonl", "--confirm")
    shown = cramped(*typed, "snapshots/later.jsonl").stdout
    assert shown.startswith("1 of 1 plan carried out, according to later.jsonl.")
    assert cramped(*typed, "later").stdout == shown, "by its name, as runbook --confirm takes it"
    assert "is neither a snapshot nor a baseline" in cramped.refuses(*typed, "lat")
    left = cramped(*typed, "snapshots/now.jsonl", exits=1).stdout
    assert "not done: 1 deletion left" in left
    answer = cramped.json(*typed, "snapshots/now.jsonl", exits=1)
    assert answer["format"] == "ovek.cleanup-confirmed/1"
    assert answer["plans"][0]["not_done"] == ["flash:a.partial"]
    cramped.snapshot(sw(name="other"), name="others.jsonl")
    assert "has no device 'sw'" in cramped.refuses(*typed, "snapshots/others.jsonl")


def fleet(ovek):
    old = image("3.0", path="old/sw-3.0.img")
    ovek.snapshot(
        sw(name="hardware", free=600 * MIB),
        sw(plain("a.partial", 90 * MIB), name="leftovers", free=20 * MIB),
        sw(old, image("2.0"), name="images", free=20 * MIB),
        sw(name="short", free=20 * MIB),
        device(member(boots=(ONE,), volumes=(flash(free=None),)), device="blind"),
    )


def test_the_whole_fleet_is_one_line_each_and_totals(ovek):
    fleet(ovek)
    shown = ovek("cleanup", "--whole-fleet", "--free", "100MiB", exits=1).stdout.splitlines()
    assert shown[0] == (
        "5 volumes: 3 have or can make space, 1 has too little space (80.0 MiB missing in "
        "total), 1 has no"
    )
    assert shown[1] == "safe plan."
    assert shown[2].startswith("Space: 1 fits now, 1 after deleting up to tier 1")
    rows = {line.split()[0]: line for line in shown[6:] if line}
    assert "80.0 MiB missing; --may-drop" in rows["short"]
    assert "no safe plan: the free space on" in rows["blind"]
    answer = ovek.json("cleanup", "--whole-fleet", "--free", "100MiB", exits=1)
    assert answer["totals"] == {
        "plans": 5, "done": 0, "fit": 1, "after": {"1": 1, "4": 1}, "short": 1,
        "short_by": 80 * MIB, "no_plan": 1, "frees": 190 * MIB,
    }  # fmt: skip
    assert len(answer["plans"]) == 5


def test_the_figure_is_drawn_as_png_and_svg(ovek):
    fleet(ovek)
    ovek("cleanup", "--whole-fleet", "--free", "100MiB", "--figure", "out/a.png", exits=1)
    assert (ovek.folder / "out/a.png").read_bytes().startswith(b"\x89PNG")
    ovek("cleanup", "short", "--free", "100MiB", "--figure", "a.svg", exits=1)
    text = (ovek.folder / "a.svg").read_text()
    assert text.startswith("<?xml")
    assert "</svg>" in text
    assert not list((ovek.folder / "out").glob(".figure-*"))


def test_an_image_for_other_hardware_is_left_out_of_a_fleet_and_refused_for_a_device(ovek):
    foreign = release("9.0", hardware=("AP*",))
    ovek.write("catalog/other.json", _catalog(foreign))
    ovek.snapshot(sw())
    assert "is for AP*" in ovek.refuses("cleanup", "sw", "--room-for", "sw-9.0.img")
    told = ovek.refuses("cleanup", "--whole-fleet", "--room-for", "sw-9.0.img")
    assert "has no device that sw-9.0.img is for" in told


def _catalog(*releases):
    whole = {"format": "ovek.catalog/1", "publisher": "Nobody", "releases": list(releases)}
    return msgspec.json.encode(whole)


def test_the_sample_fleet_shows_what_the_planner_can(ovek):
    write_site(ovek.folder / "sample")
    site = ("--site", "sample")

    def drops(*typed, exits=0):
        plans = ovek.json("cleanup", *typed, *site, exits=exits)["plans"]
        return [[drop["place"] for drop in plan["drop"]] for plan in plans]

    pair = ["flash:crash/yard-00.dump", "flash:crash/yard-05.dump"]
    snapshot = ("--snapshot", "sample/snapshots/2026-11-20.jsonl")
    assert [sorted(one) for one in drops("holm-yard", "--free", "400MiB", *snapshot)] == [pair]
    assert drops("arle-core", "--room-for", "target", *snapshot) == [[]]
    heron = ("heron-bridge", "--room-for", "target", *snapshot)
    assert drops(*heron, exits=1) == [[]]
    assert drops(*heron, "--may-drop", "running") == [["flash:ox40-lite-7.3.3.img"]]
    assert drops("brack-stack", "--room-for", "target", *snapshot) == [
        ["flash:crash/unit-1.dump"],
        ["flash:ox40-full-7.2.5.img"],
        [],
    ]

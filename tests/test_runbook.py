"""What is left to do: in order, tried out, and nothing that is done already."""

import json

from msgspec.structs import replace

from builders import ONE, TWO, device, image, member, published, release
from builders.planned import Planned
from ovek.model.policy import Policy

POLICY = 'format = "ovek.policy/1"\ntarget = "2.0"\nreserve = "0%"\nkeep = 1\n'


def old(name="sw", *more, **told):
    return device(
        member(image("1.0"), *more, boots=(ONE,), live=(ONE,)), place=ONE, device=name, **told
    )


def test_the_first_line_says_where_a_device_stands(ovek):
    ovek.write("policy.toml", POLICY)
    ovek.snapshot(old())
    shown = ovek("runbook", exits=1).stdout
    first = " ".join(shown.split("\n\n")[0].split())
    assert first.startswith("sw: ")
    assert "5 steps left" in first and "Next: copy sw-2.0.img to flash:" in first
    assert "after all steps: 2.0 from flash:sw-2.0.img (proven)" in first
    book = ovek.json("runbook", exits=1)
    assert book["format"] == "ovek.runbook/1"
    steps = book["devices"][0]["steps"]
    assert [step["do"]["change"] for step in steps] == [
        "copy", "check-digest", "set-order", "save", "reload"
    ]  # fmt: skip
    assert steps[0]["cut"] == {"next_boot": "proven", "boots": "1.0 from flash:sw-1.0.img"}
    assert steps[0]["undo"] == ["Delete flash:sw-2.0.img"]


def test_what_is_done_is_not_asked_again(ovek):
    ovek.write("policy.toml", POLICY)
    ovek.snapshot(old("sw", image("2.0", digests=None)))
    steps = ovek.json("runbook", exits=1)["devices"][0]["steps"]
    assert [step["do"]["change"] for step in steps] == [
        "check-digest",
        "set-order",
        "save",
        "reload",
    ]
    there = device(member(image("2.0"), boots=(TWO,), live=(TWO,)), running="2.0", place=TWO)
    ovek.snapshot(there)
    shown = ovek("runbook").stdout
    assert shown.startswith("sw: go.\n  nothing left to do")


def test_a_device_of_which_the_boot_settings_are_not_known_is_to_be_found_out_about(ovek):
    ovek.snapshot(device(replace(member(image("1.0")), boot=None), place=ONE))
    book = ovek.json("runbook", exits=1)["devices"][0]
    assert book["steps"] == [] and book["find_out"]
    assert "no runbook yet" in ovek("runbook", exits=1).stdout


def test_a_fleet_is_a_line_a_device_and_a_checklist_each(ovek):
    ovek.write("policy.toml", POLICY)
    ovek.snapshot(old("a"), old("b/c"), device(
        member(image("2.0"), boots=(TWO,), live=(TWO,)), running="2.0", place=TWO, device="z"
    ))  # fmt: skip
    shown = ovek("runbook", exits=1).stdout
    assert shown.startswith(
        "3 devices, as of 2026-03-02 21:14 UTC: 3 go, 0 no-go, 0 unclear.\n3 devices: 2 have "
        "steps left, 1 needs none."
    )
    assert max(map(len, shown.splitlines())) <= 100
    ovek("runbook", "--into", "lists", exits=1)
    assert sorted(file.name for file in (ovek.folder / "lists").iterdir()) == [
        "a.md", "b_c.md", "z.md"
    ]  # fmt: skip
    text = (ovek.folder / "lists/a.md").read_text()
    assert "- [ ] 1. Copy sw-2.0.img to flash: *(image)*" in text
    rows = ovek("runbook", "--format", "csv", exits=1).stdout.splitlines()
    assert len(rows) == 11 and rows[1].startswith("a,go,1,image,copy,")


def test_an_aim_narrows_the_runbook_and_a_version_is_wanted_by_name(ovek):
    ovek.write("policy.toml", POLICY.replace('target = "2.0"\n', ""))
    ovek.snapshot(old())
    assert "nothing left to do" in ovek("runbook", "--for", "boot").stdout
    shown = ovek("runbook", "--for", "2.0", exits=1).stdout
    assert "target 2.0" in shown and "Copy sw-2.0.img to flash:" in shown
    assert "did you mean '2.0'?" in ovek("runbook", "--for", "2.O", exits=2).stderr
    narrow = '[[want]]\ndevice = "sw"\ntarget = "1.0"\n'
    ovek.write("policy.toml", POLICY.replace('target = "2.0"\n', "") + narrow)
    assert ovek("runbook", "--for", "2.0", exits=1).stdout == shown, "a want of a target alone"


def test_what_somebody_has_accepted_is_let_be(ovek):
    ovek.write("policy.toml", POLICY)
    ovek.snapshot(old())
    ovek.write(
        "waivers.toml",
        'format = "ovek.waivers/1"\n[[waiver]]\nrule = "release-not-target"\ndevice = "sw"\n'
        'by = "A. Flett"\nwhy = "next year"\nuntil = 2099-01-01\n',
    )
    assert ovek.json("runbook")["devices"][0]["steps"] == []


def test_a_route_is_gone_hop_by_hop_with_a_reload_between():
    from builders import (
        CATALOG,  # noqa: F401 - the usual catalog is not this one
    )

    catalog = published(
        release("1.0"), release("2.0", from_=("1.0",)), release("3.0", from_=("2.0",))
    )

    planned = Planned(old(), catalog=catalog, policy=Policy(target="3.0", reserve="0%", keep=1))
    assert planned.fixed["upgrade-needs-step"] == 5
    made = [each.change for each in planned.dos]
    hop = ["copy", "check-digest", "set-order", "save", "reload"]
    assert made == hop + hop


def test_the_slower_of_link_and_device_tells_how_long_a_copy_takes(ovek):
    ovek.write("policy.toml", POLICY)
    fleet = 'name = "Test"\n[site."MV Tern"]\nlink = "{}"\n'
    names = ("a", "b")
    rows = "".join(
        f'[[device]]\nname = "{name}"\nsheet = "switch"\nsite = "MV Tern"\n' for name in names
    )
    ovek.write("fleet.toml", fleet.format("8 Mbit/s") + rows)
    ovek.snapshot(*(old(name) for name in names))
    steps = ovek.json("runbook", "a", exits=1)["devices"][0]["steps"]
    assert steps[0]["do"]["minutes"] == 2  # 100 MiB at a million bytes a second
    shown = " ".join(ovek("runbook", exits=1).stdout.split())
    assert "the link of MV Tern is shared by 2 devices: their copies take 4 min" in shown
    rate = {"device": "a", "result": "read", "digest_rate": 10**5}
    survey = {"began": "2026-03-02T21:14:05Z", "devices": [rate]}
    ovek.write("snapshots/now.survey.json", json.dumps(survey))
    steps = ovek.json("runbook", "a", exits=1)["devices"][0]["steps"]
    assert steps[1]["do"]["minutes"] == 18, "as fast as it was when it was read last"
    ovek.write("fleet.toml", fleet.format("0 Mbit/s") + rows)
    assert "is too low" in ovek.refuses("runbook")
    ovek.write("fleet.toml", fleet.format("fast") + rows)
    assert "use e.g. 2 Mbit/s" in ovek.refuses("runbook")


def test_a_later_snapshot_is_held_against_the_runbook(ovek):
    ovek.write("policy.toml", POLICY)
    spare = image("1.0", path="spare.img", content="other")
    ovek.snapshot(old("sw", spare), name="before.jsonl")
    half = old("sw", image("2.0"))  # copied, and a file went that nobody asked for
    ovek.snapshot(half, name="later.jsonl")
    told = ovek.json("runbook", "--snapshot", "before", "--confirm", "later", exits=1)
    (one,) = told["devices"]
    read = "Verify the SHA-512 of flash:sw-2.0.img on the device"
    assert one["done"] == ["Copy sw-2.0.img to flash:", read]
    assert one["not_done"][-1] == "Reload in a maintenance window"
    assert one["too_much"] == ["flash:spare.img is gone, and no step deletes it"]
    shown = ovek("runbook", "--snapshot", "before", "--confirm", "later", exits=1).stdout
    assert shown.startswith("sw: 2 of 5 changes done, and unplanned changes")


def test_no_name_of_a_device_reaches_the_terminal_or_leaves_a_list(ovek):
    ovek.write("policy.toml", POLICY)
    bad = "sw-2.0.img\x1b[31m `x`\u202e|"
    ovek.snapshot(old("sw", image("2.0", path=bad, digests=None, size=5)))
    for form in ("table", "markdown", "csv", "ical"):
        said = ovek("runbook", "--format", form, exits=1).stdout
        assert "\x1b" not in said and "\u202e" not in said, form

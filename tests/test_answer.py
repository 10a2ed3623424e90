"""The answer first: go, no-go and unclear, the same in every command and every form."""

import csv
import io
import json
import re
from datetime import timedelta
from xml.etree import ElementTree

import msgspec
import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from builders import CATALOG, MIB, NOW, ONE, TWO, device, flash, image, member, plain
from builders.chance import Chance
from ovek.cli import cli
from ovek.files.snapshot import write_snapshot

FIRST_LINE = re.compile(
    r"\d+ devices?, as of \S+ \S+ UTC: (\d+) go(?: \((\d+) of them only because of a waiver\))?,"
    r" (\d+) no-go, (\d+) unclear"
    r"(?: \((\d+) of them not read\))?\."
)


def sound(name="sw", **more):
    return device(member(image("1.0"), boots=(ONE,)), device=name, place=ONE, **more)


def stranded(name="lost"):
    return device(member(boots=(ONE,)), device=name, place=ONE)


def older(name="older"):
    """Its order names a file that is gone, so that a reload silently starts an older one."""
    return device(member(image("2.0"), image("1.0"), boots=("flash:sw-3.0.img", ONE)),
                  device=name, place=TWO, running="2.0")  # fmt: skip


def unproven(name="unsure"):
    odd = "flash:sw-9.9.img"
    return device(member(image("9.9"), boots=(odd,)), device=name, place=odd, running="9.9")


def first(ovek, *typed, exits=None):
    return ovek(*typed, exits=exits).stdout.splitlines()[0]


def test_a_sound_device_goes(ovek):
    assert first(ovek, "audit") == "sw: go."
    assert ovek.json("audit")["devices"][0]["answer"] == "go"


def test_each_answer_is_counted_and_no_go_is_told_first_with_its_reason(ovek):
    ovek.snapshot(sound(), unproven(), stranded(), older())
    ovek.fleet("sw", "unsure", "lost", "older", "never")
    lines = ovek("audit", exits=1).stdout.splitlines()
    assert lines[0] == (
        "5 devices, as of 2026-03-02 21:14 UTC: 1 go, 2 no-go, 2 unclear (1 of them not read)."
    )
    held = [line.split(None, 2) for line in lines[1:5]]
    assert [each[:2] for each in held] == [
        ["no-go", "lost"], ["no-go", "older"], ["unclear", "unsure"], ["unclear", "never"],
    ]  # fmt: skip
    assert held[0][2] == "nothing bootable: flash:sw-1.0.img is missing"
    assert "boot-target-missing: flash:sw-3.0.img; next boot 1.0, running 2.0" in held[1][2]
    assert "unproven" in held[2][2]
    assert held[3][2] == "not read: no survey has reached it yet"


@pytest.mark.parametrize("typed", [["audit"], ["bootwalk"], ["runbook"], ["compare", "now"]])
def test_every_command_about_a_fleet_begins_with_the_same_answer(ovek, typed):
    ovek.snapshot(sound(), unproven(), stranded(), older())
    counts = FIRST_LINE.search(" ".join(ovek(*typed, exits=None).stdout.split("\n")[:2]))
    assert counts is not None
    assert counts.groups() == ("1", None, "2", "1", None)


def test_a_stale_device_is_unclear_whatever_was_known_of_it(ovek):
    ovek.snapshot(sound("a"), sound("b"))
    tried = {"format": "ovek.survey/1", "began": "2026-03-03T00:00:00Z", "snapshot": "x",
             "devices": [{"device": "b", "result": "not read", "problem": "none"}]}  # fmt: skip
    ovek.write("snapshots/later.survey.json", json.dumps(tried))
    lines = ovek("audit", exits=3).stdout.splitlines()
    assert lines[0] == (
        "2 devices, as of 2026-03-02 21:14 UTC: 1 go, 0 no-go, 1 unclear (1 of them not read)."
    )
    assert lines[1].split()[:2] == ["unclear", "b"]


@pytest.mark.parametrize(
    "typed",
    [
        ("audit",), ("audit", "--format", "json"), ("bootwalk",), ("runbook",), ("where", "1.0"),
        ("custody",), ("cleanup", "--whole-fleet", "--free", "1MiB"), ("compare", "now"),
        ("report", "--format", "markdown"), ("history", "add"), ("shelf", "stick"), ("audit", "sw"),
    ],
    ids=" ".join,
)  # fmt: skip
def test_a_device_whose_sheet_is_gone_costs_itself_alone(ovek, typed):
    ovek.write("stick/sw-1.0.img", "x")
    ovek.snapshot(sound(), replace(sound("odd"), sheet="lost"))
    fleet = (ovek.folder / "fleet.toml").read_text()
    ovek.write("fleet.toml", fleet.replace('"odd"\nsheet = "switch"', '"odd"\nsheet = "lost"'))
    done = ovek(*typed, exits=None)
    assert done.returncode in (0, 1, 3), done.stderr
    assert "which does not exist" not in done.stderr
    if typed == ("audit",):
        assert "1 go, 0 no-go, 1 unclear (1 of them not read)." in done.stdout.splitlines()[0]
        assert done.returncode == 3 and "its sheet 'lost' does not exist" in done.stdout
    if typed == ("audit", "sw"):
        assert done.stdout.startswith("sw: go")
    named = ovek("audit", "odd", exits=3).stdout
    assert "unclear" in named and "Put lost.toml into" in " ".join(named.split())
    sheet = (ovek.folder / "sheets/switch.toml").read_text().replace('"switch"', '"lost"')
    ovek.write("sheets/lost.toml", sheet)
    assert "2 go, 0 no-go, 0 unclear." in ovek("audit").stdout.splitlines()[0]


def test_a_reading_with_a_sheet_that_the_fleet_file_names_no_more_is_to_be_read_again(ovek):
    ovek.snapshot(sound(), replace(sound("odd"), sheet="lost"))
    told = ovek.refuses("audit")
    assert "'odd' uses sheet 'lost'" in told and "Read it again: ovek survey odd. Or put" in told
    ovek.fleet("sw")
    assert "Read it again" not in ovek.refuses("audit", "odd")


def test_a_go_that_rests_on_a_waiver_says_so(ovek):
    known = older()
    ovek.snapshot(replace(known, running=replace(known.running, version="1.0")), sound())
    ovek.write("waivers.toml", """
        [[waiver]]
        device = "older"
        rule = "boot-target-missing"
        why = "known"
        by = "somebody"
        until = 2099-01-01
    """)  # fmt: skip
    lines = ovek("audit").stdout.splitlines()
    assert lines[0].endswith(" UTC: 2 go (1 of them only because of a waiver), 0 no-go, 0")
    assert lines[2].split(None, 2) == ["go", "older", "1 critical finding waived"]


def test_what_policy_accepts_goes(ovek):
    ovek.snapshot(unproven())
    assert first(ovek, "audit").startswith("unsure: unclear")
    file = unproven().members[0].volumes[0].files[0]
    own = {"format": "ovek.catalog/1", "trust": "own", "releases": [
        {"file": file.path, "digests": msgspec.to_builtins(file.digests)}]}  # fmt: skip
    ovek.write("catalog/own.json", json.dumps(own))
    assert first(ovek, "audit").startswith("unsure: unclear")
    ovek.write("policy.toml", 'accepts = ["publisher", "own"]')
    assert first(ovek, "audit") == "unsure: go."


def test_compare_leads_with_what_nobody_asked_for(ovek):
    ovek.snapshot(sound("a"), sound("b"), name="before.jsonl")
    later = replace(stranded("a"), taken_at=NOW + timedelta(days=1))
    ovek.snapshot(later, sound("b"), name="now.jsonl")
    lines = ovek("compare", "before", exits=1).stdout.splitlines()
    assert lines[0].startswith("2 devices compared: 1 worse, ")
    assert "1 go, 1 no-go, 0 unclear" in lines[1]
    assert lines[2].split(None, 2) == ["worse", "a", "it would no longer boot"]


def test_compare_without_a_change_cries_no_wolf(ovek):
    ovek.snapshot(sound(), name="before.jsonl")
    shown = ovek("compare", "before").stdout
    assert "worse" not in shown
    assert shown.startswith("1 device compared: no change.\nsw: go.")


def sure(one: dict) -> bool:
    """Whether every member starts what it runs, with its configuration, as far as JSON tells."""
    unread = "whether the saved configuration is read at boot"
    known = not any(unread in finding["seen"] for finding in one["findings"])
    return known and all(start["running"] == start["version"] for start in one["boots"])


def plainly(audit: dict) -> tuple[int, int, int, int]:
    """The four counts, by the design's sentences, from the JSON alone."""
    go = no_go = unclear = 0
    names = {one["device"] for one in audit["devices"]}
    unread = {one["device"] for one in audit["not_read"]}
    for one in audit["devices"]:
        severe = any(f["severity"] == "critical" and f["waived"] is None for f in one["findings"])
        if one["device"] in unread:
            unclear += 1
        elif one["next_boot"] == "stranded" or severe:
            no_go += 1
        elif one["next_boot"] == "proven" and sure(one):
            go += 1
        else:
            unclear += 1
    return go, no_go, unclear + len(unread - names), len(unread)


@pytest.mark.parametrize("seed", range(40))
def test_the_first_line_of_a_made_up_fleet_is_what_a_plain_reading_of_its_json_gives(
    tmp_path, seed
):
    chance = Chance(seed)
    case = chance.case()
    devices = [case.device]
    more = range(1000 * seed, 1000 * seed + chance.random.randint(1, 5))
    devices += [Chance(at).case().device for at in more]
    sheet = replace(case.sheet, name="switch")
    named = [replace(one, device=f"d{at}", sheet="switch") for at, one in enumerate(devices)]
    (tmp_path / "sheets").mkdir()
    (tmp_path / "catalog").mkdir()
    write_toml(tmp_path / "sheets/switch.toml", sheet)
    releases = [msgspec.to_builtins(one.release) for one in CATALOG]
    (tmp_path / "catalog/list.json").write_text(
        json.dumps({"format": "ovek.catalog/1", "releases": releases})
    )
    rows = [
        f'[[device]]\nname = "d{at}"\nsheet = "switch"\n' for at in range(len(named) + seed % 2)
    ]
    (tmp_path / "fleet.toml").write_text('name = "Made up"\n' + "".join(rows))
    write_snapshot(tmp_path / "snapshots/now.jsonl", named)
    run = CliRunner()
    made = run.invoke(cli, ["audit", "--site", str(tmp_path), "--format", "json"])
    counts = plainly(json.loads(made.stdout))
    shown = run.invoke(cli, ["audit", "--site", str(tmp_path)]).stdout
    told = FIRST_LINE.match(" ".join(shown.split()))
    assert told is not None, shown[:200]
    assert tuple(int(told[at] or 0) for at in (1, 3, 4, 5)) == counts
    walked = run.invoke(cli, ["bootwalk", "--site", str(tmp_path)]).stdout
    assert walked.splitlines()[0] == shown.splitlines()[0]


def as_toml(value) -> str:
    """A value as TOML on one line; what is None is left out."""
    if isinstance(value, dict):
        told = (f"{json.dumps(key)} = {as_toml(each)}" for key, each in value.items()
                if each is not None)  # fmt: skip
        return f"{{{', '.join(told)}}}"
    if isinstance(value, list | tuple):
        return f"[{', '.join(map(as_toml, value))}]"
    return json.dumps(value)


def write_toml(file, sheet) -> None:
    """Write a sheet as TOML."""
    whole = msgspec.to_builtins(sheet)
    lines = [f"{key} = {as_toml(value)}\n" for key, value in whole.items() if value is not None]
    file.write_text("".join(lines))


def test_junit_has_what_its_readers_expect(ovek):
    ovek.snapshot(sound(), stranded())
    ovek.fleet("sw", "lost", "never")
    root = ElementTree.fromstring(ovek("audit", "--format", "junit", exits=1).stdout)
    suites = {suite.get("name"): suite for suite in root}
    assert root.get("tests") == str(sum(len(suite.findall("testcase")) for suite in root))
    assert root.get("errors") == "1"
    assert int(root.get("failures")) == len(root.findall(".//failure"))
    lost = suites["lost"]
    assert {"hostname", "time", "errors", "timestamp"} <= set(lost.keys())
    told = {each.get("name"): each.get("value") for each in lost.iter("property")}
    assert told["network"] == "Test"
    assert "now.jsonl" in told["source"]
    assert told["sheet"] == "switch"
    assert [each.get("type") for each in lost.iter("failure")] == ["no-go", "stranded"]
    names = {suite.find("testcase").get("name") for suite in suites.values()}
    assert names == {"answer"}, "a case has one name, whatever comes of it"
    assert suites["sw"].find("testcase/failure") is None
    assert suites["never"].find("testcase/error") is not None


def test_a_table_of_devices_has_a_row_for_each_and_says_where_it_is_from(ovek):
    ovek.snapshot(sound(), stranded())
    ovek.fleet("sw", "lost", "never")
    text = ovek("audit", "--format", "csv", "--rows", "devices", exits=1).stdout
    rows = {row["device"]: row for row in csv.DictReader(io.StringIO(text))}
    assert {name: row["answer"] for name, row in rows.items()} == {
        "sw": "go", "lost": "no-go", "never": "unclear",
    }  # fmt: skip
    assert rows["sw"]["network"] == "Test"
    assert rows["sw"]["taken_at"] == "2026-03-02T21:14:05Z"
    assert (rows["sw"]["proven"], rows["sw"]["needed"]) == ("1", "1")


def test_a_proven_image_that_nobody_needs_is_not_counted(ovek):
    ovek.snapshot(device(member(image("1.0"), image("2.0"), boots=(ONE,)), place=ONE))
    images = ovek.json("audit")["devices"][0]["images"]
    assert [(one["place"], one["needed"]) for one in images] == [(ONE, True), (TWO, False)]
    assert "1 of 1" in ovek("audit").stdout


def test_json_lines_are_the_devices_of_the_object(ovek):
    ovek.snapshot(sound(), stranded())
    for typed, key in ((["audit"], "devices"), (["bootwalk"], "devices"), (["runbook"], "devices"),
                       (["where", "1.0"], "copies"), (["custody"], "images"),
                       (["compare", "now"], "devices"), (["catalog", "list"], "releases"),
                       (["rules"], "rules"), (["cleanup", "--free", "1MiB"], "plans"),
                       (["cleanup", "--free", "1MiB", "--whole-fleet"], "plans")):  # fmt: skip
        whole = json.loads(ovek(*typed, "--format", "json", exits=None).stdout)
        lines = ovek(*typed, "--format", "jsonl", exits=None).stdout.splitlines()
        assert [json.loads(line) for line in lines] == whole[key], typed


def test_every_result_names_the_site_the_snapshots_and_the_device(ovek):
    ovek.snapshot(sound(site="Here", role="core"))
    for typed, key in ((["audit"], "devices"), (["bootwalk"], "devices"), (["runbook"], "devices"),
                       (["where", "1.0"], "copies"), (["compare", "now"], "devices"),
                       (["cleanup", "--free", "1MiB"], "plans")):  # fmt: skip
        whole = json.loads(ovek(*typed, "--format", "json", exits=None).stdout)
        assert whole["site"] == "Test"
        assert whole["snapshots"] == [
            {"file": "now.jsonl", "devices": 1, "first": "2026-03-02T21:14:05Z",
             "last": "2026-03-02T21:14:05Z"}
        ]  # fmt: skip
        one = whole[key][0]
        assert {key: one[key] for key in ("site", "role", "sheet", "model", "taken_at")} == {
            "site": "Here", "role": "core", "sheet": "switch", "model": "SW10",
            "taken_at": "2026-03-02T21:14:05Z",
        }, typed  # fmt: skip


def test_only_one_rule_shows_only_the_devices_that_have_it(ovek):
    ovek.snapshot(sound(), stranded(), older())
    shown = ovek("audit", "--only", "boot-target-missing", exits=1).stdout
    assert "Showing only the 1 of 3 devices that has boot-target-missing" in shown
    assert not re.search(r"^(sw|lost) ", shown, re.MULTILINE)
    made = ovek.json("audit", "--only", "boot-target-missing", exits=1)
    assert [one["device"] for one in made["devices"]] == ["older"]
    assert made["summary"]["devices"] == 3


def test_findings_of_devices_that_do_not_go_come_first(ovek):
    ovek.snapshot(sound("a"), older("z"), full := device(
        member(volumes=(flash(image("1.0"), plain("b.partial", MIB), free=MIB),), boots=(ONE,)),
        device="m", place=ONE))  # fmt: skip
    assert full.device == "m"
    shown = ovek("audit", exits=1).stdout.partition("FINDINGS\n")[2].rpartition("FINDINGS\n")[2]
    named = [line for line in shown.splitlines() if line and not line.startswith(" ")]
    assert named[0] == "z"

"""The state of a fleet is the newest line of each device, however few a survey read."""

import csv
import io
import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree

import pytest
from msgspec.structs import replace

from builders import NOW, ONE, device, image, member
from ovek.files.database import INDEX
from ovek.files.errors import InputError
from ovek.files.snapshot import write_snapshot
from ovek.files.state import state_in, state_of


def at(days: float) -> datetime:
    return NOW + timedelta(days=days)


def sw(name: str, days: float = 0, version: str = "1.0"):
    place = f"flash:sw-{version}.img"
    one = device(member(image(version), boots=(place,)), device=name, place=place, running=version)
    return replace(one, taken_at=at(days))


def tried(ovek, name: str, days: float, **ends: str) -> None:
    """What a survey left: for each device what came of it."""
    devices = [
        {
            "device": one,
            "result": end,
            "problem": "the device closed the connection",
            "do": "Try again",
        }
        for one, end in ends.items()
    ]
    whole = {"format": "ovek.survey/1", "began": at(days).isoformat(), "devices": devices}
    ovek.write(f"snapshots/{name}.survey.json", json.dumps(whole))


def running(ovek) -> dict[str, str]:
    return {each["device"]: each["running"] for each in ovek.json("audit", exits=None)["devices"]}


def test_a_survey_of_one_device_refreshes_it_and_hides_no_other(ovek):
    ovek.snapshot(sw("a"), sw("b"), sw("c"))
    ovek.snapshot(sw("b", 1, "2.0"), name="then.jsonl")
    assert running(ovek) == {"a": "1.0", "b": "2.0", "c": "1.0"}
    shown = ovek("audit").stdout
    assert shown.startswith("3 devices, as of 2026-03-03 21:14 UTC: 3 go, 0 no-go, 0 unclear.")
    assert "the latest readings from 2 snapshots (now.jsonl: 2, then.jsonl: 1)" in shown
    assert [one["device"] for one in ovek.json("bootwalk", "b")["devices"]] == ["b"]


def test_one_snapshot_is_named_as_commands_print_it_or_by_its_path(ovek):
    ovek.snapshot(sw("a"), sw("b"))
    ovek.snapshot(sw("b", 1, "2.0"), name="then.jsonl")
    ovek("compare", "--baseline", "kept")
    for named in (
        "now",
        "now.jsonl",
        "snapshots/now.jsonl",
        str(ovek.folder / "snapshots/now.jsonl"),
    ):
        audit = ovek.json("audit", "--snapshot", named)
        assert {one["device"]: one["running"] for one in audit["devices"]} == {
            "a": "1.0",
            "b": "1.0",
        }
    assert ovek.json("audit", "--snapshot", "kept")["summary"]["devices"] == 2
    assert "Did you mean 'then'?" in ovek.refuses("audit", "--snapshot", "thn")
    missing = ovek.json("audit", "--snapshot", "then", exits=3)["not_read"]
    assert missing == [{"device": "a", "why": "then.jsonl has no reading of it", "last_read": None,
                        "do": "Read it: ovek survey a", "site": None, "role": None,
                        "sheet": "switch"}]  # fmt: skip


def not_read(ovek) -> None:
    """A fleet of three: one that is well, one that was not read the last time, and one never."""
    ovek.snapshot(sw("well"), sw("lost"))
    ovek.fleet("well", "lost", "never")
    tried(ovek, "later", 1, well="read", lost="not read")


def test_a_device_that_was_not_read_is_so_in_every_form(ovek):
    not_read(ovek)
    audit = ovek.json("audit", exits=3)
    told = {one["device"]: one for one in audit["not_read"]}
    assert told["lost"]["why"] == "the device closed the connection"
    assert told["lost"]["last_read"] == "2026-03-02T21:14:05Z"
    assert (told["never"]["why"], told["never"]["last_read"]) == (
        "no survey has reached it yet",
        None,
    )
    assert (audit["summary"]["proven"], audit["summary"]["not_read"]) == (1, 2)
    assert {one["device"]: one["not_read"] for one in audit["devices"]} == {
        "well": None, "lost": "the device closed the connection",
    }  # fmt: skip
    shown = ovek("audit", exits=3).stdout
    assert shown.startswith(
        "3 devices, as of 2026-03-02 21:14 UTC: 1 go, 0 no-go, 2 unclear (2 of them not read)."
    )
    assert "lost: the device closed the connection; last read" in shown
    assert "never: no survey has reached it yet; never read before" in shown
    rows = list(csv.DictReader(io.StringIO(ovek("audit", "--format", "csv", exits=3).stdout)))
    assert {row["device"] for row in rows if row["next_boot"] == "not read"} == {"lost", "never"}
    suites = ElementTree.fromstring(ovek("audit", "--format", "junit", exits=3).stdout)
    assert [suite.get("name") for suite in suites if suite.get("errors") == "1"] == [
        "lost",
        "never",
    ]
    assert suites.get("errors") == "2"
    markdown = ovek("audit", "--format", "markdown", exits=3).stdout
    assert "## Not read" in markdown
    assert "- **never**: no survey has reached it yet" in markdown
    assert "NOT READ" in ovek("audit", "--group-by", "rule", exits=3).stdout


def test_every_command_says_who_was_not_read_and_ends_with_three(ovek):
    not_read(ovek)
    walk = ovek.json("bootwalk", exits=3)
    assert [one["device"] for one in walk["not_read"]] == ["lost", "never"]
    shown = ovek("bootwalk", exits=3).stdout
    assert " UTC: 1 go, 0 no-go, 2 unclear (2 of them not read)." in shown
    for typed in (["cleanup", "--free", "1MiB"], ["cleanup", "--whole-fleet", "--free", "1MiB"],
                  ["custody"], ["compare", "now"]):  # fmt: skip
        assert "lost" in ovek(*typed, exits=3).stdout, typed
        told = ovek.json(*typed, exits=3)["not_read"]
        assert [one["device"] for one in told] == ["lost", "never"], typed
    assert (
        "## Not read" in ovek("cleanup", "--free", "1MiB", "--format", "markdown", exits=3).stdout
    )
    assert "no survey has reached it yet" in ovek.refuses("catalog", "pick", "never")


def test_only_what_is_asked_about_counts(ovek):
    not_read(ovek)
    ovek("bootwalk", "well")
    ovek("audit", "w*")
    ovek("bootwalk", "never", exits=3)
    ovek("audit", "n*", exits=3)
    assert "Did you mean 'never'?" in ovek.refuses("bootwalk", "nevr")


def test_a_device_that_was_read_since_is_read(ovek):
    not_read(ovek)
    ovek.snapshot(sw("lost", 2), name="then.jsonl")
    ovek.fleet("well", "lost")
    assert ovek.json("audit")["not_read"] == []


def test_what_is_worse_than_not_read_ends_with_one(ovek):
    not_read(ovek)
    bad = replace(sw("well", 2), members=(member(boots=(ONE,)),))
    ovek.snapshot(bad, name="then.jsonl")
    ovek.fleet("well", "lost", "never")
    shown = ovek("audit", exits=1).stdout
    assert shown.startswith(
        "3 devices, as of 2026-03-04 21:14 UTC: 0 go, 1 no-go, 2 unclear (2 of them not read)."
    )
    ovek("audit", "--fail-on", "never", exits=3)


def test_a_waiver_for_a_device_that_was_not_read_is_not_of_no_use(ovek):
    not_read(ovek)
    waiver = '[[waiver]]\nrule = "stranded"\nby = "me"\nwhy = "x"\nuntil = 2999-01-01\ndevice = '
    ovek.write("waivers.toml", f'{waiver}"never"\n{waiver}"well"\n')
    unused = ovek.json("audit", exits=3)["unused_waivers"]
    assert [one["device"] for one in unused] == ["well"]


def test_a_device_that_left_the_fleet_counts_while_the_newest_snapshot_holds_it(ovek):
    ovek.snapshot(sw("a"), sw("ghost"))
    ovek.fleet("a")
    assert set(running(ovek)) == {"a", "ghost"}
    ovek.snapshot(sw("a", 1), name="then.jsonl")
    ovek.fleet("a")
    assert set(running(ovek)) == {"a"}
    ovek("bootwalk", "ghost", exits=2)


def read(folder):
    return {name: state.taken_at for name, state in state_of(folder).lines.items()}


def changed(index, how):
    with closing(sqlite3.connect(index)) as database:
        database.execute(how)
        database.commit()


def test_the_index_is_kept_and_made_anew_where_it_is_missing_or_wrong(tmp_path):
    write_snapshot(tmp_path / "1.jsonl", [sw("a"), sw("b")])
    write_snapshot(tmp_path / "2.jsonl", [sw("b", 2)])
    wanted = {"a": at(0), "b": at(2)}
    assert read(tmp_path) == wanted
    whole = (tmp_path / INDEX).read_bytes()
    for wrong in (b"", b"{}", b"\xff", whole[:50], whole[:5000], whole.replace(b"file", b"fyle")):
        (tmp_path / INDEX).write_bytes(wrong)
        assert read(tmp_path) == wanted
        assert state_of(tmp_path).read("b").taken_at == at(2)
    for wrong in (
        "UPDATE file SET name = '9.jsonl' WHERE at = 0", "UPDATE line SET file = 7",
        "UPDATE line SET at = 10000", "UPDATE line SET taken_at = 'noon'", "DELETE FROM file",
        "UPDATE line SET length = 'long'", "UPDATE line SET at = -1, length = 2",
        "INSERT INTO failed VALUES ('a', 9, '2026-01-01T00:00:00Z', 'x', NULL)",
        "DROP TABLE failed", "CREATE VIEW more AS SELECT * FROM line",
        "ALTER TABLE line ADD COLUMN more TEXT", "UPDATE line SET digest = 7",
        "CREATE TRIGGER more AFTER INSERT ON line BEGIN DELETE FROM line; END",
    ):  # fmt: skip
        changed(tmp_path / INDEX, wrong)
        assert read(tmp_path) == wanted
        assert state_of(tmp_path, ["b"]).read("b").taken_at == at(2)
        assert (tmp_path / INDEX).read_bytes() == whole, wrong
    changed(
        tmp_path / INDEX,
        "UPDATE line SET (file, number, at, length) = "
        "(SELECT file, number, at, length FROM line WHERE name = 'b') WHERE name = 'a'",
    )
    with pytest.raises(
        InputError,
        match=r"Run the command again|Read the devices again: ovek "
        r"survey",
    ):
        state_of(tmp_path).read("a")
    assert state_of(tmp_path).read("a").device == "a"


def test_a_snapshot_that_changed_or_went_is_noticed(tmp_path):
    write_snapshot(tmp_path / "1.jsonl", [sw("a"), sw("b")])
    write_snapshot(tmp_path / "2.jsonl", [sw("b", 2)])
    write_snapshot(tmp_path / "3.jsonl", [sw("a", -5)])
    read(tmp_path)
    (tmp_path / "3.jsonl").unlink()  # it held no newest line
    assert read(tmp_path) == {"a": at(0), "b": at(2)}
    write_snapshot(tmp_path / "0.jsonl", [sw("c", 1)])
    assert read(tmp_path) == {"a": at(0), "b": at(2), "c": at(1)}
    write_snapshot(tmp_path / "1.jsonl", [sw("a", 3)])
    assert read(tmp_path) == {"a": at(3), "b": at(2), "c": at(1)}
    (tmp_path / "2.jsonl").unlink()
    assert read(tmp_path) == {"a": at(3), "c": at(1)}
    assert [state_of(tmp_path).read(name).device for name in ("a", "c")] == ["a", "c"]


def test_of_two_lines_of_one_second_the_later_survey_counts(tmp_path):
    for name, version in (("s", "1.0"), ("s-2", "2.0"), ("r", "3.0")):
        write_snapshot(tmp_path / f"{name}.jsonl", [sw("a", 0, version)])
    assert state_of(tmp_path).read("a").running.version == "2.0"


def test_a_folder_that_cannot_be_written_only_has_no_index(tmp_path, monkeypatch):
    write_snapshot(tmp_path / "1.jsonl", [sw("a")])

    def refused(*_):
        raise InputError("x", "cannot be written", "No")

    monkeypatch.setattr("ovek.files.database.write_whole", refused)
    assert read(tmp_path) == {"a": at(0)}
    assert not (tmp_path / INDEX).exists()


def test_a_bad_line_or_a_device_twice_is_told_with_its_file(tmp_path):
    write_snapshot(tmp_path / "1.jsonl", [sw("a")])
    file = tmp_path / "2.jsonl"
    file.write_bytes((tmp_path / "1.jsonl").read_bytes() * 2)
    for find in (state_of, lambda folder: state_in(folder / "2.jsonl")):
        with pytest.raises(InputError, match="is already on line"):
            find(tmp_path)
    file.write_text("{")
    with pytest.raises(InputError, match="damaged"):
        state_of(tmp_path)
    file.unlink()
    (tmp_path / "x.survey.json").write_text("{")
    with pytest.raises(InputError, match="was not written by a survey"):
        state_of(tmp_path)


def snapshots(ovek) -> set[str]:
    """What lies in the folder of the snapshots, for people to see."""
    return {file.name for file in (ovek.folder / "snapshots").glob("[!.]*")}


def test_old_snapshots_are_pruned_by_name_only_and_never_a_newest_line(ovek):
    now = datetime.now(UTC)

    def old(name, days):
        return replace(sw(name), taken_at=now - timedelta(days=days))

    ovek.snapshot(old("a", 400), old("b", 400), name="1.jsonl")
    ovek.snapshot(old("a", 200), name="2.jsonl")
    ovek.snapshot(old("a", 100), name="3.jsonl")
    (ovek.folder / "snapshots/now.jsonl").unlink()
    for name in ("1", "2"):
        ovek.write(f"snapshots/{name}.evidence/a.json.gz", b"x")
    tried(ovek, "2", -900, a="read")
    ovek.fleet("a", "b")
    before = snapshots(ovek)
    assert "No snapshot removed" in ovek("survey", "--prune", "500d").stdout
    assert snapshots(ovek) == before
    shown = ovek("survey", "--prune", "150d").stdout
    assert "1 snapshot removed: 2.jsonl." in shown
    assert "1 old snapshot kept, with the latest reading of a device: 1.jsonl." in shown
    left = snapshots(ovek)
    assert left == {"1.jsonl", "1.evidence", "3.jsonl"}
    made = ovek.json("survey", "--prune", "50d")
    assert (made["format"], made["kept"]) == ("ovek.pruned/1", ["1.jsonl", "3.jsonl"])
    assert made["removed"] == []
    assert "use hours, days or weeks" in ovek("survey", "--prune", "soon", exits=2).stderr


def test_a_fleet_of_200_where_60_are_a_week_old_20_never_and_5_by_the_last_survey(ovek):
    names = [f"sw{number:03}" for number in range(200)]
    ovek.snapshot(*(sw(name, -7) for name in names[:60]), name="1.jsonl")
    ovek.snapshot(*(sw(name, -1) for name in names[60:180]), name="2.jsonl")
    ovek.snapshot(*(sw(name, 0, "2.0") for name in names[:5]), name="3.jsonl")
    (ovek.folder / "snapshots/now.jsonl").unlink()
    ovek.fleet(*names)
    tried(ovek, "3", 0, **dict.fromkeys(names[:5], "read"), sw100="not read")
    audit = ovek.json("audit", exits=3)
    assert [one["device"] for one in audit["devices"]] == names[:180]
    assert [one["device"] for one in audit["not_read"]] == ["sw100", *names[180:]]
    assert audit["summary"]["not_read"] == 21
    assert audit["summary"]["proven"] == 179
    versions = [one["running"] for one in audit["devices"]]
    assert versions == ["2.0"] * 5 + ["1.0"] * 175
    assert {one["taken_at"] for one in audit["devices"][5:60]} == {"2026-02-23T21:14:05Z"}


def test_the_snapshots_of_several_collectors_are_one_state(ovek):
    for region, devices in (("north", [sw("a"), sw("b")]), ("south", [sw("b", 1, "2.0"), sw("c")])):
        write_snapshot(ovek.folder / f"region-{region}/snapshots/night.jsonl", devices)
    ovek.fleet("a", "b", "c", "d")
    made = ovek.json("audit", "--snapshot", "region-*/snapshots/*.jsonl", exits=None)
    assert {one["device"]: one["running"] for one in made["devices"]} == {
        "a": "1.0", "b": "2.0", "c": "1.0",
    }  # fmt: skip
    assert [one["file"] for one in made["snapshots"]] == [
        "region-north/snapshots/night.jsonl", "region-south/snapshots/night.jsonl",
    ]  # fmt: skip
    assert [one["device"] for one in made["not_read"]] == ["d"]
    assert "matches no snapshot" in ovek.refuses("audit", "--snapshot", "nowhere-*/x.jsonl")

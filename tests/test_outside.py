"""Files that are not what they seem: each gets one message, or costs its own line."""

import gzip
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from ovek.files.catalog import sorted_out
from ovek.files.errors import InputError
from ovek.files.importers import metalink, pasted, table
from ovek.files.lock import locked
from ovek.model.pattern import PatternError, compiled
from ovek.model.size import SizeError, parse_size


@pytest.mark.parametrize(
    "name", ["fleet.toml", "policy.toml", "sheets/switch.toml", "waivers.toml"]
)
def test_a_pipe_where_a_file_of_the_site_should_be_is_told_and_not_waited_for(ovek, name):
    file = ovek.folder / name
    file.unlink(missing_ok=True)
    os.mkfifo(file)
    assert f"{name}: is a pipe, not a file" in ovek.refuses("audit")


def test_a_pipe_or_device_named_by_hand_is_told(ovek, tmp_path_factory):
    os.mkfifo(ovek.folder / "pipe.md5")
    assert "is a pipe" in ovek.refuses("audit", "--snapshot", "pipe.md5")
    assert "is a pipe" in ovek.refuses("catalog", "import", "pipe.md5")
    assert "is a device" in ovek.refuses("shelf", "--expect", "a" * 32, "/dev/zero")
    null = tmp_path_factory.mktemp("beside") / "null.png"
    null.symlink_to("/dev/null")
    figure = ["cleanup", "--whole-fleet", "--free", "1KiB", "--figure", str(null)]
    assert "is a device" in ovek(*figure, exits=2).stderr
    assert Path("/dev/null").is_char_device()


def test_a_pipe_on_the_shelf_is_passed_over_and_a_link_stays_a_link(ovek):
    ovek.write("shelf/sw-1.0.img", b"x")
    os.mkfifo(ovek.folder / "shelf/pipe.img")
    assert len(ovek.json("shelf", exits=1)["files"]) == 1
    ovek.write("real/all.md5", "old")
    (ovek.folder / "all.md5").symlink_to("real/all.md5")
    ovek("shelf", "--write-list", "all.md5", exits=1)
    assert (ovek.folder / "all.md5").is_symlink()
    assert "sw-1.0.img" in (ovek.folder / "real/all.md5").read_text()


def test_what_is_written_over_keeps_its_permissions(ovek):
    ovek.write("shelf/a.bin", b"x")
    ovek.write("all.md5", "old").chmod(0o600)
    ovek("shelf", "--write-list", "all.md5")
    assert (ovek.folder / "all.md5").stat().st_mode & 0o777 == 0o600


def shell(ovek, line):
    """Run a line of a shell in the site, `ovek` being the built program."""
    typed = line.replace("ovek", f"{sys.executable} -m ovek")
    done = subprocess.run(
        ["bash", "-c", typed],
        cwd=ovek.folder,
        capture_output=True,
        encoding="utf-8",
        check=False,
        stdin=subprocess.DEVNULL,
        start_new_session=True,
    )
    assert "Traceback" not in done.stderr, done.stderr
    return done


def test_a_closed_standard_output_is_told(ovek):
    done = shell(ovek, "ovek audit >&-")
    assert (done.returncode, done.stderr) == (
        2,
        "ovek: standard output is closed; give it a file or a terminal\n",
    )
    assert shell(ovek, "ovek audit 2>&-").returncode == 0


def test_a_full_disk_behind_standard_output_is_told(ovek):
    for form in ("table", "json"):
        done = shell(ovek, f"ovek audit --format {form} > /dev/full")
        assert done.returncode == 2
        assert "no space left" in done.stderr.lower()


def test_a_password_cannot_be_asked_for_without_a_terminal(ovek):
    done = shell(ovek, "ovek survey --ask-password < /dev/null")
    assert done.returncode == 2
    assert "OVEK_PASSWORD" in done.stderr


ODD_NAMES = [b"plain.img", b"a b.img", b"a\\b.img", b"a\nb.img", b"caf\xe9.img", "é.img".encode()]


def test_a_list_that_was_written_is_found_right_by_a_checksum_program(ovek):
    for name in ODD_NAMES:
        ovek.write(f"shelf/sub/{os.fsdecode(name)}", name)
    ovek("shelf", "--write-list", "all.sha256")
    done = subprocess.run(
        ["sha256sum", "-c", "--strict", "../all.sha256"],
        cwd=ovek.folder / "shelf",
        capture_output=True,
        check=False,
    )
    assert done.returncode == 0, done
    assert done.stdout.count(b"OK") == len(ODD_NAMES)


BAD = {
    "an encoding that nobody knows": (
        metalink,
        "a.meta4",
        b'<?xml version="1.0" encoding="latin-99"?><a/>',
        "invalid XML",
    ),
    "a cell that is too long": (
        table,
        "a.csv",
        b"file,md5\n" + b"x" * 200_000 + b",y",
        "invalid CSV",
    ),
    "a header that is too long": (table, "a.csv", b"x" * 200_000 + b",y\n", "invalid CSV"),
    "a size beyond any file": (table, "a.csv", b"file,size\nx.img,20000 PiB", "2**63"),
    "a size of twenty digits": (
        pasted,
        "a.page",
        b"x.img size: 99999999999999999999 bytes",
        "No file is that large",
    ),
}


@pytest.mark.parametrize("what", BAD)
def test_what_no_list_may_hold_is_one_message(what, tmp_path):
    importer, name, data, told = BAD[what]
    file = tmp_path / name
    file.write_bytes(data)
    with pytest.raises(InputError, match=name) as error:
        sorted_out(importer.read(file))
    assert told in str(error.value)
    assert len(str(error.value)) < 800


def test_a_size_at_the_bound_is_taken_and_one_beyond_is_not():
    assert parse_size(str(2**63 - 1)) == 2**63 - 1
    assert parse_size("1.000000001 KiB") == 1025
    for text in (str(2**63), "20000 PiB", "9" * 20, "9" * 20 + "." + "9" * 9 + "PiB"):
        with pytest.raises(SizeError):
            parse_size(text)


def test_a_number_of_many_digits_and_a_nul_in_fleet_toml_are_told(ovek):
    ovek.write("policy.toml", "\nkeep = " + "9" * 6000)
    assert "policy.toml, line 2: has a number with too many digits" in ovek.refuses("audit")
    catalog = '{"format": "ovek.catalog/1",\n"x": ' + "9" * 6000 + "}"
    assert "list.json, line 2: has a number" in refused_catalog(ovek, catalog)
    ovek.write("policy.toml", "keep = 99999999999999999999999")
    assert "policy.toml" in ovek.refuses("audit")
    (ovek.folder / "policy.toml").unlink()
    ovek.write("fleet.toml", 'name = "x"\nlists = ["a\\u0000b"]\n')
    assert "is not a file name" in ovek.refuses("audit")


def refused_catalog(ovek, text):
    """What is said of a catalog; the policy of before is put aside."""
    (ovek.folder / "policy.toml").unlink()
    kept = (ovek.folder / "catalog/list.json").read_text()
    ovek.write("catalog/list.json", text)
    told = ovek.refuses("audit")
    ovek.write("catalog/list.json", kept)
    return told


def test_evidence_of_other_shapes_costs_its_own_device(ovek):
    ovek("sheet", "new", "box")
    ovek.write("fleet.toml", 'name = "x"\n[[device]]\nname = "sw"\nsheet = "box"\n')
    rows = {"answers": [{"name": "x", "fills": "bank", "rows": [{"bank": 7}]}]}
    for head in ({"taken_at": "2026-01-01T00:00:00+00:00"}, {"taken_at": 5}, {}):
        data = json.dumps({"format": "ovek.evidence/1", **head, **rows}).encode()
        ovek.write("snapshots/now.evidence/sw.json.gz", gzip.compress(data))
        result = ovek.json("survey", "--replay", exits=3)["devices"][0]
        whole = head.get("taken_at") not in (5, None)
        assert result["result"] == ("partly read" if whole else "not read")
        assert not whole or "banks.0.name (7)" in result["lost"][0]


def test_a_cache_that_cannot_be_read_or_written_is_a_notice(ovek, monkeypatch):
    ovek.write("shelf/a.bin", b"x")
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    ovek.write("cache/ovek/shelf.json", "no JSON")
    done = ovek("shelf")
    assert "could not be read, so every file was digested" in done.stderr
    assert ovek("shelf").stderr == ""
    shutil.rmtree(ovek.folder / "cache")
    ovek.write("cache", "a file")
    assert "cannot be written" in ovek("shelf").stderr


def test_patterns_may_have_flags_anywhere_and_none_that_looks_around(ovek):
    assert compiled("a|(?i)b").fullmatch("B")
    with pytest.raises(PatternError, match="invalid perl operator"):
        compiled("a(?=b)")
    file = ovek.folder / "sheets/switch.toml"
    good = file.read_text()
    file.write_text(good.replace("sw-(?P<version>", "sw-(?i)(?P<version>"))
    ovek("audit")
    file.write_text(good.replace("sw-(?P<version>", "(?<!x)sw-(?P<version>"))
    assert "is not a regular expression of RE2" in ovek.refuses("sheet", "check", str(file))


def test_a_template_that_looks_around_is_told_with_its_question(ovek):
    ovek("sheet", "new", "box")
    file = ovek.folder / "sheets/box.toml"
    text = file.read_text()
    assert "Value " in text
    file.write_text(text.replace("Start\n", "Start\n  ^(?!x)y\n", 1))
    done = ovek("sheet", "check", str(file), exits=2)
    assert "RE2" in done.stderr
    assert "question" in done.stderr


def test_odd_names_of_a_device_and_its_files_cost_no_other_device(ovek):
    long = "x" * 300 + "/../"
    fleet = 'name = "x"\n'
    for name in (long, "odd", "plain"):
        fleet += f'[[device]]\nname = "{name}"\nsheet = "switch"\naccess = ["folder"]\n'
        fleet += f'folder = "{"sticks" if name == "odd" else "stick"}"\n'
    ovek.write("fleet.toml", fleet)
    ovek.write("stick/sw-1.0.img", b"x")
    ovek.write(f"sticks/{os.fsdecode(b'sw-1.0.caf' + bytes([0xE9]) + b'.img')}", b"x")
    ovek.write("sticks/sw-1.0.img", b"x")
    result = ovek.json("survey", exits=3)
    assert {one["result"] for one in result["devices"]} == {"partly read"}
    (snapshot,) = (ovek.folder / "snapshots").glob("2*.jsonl")
    found = {d["device"]: d for d in map(json.loads, snapshot.read_text().splitlines())}
    assert set(found) == {long, "odd", "plain"}
    files = found["odd"]["members"][0]["volumes"][0]["files"]
    assert sorted(one["path"] for one in files) == ["sw-1.0.caf\\xe9.img", "sw-1.0.img"]
    kept = list(snapshot.with_suffix(".evidence").iterdir())
    assert len(kept) == 3
    assert all(len(file.name) < 255 and file.name.endswith(".json.gz") for file in kept)


def test_a_survey_says_who_holds_the_lock_and_a_dead_one_holds_nothing(ovek):
    ovek.write("stick/a", b"x")
    one = '[[device]]\nname = "a"\nsheet = "switch"\naccess = ["folder"]\nfolder = "stick"\n'
    ovek.write("fleet.toml", f'name = "x"\n{one}')
    with locked(ovek.folder / "snapshots/.survey.lock", "a survey of this site"):
        told = ovek.refuses("survey")
        assert f"a survey of this site is already running (process {os.getpid()} on " in told
        assert "Wait until it ends" in told
    ovek("survey", exits=3)
    ovek.write("snapshots/.survey.lock.by", '{"process": 1, "host": "gone", "since": "long ago"}')
    ovek("survey", exits=3)


def test_only_the_last_survey_that_was_cut_off_is_taken_up_and_a_bad_line_costs_itself(ovek):
    fleet = 'name = "x"\n'
    for name in ("a", "b"):
        fleet += f'[[device]]\nname = "{name}"\nsheet = "switch"\naccess = ["folder"]\n'
        fleet += 'folder = "stick"\n'
    ovek.write("fleet.toml", fleet)
    ovek.write("stick/sw-1.0.img", b"x")
    ovek("survey", exits=3)
    (first,) = (ovek.folder / "snapshots").glob("2*.jsonl")
    lines = first.read_bytes().splitlines(keepends=True)
    journal = ovek.write("snapshots/2030-01-01T000000Z.jsonl.unfinished", lines[0] + b"no JSON\n")
    done = ovek("survey", "--resume", exits=3)
    assert "line 2: not a device, so it is read again" in done.stderr
    assert not journal.exists()
    taken_up = ovek.folder / "snapshots/2030-01-01T000000Z.jsonl"
    assert [json.loads(line)["device"] for line in taken_up.read_bytes().splitlines()] == ["a", "b"]
    old = ovek.write("snapshots/2020-01-01T000000Z.jsonl.unfinished", lines[0])
    os.utime(old, (1_500_000_000, 1_500_000_000))
    assert "is older than 2030-01-01T000000Z.jsonl" in ovek.refuses("survey", "--resume")
    assert old.read_bytes() == lines[0]


def test_a_clock_that_was_set_back_overwrites_nothing(ovek):
    ovek.write("stick/a", b"x")
    one = '[[device]]\nname = "sw"\nsheet = "switch"\naccess = ["folder"]\nfolder = "stick"\n'
    ovek.write("fleet.toml", f'name = "x"\n{one}')
    later = json.loads((ovek.folder / "snapshots/now.jsonl").read_text())
    later["taken_at"] = "2099-01-01T00:00:00Z"
    kept = ovek.write("snapshots/2099-01-01T000000Z.jsonl", json.dumps(later)).read_bytes()
    for _ in range(3):  # within one second, as likely as not
        ovek("survey", exits=3)
    assert len(list((ovek.folder / "snapshots").glob("2*.jsonl"))) == 4
    assert (ovek.folder / "snapshots/2099-01-01T000000Z.jsonl").read_bytes() == kept
    ovek("audit", exits=None)

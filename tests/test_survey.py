"""Whole fleets of stand-ins, read over real SSH by the built program."""

import hashlib
import json
import os
import signal
import subprocess
import sys
import time
from contextlib import contextmanager
from pathlib import Path

import msgspec
import pytest

from builders import device, flash, image, member, plain
from ovek.files.evidence import read_evidence
from ovek.files.sheets import find_sheet
from ovek.files.site import read_sheet

SAMPLE = Path(__file__).parent.parent / "src/ovek/demo/site"
LEAVES = {"goodbye", "leave", "end", "bye"}


@pytest.fixture(autouse=True)
def password(monkeypatch):
    monkeypatch.setenv("OVEK_PASSWORD", "harbour")
    monkeypatch.delenv("SSH_AUTH_SOCK", raising=False)


@contextmanager
def served(folder: Path, record: Path | None = None):
    """The stand-ins of a site, served by the built program as long as this lasts."""
    command = [sys.executable, "-m", "ovek", "standin", "serve", "--site", str(folder)]
    command += ["--record", str(record)] if record is not None else []
    with subprocess.Popen(command, stdout=subprocess.PIPE, encoding="utf-8") as serving:
        assert "simulated devices are listening" in serving.stdout.readline()
        try:
            yield
        finally:
            serving.terminate()


def standin(one, **more):
    return {
        "format": "ovek.standin/1",
        "language": "oxwick",
        "digest_rate": 10**12,
        "device": msgspec.to_builtins(one),
        **more,
    }


def site_of(ovek, *states):
    """A site whose fleet is these stand-ins, all of Oxwick's kind."""
    names = [state["device"]["device"] for state in states]
    fleet = "".join(f'[[device]]\nname = "{name}"\nsheet = "oxwick-40"\n' for name in names)
    ovek.write("fleet.toml", f'name = "Test"\nlists = ["addresses.csv"]\n{fleet}')
    ovek.write("standins.jsonl", "".join(json.dumps(state) + "\n" for state in states))
    for old in (ovek.folder / "snapshots").glob("*"):
        old.unlink()


def switch(name="sw", **more):
    volume = flash(image("1.0"), plain("site.settings"), cluster=4096, filesystem="ext4")
    one = member(volumes=(volume,), boots=("flash:sw-1.0.img",), live=("flash:sw-1.0.img",))
    more.setdefault("place", "flash:sw-1.0.img")
    return device(msgspec.structs.replace(one, components=(), role="active"), device=name, **more)


def newest(ovek):
    """The devices of the newest snapshot that a survey wrote, by name."""
    file = max((ovek.folder / "snapshots").glob("2*.jsonl"), key=lambda each: each.stat().st_mtime)
    return file, {d["device"]: d for d in map(json.loads, file.read_text().splitlines())}


def by_name(result):
    return {one["device"]: one for one in result["devices"]}


@pytest.fixture(scope="module")
def surveyed(tmp_path_factory):
    """The sample fleet, surveyed once: its folder, what was said, and what was received."""
    folder = tmp_path_factory.mktemp("sample") / "site"
    subprocess.run(["cp", "-r", str(SAMPLE), str(folder)], check=True)
    (folder / "snapshots/2026-11-20.jsonl").unlink()
    record = folder / "record.jsonl"
    environment = {**os.environ, "OVEK_PASSWORD": "harbour"}
    with served(folder, record):
        done = subprocess.run(
            [sys.executable, "-m", "ovek", "survey", "--site", str(folder), "--format", "json"],
            capture_output=True,
            encoding="utf-8",
            env=environment,
            check=False,
        )
    assert done.returncode == 3, done.stderr
    return folder, json.loads(done.stdout), record.read_text()


def test_a_survey_tells_what_is_true_of_every_device_of_four_vendors(surveyed):
    folder, _, _ = surveyed
    truth = {}
    for line in (folder / "standins.jsonl").read_text().splitlines():
        one = json.loads(line)["device"]
        truth[one["device"]] = one
    snapshot = next((folder / "snapshots").glob("*.jsonl"))
    found = {d["device"]: d for d in map(json.loads, snapshot.read_text().splitlines())}
    assert set(truth) - set(found) == {"kittiwake-bridge"}
    for name, got in found.items():
        digest_at(got, got["taken_at"])
        for key in ("hardware", "running", "members", "config", "site", "sheet"):
            wanted = json.loads(json.dumps(truth[name].get(key)).replace("+00:00", "Z"))
            if name == "petrel-bridge" and key == "members":
                got["members"][0]["volumes"][0].pop("sets", None)
                wanted[0]["volumes"][0].pop("sets", None)
                wanted[0]["volumes"][0]["files"][0].pop("digests", None)
            assert got.get(key) == wanted, (name, key)


def digest_at(device, time):
    """Take out when each digest was measured, which has to be then, and only where there is one."""
    for one in device["members"]:
        for volume in one.get("volumes", ()):
            for file in volume.get("files", ()):
                assert file.pop("digests_at", None) == (time if "digests" in file else None)


def test_a_device_that_is_out_of_reach_costs_its_own_line_only(surveyed):
    _, result, _ = surveyed
    ends = {name: one["result"] for name, one in by_name(result).items()}
    assert ends.pop("kittiwake-bridge") == "not read"
    assert ends.pop("petrel-bridge") == "partly read"
    assert set(ends.values()) == {"read"}


def test_only_what_the_sheets_list_is_ever_sent(surveyed):
    folder, _, record = surveyed
    received = {}
    for line in record.splitlines():
        entry = json.loads(line)
        received[entry["device"]] = received.get(entry["device"], "") + entry["received"]
    fleet = {d["device"]: d for d in result_devices(folder)}
    for name, text in received.items():
        sheet = read_sheet(find_sheet(folder, fleet[name]["sheet"]))
        allowed = {one.ask.split("{")[0].strip() for one in sheet.reading.question}
        for typed in text.replace(" ", "\0").split("\n"):
            line = typed.lstrip("\0").replace("\0", " ")
            known = any(line == ask or line.startswith(f"{ask} ") for ask in allowed)
            assert not line or known or line in LEAVES, (name, line)


def result_devices(folder):
    lines = (folder / "standins.jsonl").read_text().splitlines()
    return [json.loads(line)["device"] for line in lines]


def test_a_replay_makes_the_same_snapshot_from_the_evidence(surveyed):
    folder, _, _ = surveyed
    done = subprocess.run(
        [sys.executable, "-m", "ovek", "survey", "--replay", "--site", str(folder)],
        capture_output=True,
        check=False,
    )
    assert done.returncode == 3
    original, replayed = sorted((folder / "snapshots").glob("*.jsonl"))
    if "replayed" in original.name:
        original, replayed = replayed, original
    assert replayed.read_bytes() == original.read_bytes()


def test_the_evidence_is_kept_raw_with_its_sha256_in_the_snapshot(surveyed):
    folder, _, _ = surveyed
    snapshot = min((folder / "snapshots").glob("*Z.jsonl"))
    found = {d["device"]: d for d in map(json.loads, snapshot.read_text().splitlines())}
    told = found["arle-wifi"]["source"]["evidence"]
    file = folder / "snapshots" / snapshot.name.replace(".jsonl", ".evidence") / "arle-wifi.json.gz"
    answers = read_evidence(file)["answers"]
    sums = [hashlib.sha256(one["text"].encode()).hexdigest() for one in answers]
    assert [one["sha256"] for one in told] == sums
    assert "harbour" not in json.dumps(answers)
    assert b"harbour" not in snapshot.read_bytes()


def test_a_log_tells_what_was_done_and_no_secret_and_changes_no_output(ovek):
    site_of(ovek, standin(switch("sw1")), standin(switch("sw2"), fault="refuse"))
    with served(ovek.folder):
        done = ovek("survey", "--log", "log.txt", "-vv", exits=None)
    log = (ovek.folder / "log.txt").read_text()
    assert "ovek.sources.survey: sw1: read" in log
    assert "ovek.sources.device_session: sw1: " in log
    assert "ovek.files.atomic" in log
    assert "sw1: reading by ssh, try 1" in done.stderr
    assert "harbour" not in log + done.stderr
    assert ovek("where", "1.0", exits=None).stdout == ovek("where", "1.0", "-vv", exits=None).stdout
    assert "cannot be written" in ovek.refuses("where", "1.0", "--log", "no/such/log.txt")


def asked(record: Path) -> str:
    text = "".join(json.loads(line)["received"] for line in record.read_text().splitlines())
    record.write_text("")
    return text


def test_a_digest_that_is_known_from_before_is_not_asked_again_unless_fresh(ovek):
    site_of(ovek, standin(switch()))
    record = ovek.folder / "record.jsonl"
    with served(ovek.folder, record):
        ovek("survey")
        assert "digest md5 1 flash sw-1.0.img" in asked(record)
        first = newest(ovek)[1]["sw"]
        time.sleep(1.1)
        ovek("survey", "--no-evidence")
        assert "digest" not in asked(record)
        file, again = newest(ovek)
        assert again["sw"]["members"] == first["members"]
        assert not file.with_name(file.name.replace(".jsonl", ".evidence")).exists()
        time.sleep(1.1)
        ovek("survey", "--fresh")
        assert "digest md5" in asked(record)


def test_a_file_that_changed_is_digested_again(ovek):
    site_of(ovek, standin(switch()))
    with served(ovek.folder):
        ovek("survey")
    changed = standin(switch())
    changed["device"]["members"][0]["volumes"][0]["files"][0].update(
        modified="2026-02-02T00:00:00Z", digests={"md5": "0" * 32}
    )
    ovek.write("standins.jsonl", json.dumps(changed))
    time.sleep(1.1)
    with served(ovek.folder):
        ovek("survey")
    file = newest(ovek)[1]["sw"]["members"][0]["volumes"][0]["files"][0]
    assert file["digests"] == {"md5": "0" * 32}


def test_an_unknown_host_key_is_refused_unless_taken_by_an_explicit_option(ovek):
    site_of(ovek, standin(switch()))
    with served(ovek.folder):
        hosts = ovek.folder / "known_hosts"
        served_keys = hosts.read_text()
        hosts.unlink()
        problem = ovek.json("survey", exits=3)["devices"][0]
        assert "unknown host key" in problem["problem"]
        assert "--take-new-keys" in problem["do"]
        assert not hosts.exists()
        ovek("survey", "--take-new-keys")
        assert hosts.read_text().split()[:2] == served_keys.split()[:2]


def test_a_changed_host_key_is_always_refused(ovek):
    site_of(ovek, standin(switch(), fault="changed-key"))
    with served(ovek.folder):
        for more in ([], ["--take-new-keys"]):
            problem = ovek.json("survey", *more, exits=3)["devices"][0]
            assert "has changed" in problem["problem"]


def test_a_wrong_password_is_told_and_never_shown(ovek, monkeypatch):
    monkeypatch.setenv("OVEK_PASSWORD", "s3cret-word")
    site_of(ovek, standin(switch()))
    with served(ovek.folder):
        done = ovek("survey", "-v", exits=3)
    assert "rejected user 'reader'" in done.stdout
    assert "s3cret-word" not in done.stdout + done.stderr
    assert not list((ovek.folder / "snapshots").glob("2*.jsonl"))


def test_a_device_that_nobody_can_read_leaves_no_snapshot_behind(ovek):
    site_of(ovek, standin(switch(), fault="closed"))
    with served(ovek.folder):
        done = ovek("survey", "--tries", "1", exits=3)
    assert "1 device: 0 read, 1 not read (sw)." in done.stdout
    left = [file.name for file in (ovek.folder / "snapshots").glob("[!.]*")]
    assert [name.partition(".")[2] for name in left] == ["survey.json"]


def test_an_unknown_device_and_a_fleet_without_ways_are_told(ovek):
    assert "Did you mean 'sw'?" in ovek.refuses("survey", "sw1")
    result = ovek.json("survey", exits=3)["devices"][0]
    assert "no access method" in result["problem"]


def test_ctrl_c_keeps_what_is_finished_and_resume_takes_the_rest(ovek):
    quick = [standin(switch(f"quick{at}")) for at in range(4)]
    slow = standin(switch("slow"), fault="hang")
    site_of(ovek, *quick, slow)
    with served(ovek.folder):
        command = [sys.executable, "-m", "ovek", "survey"]
        # Whoever starts the tests in the background has this signal ignored; a terminal has not.
        heed = lambda: signal.signal(signal.SIGINT, signal.default_int_handler)  # noqa: E731
        with subprocess.Popen(
            command, cwd=ovek.folder, stderr=subprocess.PIPE, preexec_fn=heed
        ) as process:
            for _ in range(300):
                left = list((ovek.folder / "snapshots").glob("*.unfinished"))
                if left and len(left[0].read_bytes().splitlines()) == 4:
                    break
                time.sleep(0.1)
            process.send_signal(signal.SIGINT)
            told = process.stderr.read().decode()
        assert process.returncode == 3
        assert "4 devices read, 1 left" in told
        assert "Traceback" not in told
    site_of_slow = standin(switch("slow"))
    ovek.write("standins.jsonl", "".join(json.dumps(s) + "\n" for s in [*quick, site_of_slow]))
    with served(ovek.folder):
        result = ovek.json("survey", "--resume")
    assert list(by_name(result)) == ["slow"]
    file, devices = newest(ovek)
    assert list(devices) == ["quick0", "quick1", "quick2", "quick3", "slow"]
    assert not list(file.parent.glob("*.unfinished"))


FAULTS = {
    "closed": ("not read", "connection refused"),
    "hang-login": ("not read", "no prompt"),
    "refuse": ("not read", "rejected user 'reader'"),
    "second-factor": ("not read", "second authentication factor"),
    "changed-key": ("not read", "has changed"),
    "drop": ("partly read", "closed the connection"),
    "hang": ("partly read", "no answer to"),
    "garbage": ("partly read", ""),
    "flood": ("partly read", "longer than"),
    "escapes": ("partly read", "longer than"),
}


def test_a_third_of_a_fleet_misbehaves_and_all_others_are_read_right(ovek):
    names, states = list(FAULTS), []
    for at in range(60):
        fault = names[at // 3 % len(names)] if at % 3 == 0 else None
        states.append(standin(switch(f"sw{at:03}"), **({"fault": fault} if fault else {})))
    site_of(ovek, *states)
    with served(ovek.folder):
        result = ovek.json(
            *["survey", "--at-once", "40", "--tries", "1", "--no-evidence"],
            *["--login-limit", "25", "--answer-limit", "25"],
            exits=3,
        )
    _, kept = newest(ovek)
    told = by_name(result)
    for state in states:
        name, fault = state["device"]["device"], state.get("fault")
        one = told[name]
        if fault is None:
            assert one["result"] == "read", one
            wanted = json.loads(json.dumps(state["device"]["members"]).replace("+00:00", "Z"))
            digest_at(kept[name], kept[name]["taken_at"])
            got = kept[name]["members"]
            assert got[0]["volumes"] == wanted[0]["volumes"]
            assert got[0]["boot"]["order"]["saved"][0]["place"] == "flash:sw-1.0.img"
        else:
            result_, why = FAULTS[fault]
            assert one["result"] == result_, (fault, one)
            assert why in (one["problem"] or ""), (fault, one)
            assert (name in kept) == (result_ == "partly read")
            assert one["do"] or one["missing"], one


BAD_STATES = {
    "x": "not JSON",
    '{"format": "ovek.standin/2"}': "ovek.standin/2",
    '{"format": "ovek.standin/1", "language": "latin"}': "'latin'",
}


@pytest.mark.parametrize("text", BAD_STATES)
def test_a_bad_state_file_is_told(ovek, text):
    ovek.write("standins.jsonl", text)
    message = ovek.refuses("standin", "serve")
    assert "standins.jsonl, line 1" in message
    assert BAD_STATES[text] in message


SFTP_SHEET = """
format = "ovek.sheet/1"
name = "stick-holder"
title = "A device whose stick is listed over SFTP"
vendor = "Nobody"
models = ["*"]
[boot]
layout = "files"
fallback = "none"
on_bad_image = "next"
[images]
names = ['sw-(?P<version>[0-9.]+)\\\\.img']
[[reading.sftp]]
volume = "stick"
path = "/"
"""


def test_a_stand_in_serves_a_folder_over_sftp_and_files_are_read_through(ovek):
    site_of(ovek, standin(switch(), sftp="stick"))
    ovek.write("sheets/stick-holder.toml", SFTP_SHEET)
    ovek.write("stick/sw-1.0.img", "what is on the stick")
    fleet = ovek.folder / "fleet.toml"
    fleet.write_text(fleet.read_text().replace('"oxwick-40"', '"stick-holder"\naccess = ["sftp"]'))
    fleet.write_text(fleet.read_text() + 'host = "127.0.0.1"\n')
    with served(ovek.folder):
        ovek("survey", exits=3)
    volume = newest(ovek)[1]["sw"]["members"][0]["volumes"][0]
    assert [one["path"] for one in volume["files"]] == ["sw-1.0.img"]
    made = hashlib.sha512(b"what is on the stick").hexdigest()
    assert volume["files"][0]["digests"] == {"sha512": made}
    assert volume["capacity"] > volume["free"] > 0


def test_a_survey_that_ended_is_not_taken_up_and_never_mended(ovek):
    site_of(ovek, standin(switch("one")), standin(switch("two"), fault="closed"))
    with served(ovek.folder):
        ovek("survey", "--tries", "1", exits=3)
        kept = newest(ovek)[0].read_bytes()
        message = ovek.refuses("survey", "--resume")
    assert "nothing to resume: no interrupted survey" in message
    assert "ovek survey." in message
    assert newest(ovek)[0].read_bytes() == kept


def test_a_sheet_that_is_not_there_costs_its_own_devices_and_is_told_with_its_line(ovek):
    ovek.write("s.txt", "box> x\n")
    ovek.write("list.csv", "name,sheet,access,capture\none,nobody-1,capture,s.txt\n")
    ovek.write("fleet.toml", 'lists = ["list.csv"]\nname = "T"\n'
               '[[device]]\nname = "sw"\nsheet = "switch"\n'
               '[[device]]\nname = "two"\nsheet = "swich"\n')  # fmt: skip
    done = ovek("survey", exits=3)
    assert "list.csv, line 2: device 'one' uses sheet 'nobody-1'" in done.stderr
    assert "ovek sheet learn nobody-1 SESSION" in done.stderr
    assert "fleet.toml, line 8" in done.stderr
    assert "Did you mean 'switch'?" in done.stderr
    assert done.stdout.startswith("3 devices: 0 read")
    # Each says of its own sheet, there and in what the audit says later.
    why = {one["device"]: one["why"] for one in ovek.json("audit", exits=3)["not_read"]}
    assert why["one"] == "sheet 'nobody-1' does not exist"
    assert why["two"] == "sheet 'swich' does not exist"
    ovek.write("fleet.toml", 'name = "T"\n[[device]]\nname = "two"\nsheet = "swich"\n')
    assert "sheet 'swich', which does not exist" in ovek.refuses("survey")


def test_a_survey_that_was_refused_before_it_began_leaves_nothing_to_resume(ovek):
    ovek.write("known_hosts", "\x00nonsense\n")
    ovek("survey", exits=None)
    (ovek.folder / "known_hosts").unlink()
    told = ovek("survey", "--ask-password", exits=2).stderr
    assert "cannot ask for the password: no terminal" in told and "Warning" not in told
    assert not list((ovek.folder / "snapshots").glob("*.unfinished"))
    assert "nothing to resume: no interrupted survey" in ovek.refuses("survey", "--resume")

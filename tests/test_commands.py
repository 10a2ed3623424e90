"""What users type, run as the built program on files in a temporary folder."""

import os
import pty
import subprocess
import sys

import pytest

from builders import MIB, ONE, TWO, device, flash, image, member, plain


def stranded(name="lost"):
    return device(member(boots=(ONE,)), device=name, place=ONE)


def full(name="full", *files):
    """A device with 1 MiB free, a leftover of 30 MiB and an old image."""
    volume = flash(image("1.0"), image("2.0"), plain("a.partial", 30 * MIB), free=MIB)
    return device(member(volumes=(volume,), boots=(ONE,)), device=name, place=ONE)


def test_the_first_line_of_an_audit_is_the_answer(ovek):
    assert ovek("audit").stdout.splitlines()[0] == "sw: go."
    ovek.snapshot(stranded(), full())
    first = ovek("audit", exits=1).stdout.splitlines()[0]
    assert first == "2 devices, as of 2026-03-02 21:14 UTC: 1 go, 1 no-go, 0 unclear."


def test_an_audit_ends_with_one_where_a_finding_reaches_the_threshold(ovek):
    ovek.snapshot(full())
    ovek("audit", exits=0)
    ovek("audit", "--fail-on", "warning", exits=1)
    ovek.snapshot(stranded())
    ovek("audit", exits=1)
    ovek("audit", "--fail-on", "never", exits=0)


def test_the_audit_as_json_has_stable_sorted_keys(ovek):
    ovek.snapshot(stranded(), full())
    audit = ovek.json("audit", exits=1)
    assert list(audit) == [
        "as_of",
        "devices",
        "format",
        "knowing",
        "not_read",
        "only",
        "selected",
        "site",
        "snapshots",
        "summary",
        "unused_waivers",
    ]
    assert audit["format"] == "ovek.audit/1"
    assert audit["not_read"] == []
    assert audit["summary"]["devices"] == 2
    lost = audit["devices"][0]
    assert lost["next_boot"] == "stranded"
    finding = lost["findings"][0]
    assert set(finding) == {
        "rule", "severity", "place", "seen", "fixed_after", "words", "waived", "advisory", "affects"
    }  # fmt: skip
    images = audit["devices"][1]["images"]
    assert images[0] == {
        "by": "md5",
        "digest_at": None,
        "needed": True,
        "place": ONE,
        "release": "sw-1.0.img",
        "verdict": "proven",
    }


def test_every_line_fits_a_hundred_columns(ovek):
    names = [f"a-very-long-device-name-that-somebody-chose-{at}-in-anger" for at in range(3)]
    ovek.snapshot(*(full(name) for name in names), stranded("b" * 90))
    for typed in (["audit"], ["bootwalk"], ["cleanup", "--free", "40MiB"]):
        for line in ovek(*typed, exits=None).stdout.splitlines():
            assert len(line) <= 100 or " " not in line.strip(), line


def test_a_boot_walk_names_every_candidate_and_why(ovek):
    ovek.snapshot(device(member(image("1.0"), boots=(TWO, ONE)), device="sw"))
    shown = ovek("bootwalk", "sw", exits=1).stdout
    assert "1. order: flash:sw-2.0.img is missing" in shown
    assert "2. order: flash:sw-1.0.img boots, proven" in shown
    assert ovek("bootwalk", "sw", "--fail-on", "never").returncode == 0
    walk = ovek.json("bootwalk", "sw", exits=1)["devices"][0]
    assert walk["next_boot"] == "proven"
    assert walk["members"][0]["from"] == "saved"
    assert [each["result"] for each in walk["members"][0]["tried"]] == ["missing", "proven"]


def test_a_boot_walk_ends_with_one_where_a_device_is_stranded(ovek):
    ovek.snapshot(stranded(), full())
    ovek("bootwalk", exits=1)
    ovek("bootwalk", "full", exits=0)


def test_a_cleanup_plan_in_bytes(ovek):
    ovek.snapshot(full())
    plan = ovek.json("cleanup", "full", "--free", "20MiB")["plans"][0]
    assert plan["wanted"] == 20 * MIB
    assert plan["free_after"] == 31 * MIB
    assert [drop["place"] for drop in plan["drop"]] == ["flash:a.partial"]
    assert {"place": ONE, "role": "system-image"}.items() <= plan["keep"][0].items()


def test_a_cleanup_that_is_not_enough_ends_with_one(ovek):
    ovek.snapshot(full())
    shown = ovek("cleanup", "--free", "5GiB", exits=1).stdout
    assert "not enough space: still 5089 MiB missing" in shown
    assert "tier 5" in shown


def test_room_for_an_image_names_what_it_is_made_of(ovek):
    ovek.snapshot(full())
    shown = ovek("cleanup", "--room-for", "sw-3.0.img", exits=1).stdout
    assert "needs:  100 MiB for the image, 500 MiB for the reserve" in shown


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        (["cleanup"], "exactly one of: --free SIZE, --room-for IMAGE, --sweep TIER"),
        (["cleanup", "--free", "1MiB", "--room-for", "x"], "one of: --free"),
        (["cleanup", "--free", "lots"], "or a percentage such as 20%"),
        (["cleanup", "--free", "120%"], "at most 100%"),
        (["cleanup", "--free=-5%"], "not a valid size"),
        (["cleanup", "--sweep", "9"], "9 is not in the range"),
        (["cleanup", "--sweep", "6"], "--may-drop fallback"),
        (["cleanup", "--sweep", "6", "--may-drop", "fallback"], "--may-drop running"),
        (["cleanup", "--free", "1MiB", "--figure", "a.gif"], ".png or .svg"),
        (
            ["cleanup", "--free", "1MiB", "--whole-fleet", "--confirm", "x"],
            "and --confirm cannot be combined",
        ),
        (["cleanup", "--free", "-5"], "not a valid size"),
        (["audit", "--format", "xml"], "'xml'"),
        (["audit", "--fail-on", "sometimes"], "'sometimes'"),
        (["nonsense"], "nonsense"),
    ],
)
def test_wrong_usage_ends_with_two(ovek, typed, told):
    assert told in ovek(*typed, exits=2).stderr


def test_an_unknown_device_is_told_with_the_nearest_name(ovek):
    assert "Did you mean 'sw'?" in ovek.refuses("bootwalk", "sw1")
    assert "no device" in ovek.refuses("cleanup", "zzz", "--free", "1MiB")


def test_an_unknown_image_is_told_with_the_nearest_name(ovek):
    assert "sw-3.0.img" in ovek.refuses("cleanup", "--room-for", "sw-3.o.img")


def test_an_image_without_a_published_size_is_told(ovek):
    ovek.write("catalog/more.md5", f"{'a' * 32}  sw-8.0.img\n")
    assert "more.md5:1" in ovek.refuses("cleanup", "--room-for", "sw-8.0.img")


def test_an_image_for_other_hardware_is_told(ovek):
    ovek.write(
        "catalog/rt.json",
        '{"format":"ovek.catalog/1","releases":[{"file":"rt.img","size":1,"hardware":["RT*"]}]}',
    )
    assert "RT*" in ovek.refuses("cleanup", "sw", "--room-for", "rt.img")
    assert "has no device" in ovek.refuses("cleanup", "--room-for", "rt.img")


def test_what_a_device_says_is_never_sent_to_the_terminal(ovek):
    evil = "\x1b]0;owned\x07\u202egmi"
    ovek.snapshot(
        device(
            member(image("1.0"), plain(f"{evil}.partial"), boots=(f"flash:{evil}", ONE)),
            device=f"sw{evil}",
            running=evil,
        )
    )
    for typed in (["audit"], ["bootwalk"], ["cleanup", "--free", "501MiB", "-v"]):
        shown = ovek(*typed, exits=None).stdout
        assert not {"\x1b", "\x07", "\u202e"} & set(shown)
        assert "\\x1b]0;owned\\x07\\u202egmi" in shown
    assert "\\x1b" in ovek.refuses("bootwalk", evil)


def test_json_is_one_object_whatever_a_name_holds(ovek):
    ovek.snapshot(
        device(member(image("1.0"), boots=(ONE,)), device='quote"\n\u2028', running="\x00")
    )
    assert ovek.json("audit")["devices"][0]["device"] == 'quote"\n\u2028'


def test_help_names_every_command_and_starts_without_a_site(ovek):
    shown = ovek("--help").stdout
    for name in ("demo", "audit", "bootwalk", "cleanup"):
        assert name in shown
        assert "Usage" in ovek(name, "--help").stdout
    assert ovek("--version").stdout.startswith("ovek ")


def test_a_reader_that_goes_away_is_no_error(ovek):
    ovek.snapshot(*(full(f"sw{at}") for at in range(500)))
    command = f"{sys.executable} -m ovek audit | head -n 1"
    done = subprocess.run(
        command, shell=True, cwd=ovek.folder, capture_output=True, encoding="utf-8", check=False
    )
    assert done.stderr == ""
    assert "500 go" in done.stdout


@pytest.mark.parametrize(("typed", "code"), [("audit", 1), ("bootwalk", 1), ("--help", 0)])
def test_a_reader_that_goes_away_changes_no_exit_code(ovek, typed, code):
    ovek.snapshot(*(stranded(f"sw{at}") for at in range(500)))
    command = f"{sys.executable} -m ovek {typed} | head -n 1; echo ${{PIPESTATUS[0]}}"
    done = subprocess.run(
        ["bash", "-c", command], cwd=ovek.folder, capture_output=True, encoding="utf-8", check=False
    )
    assert done.stdout.splitlines()[-1] == str(code)
    assert done.stderr == ""


def test_a_terminal_that_knows_no_utf8_gets_escapes(ovek):
    done = subprocess.run(
        [sys.executable, "-m", "ovek", "bootwalk"],
        cwd=ovek.folder,
        capture_output=True,
        env={**os.environ, "PYTHONIOENCODING": "ascii"},
        check=False,
    )
    assert done.returncode == 0
    assert b"Traceback" not in done.stderr


def test_colour_is_for_terminals_only(ovek):
    ovek.snapshot(stranded())
    plain_text = ovek("audit", exits=1).stdout
    assert "\x1b[" not in plain_text
    reader, writer = pty.openpty()
    command = [sys.executable, "-m", "ovek", "audit"]
    environment = {**os.environ, "TERM": "xterm-256color"}
    environment.pop("NO_COLOR", None)
    with subprocess.Popen(command, cwd=ovek.folder, stdout=writer, env=environment) as process:
        process.wait()
    os.close(writer)
    shown = os.read(reader, 65536).decode()
    os.close(reader)
    assert "\x1b[" in shown
    assert "stranded" in shown

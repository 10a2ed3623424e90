"""Digests that are carried over, and sessions that were saved: what is fresh counts."""

import json
from datetime import UTC, datetime, timedelta

import msgspec
import pytest

from builders.session import SESSION
from ovek.files.snapshot import read_snapshot, write_snapshot
from ovek.model.digest import Digests
from ovek.model.snapshot import Device

RIGHT, ROTTEN = "a" * 64, "b" * 64
CATALOG = {
    "format": "ovek.catalog/1",
    "releases": [
        {"file": "image-3.1.img", "size": 102400, "digests": {"sha256": RIGHT}, "version": "3.1"}
    ],
}


@pytest.fixture
def box(ovek):
    """A site with one device that is read from a saved session."""
    ovek("sheet", "new", "box")
    ovek.write("captures/one.txt", SESSION)
    ovek.write("catalog/box.json", json.dumps(CATALOG))
    ovek.write(
        "fleet.toml",
        'name = "Test"\n[[device]]\nname = "box"\nsheet = "box"\naccess = ["capture"]\n'
        'capture = ["captures/*.txt"]\n',
    )
    (ovek.folder / "snapshots/now.jsonl").unlink()
    ovek("survey")
    return ovek


def newest(ovek) -> Device:
    file = max((ovek.folder / "snapshots").glob("2*.jsonl"), key=lambda one: one.stat().st_mtime_ns)
    return next(read_snapshot(file))


def image_of(one: Device):
    return one.members[0].volumes[0].files[0]


def aged(ovek, days: float, digest: str = RIGHT) -> None:
    """Make the digest of the only snapshot older, and the snapshot itself a little."""
    (file,) = (ovek.folder / "snapshots").glob("2*.jsonl")
    one = newest(ovek)
    now = datetime.now(UTC).replace(microsecond=0)
    files = one.members[0].volumes[0].files
    old = msgspec.structs.replace(
        files[0], digests=Digests(sha256=digest), digests_at=now - timedelta(days=days)
    )
    volume = msgspec.structs.replace(one.members[0].volumes[0], files=(old, *files[1:]))
    member = msgspec.structs.replace(one.members[0], volumes=(volume,))
    taken = now - timedelta(minutes=1)
    write_snapshot(file, [msgspec.structs.replace(one, members=(member,), taken_at=taken)])


def test_of_a_saved_session_the_fresh_digest_counts_and_not_the_carried_one(box):
    aged(box, 2)
    box.write("captures/one.txt", SESSION.replace(RIGHT, ROTTEN))
    box("survey")
    assert image_of(newest(box)).digests.sha256 == ROTTEN
    assert box.json("bootwalk", "box", exits=1)["devices"][0]["next_boot"] == "stranded"


def without_digest(box):
    box.write("captures/one.txt", SESSION.replace(f"sha256 {RIGHT}\n", "error: busy\n"))


@pytest.mark.parametrize(("days", "carried"), [(6, True), (8, False)])
def test_a_digest_of_what_starts_is_carried_a_week(box, days, carried):
    aged(box, days)
    without_digest(box)
    box("survey", exits=None)
    file = image_of(newest(box))
    assert (file.digests is not None) is carried
    if carried:
        assert (datetime.now(UTC) - file.digests_at).days == days
        shown = box("audit").stdout
        assert f"Oldest digest relied on: {days} days (box flash:image-3.1.img)" in shown
        assert f"digest from {days} days ago" in box("custody", "-v").stdout


def test_a_digest_of_what_nothing_names_is_carried_a_month_or_as_policy_says(box):
    spare = SESSION.replace("boot flash:image-3.1.img", "boot flash:other.img")
    for days, policy, carried in (
        (20, "", True),
        (31, "", False),
        (31, 'digest_age = "40d"', True),
        (9, 'digest_age = "8d"', False),
    ):
        for file in (box.folder / "snapshots").glob("*"):
            if file.is_file():
                file.unlink()
        box.write("captures/one.txt", spare)
        box.write("policy.toml", f"keep = 2\n{policy}")
        box("survey", exits=None)
        aged(box, days)
        box.write("captures/one.txt", spare.replace(f"sha256 {RIGHT}\n", "error: busy\n"))
        box("survey", exits=None)
        assert (image_of(newest(box)).digests is not None) is carried, (days, policy)


def test_what_is_carried_is_the_same_when_it_is_made_anew_from_the_evidence(box):
    aged(box, 3)
    without_digest(box)
    box("survey", exits=None)
    before = newest(box)
    box("survey", "--replay", exits=None)
    assert newest(box).members == before.members
    assert image_of(before).digests_at < before.taken_at


def test_a_file_of_another_time_or_size_carries_nothing(box):
    for old, new in (("2026-01-02 03:04 image", "2026-01-03 03:04 image"), ("  100 ", "  101 ")):
        aged(box, 1)
        text = SESSION.replace(f"sha256 {RIGHT}\n", "error: busy\n")
        box.write("captures/one.txt", text.replace(old, new, 1))
        box("survey", exits=None)
        assert image_of(newest(box)).digests is None
        for file in sorted((box.folder / "snapshots").glob("2*.jsonl"))[1:]:
            file.unlink()


def test_an_impossible_value_of_a_session_is_shown_with_its_line(box):
    box.write("captures/one.txt", SESSION.replace("flash 1000 400", "flash 1000 4000"))
    shown = box("survey", exits=3).stdout
    assert "lost: flash: 4096000 bytes free of 1024000 is impossible" in " ".join(shown.split())
    told = box.json("sheet", "try", "box", "captures/one.txt", exits=1)
    assert "4096000 bytes free of 1024000" in told["lost"][0]
    assert newest(box).members[0].volumes[0].free is None
    box.write("captures/one.txt", SESSION.replace(RIGHT, RIGHT[:30] + " oops"))
    shown = box("sheet", "try", "box", "captures/one.txt", exits=1).stdout
    assert "fact" in shown.splitlines()[0]


BOOT_LOADER = """\
anchorage: name the board
OX40-8P, revision B2, serial SKF0000001
anchorage: name the stores
flash is fat32, 100 MiB of 122 MiB free
anchorage: name what is on flash
  102400 KiB  sw-1.0.img
  102400 KiB  a-name-that-is-longer-than-31-c
that is all
anchorage: name what starts
first by list, then what is seen first
1    flash:sw-2.0.img
2    flash:sw-1.0.img
anchorage:
"""


@pytest.fixture
def stuck(ovek):
    ovek.write("captures/stuck.txt", BOOT_LOADER)
    ovek.write(
        "fleet.toml",
        'name = "Test"\n[[device]]\nname = "sw"\nsheet = "oxwick-40"\naccess = ["capture"]\n'
        'capture = ["captures/*.txt"]\n',
    )
    (ovek.folder / "snapshots/now.jsonl").unlink()
    return ovek


def test_a_device_stuck_at_its_boot_loader_is_read_from_a_saved_session(stuck):
    assert stuck.json("survey")["devices"][0]["result"] == "read"
    one = newest(stuck)
    assert (one.at, one.running.version, one.hardware.serial) == ("boot-loader", None, "SKF0000001")
    files = one.members[0].volumes[0].files
    assert [(file.path, file.size_step, file.path_cut) for file in files] == [
        ("sw-1.0.img", 1024, False),
        ("a-name-that-is-longer-than-31-c", 1024, True),
    ]
    walk = stuck.json("bootwalk", exits=None)["devices"][0]["members"][0]
    assert [each["result"] for each in walk["tried"]] == ["missing", "unverified"]
    found = stuck.json("audit", exits=1)["devices"][0]["findings"]
    assert found[0]["rule"] == "at-boot-loader"
    assert found[0]["words"].startswith("Boot it: the next boot is 1.0 from flash:sw-1.0.img")
    assert not any("running version" in each["seen"] for each in found)
    stuck("survey", "--replay")
    assert newest(stuck).at == "boot-loader"


def test_a_session_that_came_back_from_the_boot_loader_is_one_of_a_running_device(stuck):
    running = "sw> tell system\nModel        OX40-8P\nRunning      7.4.2\nsw> goodbye\n"
    stuck.write("captures/stuck.txt", BOOT_LOADER + running)
    stuck("survey", exits=3)
    assert (newest(stuck).at, newest(stuck).running.version) == (None, "7.4.2")
    stuck.write("captures/stuck.txt", running + BOOT_LOADER)
    stuck("survey", exits=None)
    assert newest(stuck).at == "boot-loader"


def test_a_sheet_is_tried_on_a_session_at_the_boot_loader(stuck):
    told = stuck.json("sheet", "try", "oxwick-40", "captures/stuck.txt", exits=None)
    assert {one["name"]: one["answered"] for one in told["questions"]} == dict.fromkeys(
        ("loader board", "loader stores", "loader files", "loader start", "loader way"), True
    )
    assert told["lost"] == []

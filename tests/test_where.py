"""`ovek where`: who holds this?"""

import csv
import hashlib
import io

import pytest

from builders import (
    ONE,
    TWO,
    bank,
    device,
    digest,
    image,
    judged,
    member,
    plain,
    published,
    release,
    sheet,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.where import Sought, on_device
from ovek.model.digest import Digests


def places(what, text, kind=None):
    found = judged(what, kind)
    return [one.place for one in on_device(found, walk_device(found), Sought(text))]


RENAMED = image("2.0", path="old/mine.bin")
SWITCH = device(member(image("1.0"), RENAMED, plain("notes.txt", digests=Digests(md5=digest("n"))),
                       boots=(ONE,)), place=ONE)  # fmt: skip


@pytest.mark.parametrize(("text", "found"), [
    ("sw-1.0.img", [ONE]), ("SW-1.0.IMG", [ONE]), ("sw-2.0.img", ["flash:old/mine.bin"]),
    ("mine.bin", ["flash:old/mine.bin"]), ("2.0", ["flash:old/mine.bin"]), ("sw-*", [ONE,
    "flash:old/mine.bin"]), (digest("n")[:8], ["flash:notes.txt"]), (digest("n")[:5], []),
    (digest("sw-1.0.img").upper(), [ONE]), ("9.9", []),
])  # fmt: skip
def test_a_name_a_version_a_digest_and_a_glob_find_what_they_mean(text, found):
    assert places(SWITCH, text) == found


def test_a_version_finds_members_that_run_it_from_memory_only():
    gone = device(member(image("2.0"), boots=(TWO,)), place=ONE)
    assert places(gone, "1.0") == ["in memory, not at flash:sw-1.0.img"]
    found = judged(gone)
    (one,) = on_device(found, walk_device(found), Sought("1.0"))
    assert (one.running, one.verdict) == (True, None)
    assert places(device(member(image("1.0"), boots=(ONE,)), place=ONE), "1.0") == [ONE]


def test_a_member_is_found_by_its_own_version():
    second = member(image("2.0"), boots=(TWO,), id="2", running_version="2.0")
    what = device(member(image("1.0"), boots=(ONE,), role="active"), second, place=ONE)
    assert places(what, "2.0") == ["2/" + TWO]


def test_bytes_are_found_by_each_name_that_sources_give_them():
    same = Digests(md5=digest("sw-1.0.img"))
    known = published(release("1.0"), release("1.0", file="other.img", digests=same))
    found = judged(device(member(image("1.0"), boots=(ONE,)), place=ONE), catalog=known)
    for text in ("sw-1.0.img", "other.img"):
        assert [one.place for one in on_device(found, walk_device(found), Sought(text))] == [ONE]


def test_what_bears_a_name_and_is_something_else_is_found_with_its_verdict():
    bad = judged(device(member(image("1.0", content="x"), boots=(ONE,)), place=ONE))
    (one,) = on_device(bad, walk_device(bad), Sought("sw-1.0.img"))
    assert (one.verdict, one.running, one.boots) == ("altered", True, False)


def test_a_bank_is_found_by_its_version_and_digest():
    kind = sheet("banks", fallback="other-bank")
    what = device(member(banks=(bank("a", "1.0"), bank("b", "2.0")), default="a"), in_bank="a")
    assert places(what, "2.0", kind) == ["bank:b"]
    assert places(what, digest("sw-1.0.img"), kind) == ["bank:a"]


def test_the_command_tells_devices_shelf_and_use(ovek, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(ovek.folder / "cache"))
    ovek.snapshot(
        device(member(image("1.0"), image("2.0"), boots=(TWO,)), place=ONE),
        device(member(image("2.0"), boots=(TWO,)), place=TWO, running="2.0", device="other"),
    )
    ovek.write("shelf/sw-2.0.img", b"not it")
    lines = ovek("where", "sw-2.0.img").stdout.splitlines()
    assert lines[0] == (
        "2 devices hold sw-2.0.img; 1 runs it, 2 boot it next; 1 copy on the shelf."
    )
    assert any(line.startswith("other") and "running, next boot" in line for line in lines)
    copies = ovek.json("where", "2.0")["copies"]
    assert [(one["device"], one["running"], one["boots"]) for one in copies] == [
        ("sw", False, True), ("other", True, True), (None, None, None),
    ]  # fmt: skip
    rows = list(csv.DictReader(io.StringIO(ovek("where", "2.0", "--format", "csv").stdout)))
    assert [row["boots"] for row in rows] == ["yes", "yes", ""]
    assert rows[2]["digest"] == hashlib.md5(b"not it").hexdigest() or rows[2]["digest"]
    assert ovek("where", "nothing.img", exits=1).stdout == "Not found: 'nothing.img'.\n"

"""The user's cache: what it holds is shown, and what is old, too much or of no site goes."""

import json
import os
import time
from datetime import timedelta

import pytest

from ovek.files import cache_content
from ovek.files.cache_content import cached, removable, tidy


@pytest.fixture
def folder(tmp_path_factory, monkeypatch):
    cache = tmp_path_factory.mktemp("cache")
    monkeypatch.setenv("XDG_CACHE_HOME", str(cache))
    return cache / "ovek"


def old(path, days: float) -> None:
    at = time.time() - 86_400 * days
    for each in (path, *(path.rglob("*") if path.is_dir() else ())):
        os.utime(each, (at, at))


def test_what_an_audit_keeps_is_shown_with_its_site(ovek, folder):
    assert ovek("cache").stdout.startswith("0 entries, 0 B in ")
    ovek("audit", exits=None)
    told = json.loads(ovek("cache", "--format", "json").stdout)
    (entry,) = [one for one in told["entries"] if one["kind"] == "audit results"]
    assert entry["site"] == str(ovek.folder.resolve()) and not entry["site_gone"]
    assert entry["size"] > 1000
    shown = "".join(ovek("cache").stdout.split())
    assert f"auditresultsof{ovek.folder.resolve()}" in shown


def test_clear_removes_everything_and_nothing_is_lost_by_it(ovek, folder):
    before = ovek("audit", exits=None).stdout
    (folder / "shelves/abc").mkdir(parents=True)
    (folder / "shelves/abc/half.img").write_bytes(b"x" * 5000)
    (folder / "shelf.json").write_text("{}")
    assert "unfinished downloads" in ovek("cache").stdout
    told = json.loads(ovek("cache", "--clear", "--format", "json").stdout)
    assert told["entries"] == [] and len(told["removed"]) == 3
    assert not list(folder.glob("*.db")) and not list((folder / "shelves").iterdir())
    assert ovek("audit", exits=None).stdout == before


def test_what_was_not_used_for_long_goes_and_then_what_was_used_first(folder):
    for name, size, days in (("a", 100, 50), ("b", 300, 20), ("c", 200, 1)):
        (folder / "shelves" / name).mkdir(parents=True)
        (folder / "shelves" / name / "x").write_bytes(b"x" * size)
        old(folder / "shelves" / name, days)
    names = lambda entries: [one.path[-1] for one in entries]  # noqa: E731
    assert names(cached()) == ["c", "b", "a"]
    assert names(removable(cached(), timedelta(days=30), 10_000)) == ["a"]
    assert names(removable(cached(), timedelta(days=90), 500)) == ["a"]
    assert names(removable(cached(), timedelta(days=90), 499)) == ["a", "b"]
    assert names(removable(cached(), timedelta(days=90), 600)) == []
    assert removable([], timedelta(0), 0) == []


def test_results_of_a_site_that_is_gone_go_and_those_of_one_that_is_there_stay(ovek, folder):
    ovek("audit", exits=None)
    assert removable(cached(), timedelta(days=90), 2**30) == []
    moved = ovek.folder.rename(ovek.folder.with_name("moved"))
    try:
        (entry,) = removable(cached(), timedelta(days=90), 2**30)
        assert entry.site_gone
    finally:
        moved.rename(ovek.folder)


def test_it_is_kept_small_by_itself_and_looked_at_once_a_day(folder, monkeypatch):
    (folder / "shelves/a").mkdir(parents=True)
    (folder / "shelves/a/x").write_bytes(b"x" * 1000)
    monkeypatch.setattr(cache_content, "MOST_BYTES", 100)
    tidy()
    assert not (folder / "shelves/a").exists()
    (folder / "shelves/a").mkdir(parents=True)
    (folder / "shelves/a/x").write_bytes(b"x" * 1000)
    tidy()
    assert (folder / "shelves/a").exists(), "it was looked at a moment ago"
    old(folder / ".tidied", 2)
    tidy()
    assert not (folder / "shelves/a").exists()


def test_an_age_of_nothing_is_an_age(ovek, folder):
    (folder / "shelves/a").mkdir(parents=True)
    (folder / "shelves/a/x").write_bytes(b"x")
    old(folder / "shelves/a", 0.01)
    assert len(ovek.json("cache", "--older", "0d")["removed"]) == 1


def test_nothing_outside_of_the_cache_is_removed(folder, tmp_path):
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "x").write_text("mine")
    (folder / "shelves").mkdir(parents=True)
    (folder / "shelves/link").symlink_to(outside)
    cache_content.remove(cached())
    assert (outside / "x").read_text() == "mine"


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        (("--older", "soon"), "soon"),
        (("--at-most", "much"), "much"),
        (("--clear", "--older", "3d"), "--clear removes everything"),
    ],
)
def test_bad_input_is_told(ovek, folder, typed, told):
    assert told in ovek("cache", *typed, exits=2).stderr

"""What is opened, and what is believed: files only, of the site only, and a cache of one's own."""

import ast
import json
import os
import shutil
import sqlite3
import zlib
from datetime import UTC, datetime
from pathlib import Path

import pytest

from ovek.files.history import FILE

SRC = Path(__file__).parent.parent / "src/ovek"
# All that opens a file by another way than `files.regular`, and why it may.
OTHERS = {
    "files/safe_open.py": "it is that way",
    "files/database.py": "SQLite opens what is regular and in the site, to read only",
    "files/cache_content.py": "the user's own cache, which `distrusted` has looked at",
    "files/cache.py": "SQLite opens what `distrusted` has looked at",
    "files/structure.py": "what is inside an archive that is open",
    "sources/shelf.py": "what is inside an archive that is open",
    "sources/stores/sftp.py": "a file of a server",
    "sources/sftp.py": "a file of a device",
    "sources/folder.py": "/proc/mounts",
    "sources/stores/fetching.py": "written, in the user's own cache",
    "render/report.py": "the package's own",
    "cli/completing.py": "the package's own",
    "app/sheets.py": "the package's own",
    "app/starting.py": "the package's own",
    "demo/__init__.py": "the package's own",
    "cli/__init__.py": "the null device",
    "cli/standin.py": "written, where a person names it",
}
OPENS = {"open", "read_bytes", "read_text", "ZipFile", "connect"}


def opening(file):
    """The names by which a module opens files."""
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Call):
            called = node.func
            name = called.attr if isinstance(called, ast.Attribute) else getattr(called, "id", "")
            # Ovek's own `read_bytes` takes the file as an argument; that of a path takes none.
            own = name in ("read_bytes", "read_text") and node.args
            if name in OPENS and not own:
                yield name


def test_nothing_is_opened_by_another_way():
    found = {
        str(file.relative_to(SRC))
        for file in SRC.rglob("*.py")
        if any(each != "connect" or "sqlite3" in file.read_text() for each in opening(file))
    }
    assert found == set(OTHERS)


# ---- pipes and devices ---------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["pipe", "device"])
def test_a_snapshot_that_is_none_is_told_by_the_history(ovek, kind, tmp_path):
    place = ovek.folder / "odd.jsonl"
    os.mkfifo(place) if kind == "pipe" else os.mknod(place, 0o20666, os.makedev(1, 5))
    assert f"is a {kind}" in ovek.refuses("history", "add", "odd.jsonl")


@pytest.mark.parametrize("name", ["snapshots/.newest.db", ".fleet.db"])
def test_a_pipe_where_ovek_keeps_something_is_not_waited_for(ovek, name):
    ovek("audit", exits=None)
    (ovek.folder / name).unlink(missing_ok=True)
    os.mkfifo(ovek.folder / name)
    assert "sw" in ovek("audit", exits=None).stdout


def test_a_pipe_where_the_history_is_is_told(ovek):
    os.mkfifo(ovek.folder / FILE)
    assert "is a pipe" in ovek.refuses("history", "trend")


# ---- links ---------------------------------------------------------------------------------------

INSIDE = ["catalog/list.json", "sheets/switch.toml", "fleet.toml", "snapshots/now.jsonl"]


@pytest.mark.parametrize("name", INSIDE)
def test_a_link_that_leaves_the_site_is_refused(ovek, tmp_path_factory, name):
    elsewhere = tmp_path_factory.mktemp("elsewhere") / "secret"
    file = ovek.folder / name
    shutil.move(file, elsewhere)
    file.symlink_to(elsewhere)
    told = ovek("audit", exits=None)
    assert "outside the site folder" in told.stderr + told.stdout
    added = ovek("history", "add", exits=None)
    assert "outside the site folder" in added.stderr + added.stdout
    history = ovek.folder / FILE
    assert not history.exists() or b"secret" not in history.read_bytes()


def test_a_shelf_that_is_a_link_out_of_the_site_is_refused_and_one_named_by_its_place_is_not(
    ovek, tmp_path_factory
):
    elsewhere = tmp_path_factory.mktemp("elsewhere")
    (elsewhere / "sw-1.0.img").write_bytes(b"x")
    (ovek.folder / "shelf").symlink_to(elsewhere)
    assert "outside the site folder" in ovek.refuses("audit")
    assert "outside the site folder" in ovek.refuses("shelf")
    (ovek.folder / "shelf").unlink()
    fleet = (ovek.folder / "fleet.toml").read_text()
    ovek.write("fleet.toml", f'{fleet}\n[[shelf]]\nname = "depot"\nat = "{elsewhere}"\n')
    assert ovek("audit", exits=None).stderr == ""
    assert len(ovek.json("shelf", exits=1)["files"]) == 1


@pytest.mark.parametrize("name", INSIDE)
def test_a_link_within_the_site_is_followed(ovek, name):
    file = ovek.folder / name
    real = ovek.folder / f"real{file.suffix}"
    shutil.move(file, real)
    file.symlink_to(os.path.relpath(real, file.parent))
    done = ovek("audit", exits=None)
    assert done.stderr == "" and "sw" in done.stdout


def test_a_site_that_is_reached_by_a_link_is_one(ovek, tmp_path_factory):
    link = tmp_path_factory.mktemp("elsewhere") / "site"
    link.symlink_to(ovek.folder)
    done = ovek("audit", "--site", str(link), exits=None)
    assert done.stderr == "" and "sw" in done.stdout


def test_nothing_is_written_through_a_link_that_leaves_the_site(ovek, tmp_path_factory):
    elsewhere = tmp_path_factory.mktemp("elsewhere") / "profile"
    elsewhere.write_text("mine")
    (ovek.folder / "baselines").mkdir()
    (ovek.folder / "baselines/night.jsonl").symlink_to(elsewhere)
    ovek("compare", "--baseline", "night", exits=2)
    assert elsewhere.read_text() == "mine"


# ---- the cache -----------------------------------------------------------------------------------


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return tmp_path / "cache/ovek"


def _open_to_all(cache, file):
    file.chmod(0o666)


def _folder_open(cache, file):
    cache.chmod(0o777)


def _a_link(cache, file):
    file.rename(cache.parent / "real")
    file.symlink_to(cache.parent / "real")


def _anothers(cache, file):
    if os.geteuid() != 0:
        pytest.skip("only root gives a file away")
    os.chown(file, 12345, 12345)


def _a_pipe(cache, file):
    file.unlink()
    os.mkfifo(file)


WRONG = {
    "can be written by others": [_open_to_all, _folder_open],
    "is a link": [_a_link],
    "belongs to another user": [_anothers],
    "is a pipe": [_a_pipe],
}
EACH = [(told, each) for told, those in WRONG.items() for each in those]


@pytest.mark.parametrize(("told", "spoil"), EACH)
def test_results_that_another_may_have_put_there_are_not_used(ovek, cache, told, spoil):
    good = ovek("audit", exits=None).stdout
    (file,) = cache.glob("*.db")
    spoil(cache, file)
    done = ovek("audit", exits=None)
    assert told in done.stderr and "chmod go-w" in done.stderr
    assert done.stdout == good


@pytest.mark.parametrize(("told", "spoil"), EACH)
def test_digests_that_another_may_have_put_there_are_not_used(ovek, cache, told, spoil):
    ovek.write("shelf/sw-1.0.img", os.urandom(300_000))
    before = ovek.json("shelf", exits=1)["files"][0]["digests"]
    kept = cache / "shelf.json"
    forged = json.loads(kept.read_bytes())
    for each in forged.values():
        each["file"]["digests"] = {name: "0" * len(d) for name, d in before.items()}
    kept.write_text(json.dumps(forged))
    spoil(cache, kept)
    done = ovek("shelf", "--format", "json", exits=1)
    assert told in done.stderr
    assert json.loads(done.stdout)["files"][0]["digests"] == before


def test_a_cache_of_one_s_own_is_used_without_a_word(ovek, cache):
    ovek.write("shelf/sw-1.0.img", os.urandom(300_000))
    for _ in range(2):
        assert ovek("shelf", exits=1).stderr == ""
        assert ovek("audit", exits=None).stderr == ""
    assert (cache.stat().st_mode & 0o077) == 0


# ---- the history ---------------------------------------------------------------------------------

EDITS = [
    "update text set value = '{}'",
    "update text set value = x'ff00'",
    "update span set kind = 99",
    "update span set kind = -1",
    "update span set first = 'x'",
    "update reading set taken_at = 99999999999999",
    "update about set value = 'x' where name = 'version'",
    "update known set sha256 = (select min(sha256) from content), at = 0",
    "drop table span",
    "update text set value = hex(randomblob(100000)) where id = (select min(id) from text)",
]


@pytest.mark.parametrize("edit", EDITS)
def test_a_history_that_was_edited_is_put_aside_or_serves(ovek, edit):
    ovek("history", "add")
    good = ovek("history", "device", "sw", "-v").stdout
    with sqlite3.connect(ovek.folder / FILE) as connection:
        connection.execute(edit)
    connection.close()
    aside = ovek.folder / f"{FILE}.broken"
    for typed in (["history", "device", "sw", "-v"], ["history", "trend"], ["history", "add"]):
        done = ovek(*typed)
        assert done.stderr == "" or ("renamed to" in done.stderr and aside.exists())
    assert not aside.exists() or ovek("history", "device", "sw", "-v").stdout == good


def test_what_was_known_and_is_packed_to_a_bomb_is_damage(ovek):
    ovek("history", "add")
    with sqlite3.connect(ovek.folder / FILE) as connection:
        connection.execute("update content set data = ?", (zlib.compress(b"\0" * 2**26),))
    connection.close()
    today = datetime.now(UTC).date().isoformat()
    done = ovek("audit", "--as-of", today, "--knowing", "then", exits=None)
    assert "renamed to" in done.stderr


def test_a_history_that_is_well_says_nothing(ovek):
    ovek("history", "add")
    assert ovek("history", "trend").stderr == ""
    assert not Path(ovek.folder / f"{FILE}.broken").exists()

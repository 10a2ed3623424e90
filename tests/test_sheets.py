"""Sheets: where they lie, all their mistakes at once, their fields, and their kept sessions."""

import json
import shutil
import sys

import pytest

from languages import marked, plain
from ovek.files.errors import InputError
from ovek.files.packages import Brought
from ovek.files.sheets import find_sheet, sheet_names
from ovek.files.whereabouts import line_of, lines_of
from ovek.model.fields import FIELDS, OF_THINGS
from ovek.model.sheet import SIZES, TIMES
from ovek.sources.mistakes import mistakes_in

GOOD = """format = "ovek.sheet/1"
name = "box"
title = "Boxes"
vendor = "Nobody"
models = ["*"]
[boot]
layout = "files"
fallback = "none"
on_bad_image = "next"
[[reading.question]]
name = "clock"
ask = "time"
fills = "device"
template = '''
Value CLOCK (.+)

Start
  ^${CLOCK}$$
'''
dates.clock = "%Y-%m-%d"
[[reading.question]]
name = "files"
ask = "dir {volume}"
each = "volume"
fills = "file"
template = '''
Value PATH (\\S+)
Value MODIFIED (.+)

Start
  ^${PATH} ${MODIFIED}$$ -> Record
'''
dates.modified = "%d %b"
"""


def told(ovek, text):
    """The messages of `sheet check`, one a mistake."""
    ovek.write("sheets/box.toml", text)
    done = ovek("sheet", "check", "box", exits=2)
    assert done.stdout == ""
    return done.stderr.strip().split("\n")


def line(text, part):
    return next(n for n, one in enumerate(text.split("\n"), 1) if part in one)


# -- mistakes


def test_a_right_sheet_is_right(ovek):
    ovek.write("sheets/box.toml", GOOD)
    assert "box: no mistakes (Boxes; layout files; 2 questions over" in ovek(
        "sheet", "check", "box"
    ).stdout  # fmt: skip


@pytest.mark.parametrize("name", sheet_names(__import__("pathlib").Path()))
def test_every_sheet_that_ships_is_right(name, tmp_path):
    _, wrong = mistakes_in(find_sheet(tmp_path, name))
    assert wrong == []


@pytest.mark.parametrize(
    ("old", "new", "where", "message"),
    [
        ('title = "Boxes"', 'titel = "Boxes"', "titel", "Did you mean 'title'?"),
        ('layout = "files"', 'layout = "file"', "layout", "Did you mean 'files'?"),
        ('fallback = "none"', 'fallback = "other-bank"', "[boot]", "needs the layout"),
        ('models = ["*"]', "models = 3", "models", "Expected a list"),
        ('fills = "file"', 'fills = "fille"', '"fille"', "Did you mean 'file'?"),
        ("Value PATH", "Value PAHT", "Value PAHT", "not TextFSM"),
        ("Value MODIFIED (.+)", "Value MODIFED (.+)", None, "not TextFSM"),
        ("^${PATH} ${MODIFIED}", "^(${PATH} ${MODIFIED}", None, "the template"),
        ('dates.modified = "%d %b"', 'dates.modifed = "%d"', "modifed", "did you mean 'modified'?"),
        ("dir {volume}", "dir", 'ask = "dir"', "does not name it"),
        ("dir {volume}", "dir {path}", "dir {path}", "it may use: member, volume"),
        ('name = "box"', 'name = "other"', "name =", "Give both the same name"),
        ("dates.clock", "columns.CLCK", "columns", "did you mean 'CLOCK'?"),
        ("[boot]", "[roles]\nconfiguraton = []\n[boot]", "configuraton", "'configuration'?"),
    ],
)
def test_a_mistake_is_told_with_its_line_and_what_may_be_meant(ovek, old, new, where, message):
    text = GOOD.replace(old, new, 1)
    errors = told(ovek, text)
    (one,) = [error for error in errors if message in error]
    if where is not None and "template" not in one:
        assert f"line {line(text, where)}," in one


def test_all_mistakes_are_told_at_once_in_their_order(ovek):
    text = GOOD.replace('"Boxes"', "7").replace('"next"', '"nxt"').replace("dir {volume}", "dir")
    text = text.replace("Value CLOCK", "Value CLOKC").replace("${CLOCK}", "${CLOKC}")
    errors = told(ovek, text)
    lines = [int(one.partition("line ")[2].partition(",")[0]) for one in errors]
    assert len(errors) >= 4
    assert lines == sorted(lines)


def test_a_time_without_its_year_is_told_where_no_clock_is_asked_for_before(ovek):
    first, second = GOOD.index("[[reading"), GOOD.rindex("[[reading")
    swapped = GOOD[:first] + GOOD[second:] + GOOD[first:second]
    (one,) = told(ovek, swapped)
    assert "reads modified without its year" in one
    ovek.write("sheets/box.toml", swapped.replace('"%d %b"', '["%d %b", "%d %b %Y"]'))
    ovek("sheet", "check", "box")


def test_lines_of_toml_are_found_in_all_its_forms():
    text = (
        'a = 1\n"b c" = 2\n[d]\ne.f = 3\nt = """\nx = 4\n"""\n[[g.h]]\ni = 5\n[[g.h]]\n'
        "i = 6\n[g.h.j]\nk = 7 # [no]\nl = '''\n[m]\n'''\n"
    )
    found = lines_of(text)
    assert found["b c"] == 2
    assert found["d.e.f"] == 4
    assert "d.x" not in found
    assert (found["g.h[0].i"], found["g.h[1].i"], found["g.h[1].j.k"]) == (9, 11, 13)
    assert "m" not in found
    assert line_of(found, "g.h[1].j.nothing.below") == 12
    assert line_of(found, "nowhere") is None


# -- fields


def test_every_field_is_shown_with_its_unit_and_an_example(ovek):
    shown = ovek("sheet", "fields").stdout
    for thing, fields in FIELDS.items():
        assert thing.upper() in shown
        for field in fields:
            assert f"  {field} " in shown
    rows = ovek.json("sheet", "fields", "volume")["fields"]
    assert {row["field"] for row in rows} == FIELDS["volume"]
    assert all(row["tells"] and row["unit"] and row["example"] for row in rows)
    assert "did you mean 'volume'?" in ovek("sheet", "fields", "volum", exits=2).stderr


def test_sizes_and_times_are_told_as_such():
    for fields in OF_THINGS.values():
        for name, field in fields.items():
            assert (name in SIZES) == ("bytes" in field.unit), name
            assert (name in TIMES) == ("time" in field.unit), name


# -- where they lie


def with_sheet(folder, name="shared", title="Shared"):
    folder.mkdir(parents=True, exist_ok=True)
    text = GOOD.replace('"box"', f'"{name}"').replace('"Boxes"', f'"{title}"')
    (folder / f"{name}.toml").write_text(text)


def test_a_shared_folder_or_checkout_is_named_in_the_fleet_file(ovek, tmp_path_factory):
    shared = tmp_path_factory.mktemp("shared")
    with_sheet(shared / "sheets")
    with_sheet(shared / "plain", "flat")
    ovek.write("fleet.toml", f'name = "T"\nsheets = ["{shared}", "{shared}/plain"]\n')
    assert "shared: no mistakes (Shared" in ovek("sheet", "check", "shared").stdout
    assert "flat: no mistakes" in ovek("sheet", "check", "flat").stdout
    with_sheet(ovek.folder / "sheets", title="Our own")
    assert "shared: no mistakes (Our own" in ovek("sheet", "check", "shared").stdout
    ovek.write("fleet.toml", 'name = "T"\nsheets = ["nowhere"]\n')
    assert "is not a folder of sheets" in ovek.refuses("sheet", "check", "flat")


def test_an_installed_package_brings_sheets_and_one_that_is_broken_is_told(tmp_path, monkeypatch):
    package = tmp_path / "lib/quay_sheets"
    with_sheet(package, "quay")
    (package / "__init__.py").write_text("")
    broken = tmp_path / "lib/broken_sheets.py"
    broken.write_text("raise RuntimeError('not today')")
    monkeypatch.syspath_prepend(str(tmp_path / "lib"))

    def bring(module):
        found = (Brought("ovek.sheets", module, module, "", "quay", "1.0"),)
        monkeypatch.setattr("ovek.files.packages._all", lambda: found)

    bring("quay_sheets")
    assert find_sheet(tmp_path, "quay") == package / "quay.toml"
    assert "quay" in sheet_names(tmp_path)
    assert find_sheet(tmp_path, "oxwick-40") is not None
    bring("broken_sheets")
    with pytest.raises(InputError, match="cannot be imported"):
        find_sheet(tmp_path, "quay")
    assert find_sheet(tmp_path, "oxwick-40") is not None  # which needs no package
    sys.modules.pop("quay_sheets", None)


def test_a_shared_sheet_goes_along_to_where_a_fleet_is_audited(ovek, tmp_path_factory):
    from ovek.files.site import Site

    shared = tmp_path_factory.mktemp("shared")
    with_sheet(shared)
    ovek.write(
        "fleet.toml",
        f'name = "T"\nsheets = ["{shared}"]\n[[device]]\nname = "one"\nsheet = "shared"\n'
        '[[device]]\nname = "two"\nsheet = "oxwick-40"\n',
    )
    files = Site(ovek.folder).known_files()
    assert "sheets/shared.toml" in files
    assert "sheets/oxwick-40.toml" not in files  # which everybody has


def test_a_survey_takes_a_sheet_that_others_find_and_no_other(ovek, tmp_path_factory):
    away = tmp_path_factory.mktemp("away")
    ovek.write("s.txt", marked("corrie"))
    ovek("sheet", "learn", "corrie", "s.txt")
    shutil.copy(ovek.folder / "sheets/corrie.toml", away / "corrie.toml")
    ovek.write("fleet.toml", 'name = "T"\n[[device]]\nname = "one"\nsheet = "switch"\n')
    (away / "session.txt").write_text(plain("corrie"))
    read = ("survey", "one", "--capture", str(away / "session.txt"), "--sheet")
    ovek(*read, "corrie")
    ovek(*read, str(away / "corrie.toml"))
    (away / "corrie.toml").write_text((away / "corrie.toml").read_text() + "# other\n")
    assert "where no other command finds it" in ovek.refuses(*read, str(away / "corrie.toml"))
    assert "no sheet named 'corie'" in ovek.refuses(*read, "corie")
    ovek.write("fleet.toml", (ovek.folder / "fleet.toml").read_text().replace("one", "two"))
    one = json.loads(next((ovek.folder / "snapshots").glob("2*.jsonl")).read_text())
    assert one["sheet"] == "corrie"


def test_a_capture_is_of_one_device(ovek):
    ovek.fleet("one", "two")
    ovek.write("s.txt", plain("corrie"))
    refused = ovek("survey", "--capture", "s.txt", exits=2).stderr
    assert "--capture needs exactly one device" in refused


def test_kept_sessions_are_a_sheet_s_tests(ovek):
    ovek.write("s.txt", marked("lathe"))
    ovek("sheet", "learn", "lathe", "s.txt")
    kept = ovek.folder / "sheets/lathe.sessions/s.txt"
    text = kept.read_text().replace("Length: 25165824", "Another line\n  Length: 25165824")
    kept.write_text(text)
    done = ovek("sheet", "check", "lathe", exits=1)
    assert "It parses 0 of its 1 kept sessions: " in done.stdout
    assert "s.txt: 2 lines not parsed" in done.stdout
    assert "Another line" in ovek("sheet", "try", "lathe", "--all", exits=1).stdout
    assert "has none" in ovek("sheet", "try", "oxwick-40", "--all", exits=2).stderr
    assert "or --all" in ovek("sheet", "try", "oxwick-40", exits=2).stderr


@pytest.mark.parametrize("path", ["]", "a]", "..", 'x."a]b"', "[", "a[0]]", "a.b].c]"])
def test_a_path_that_is_none_has_no_line_and_ends(path):
    assert line_of({"z": 1}, path) is None
    assert line_of({"a": 7}, f"a.{path}") == 7

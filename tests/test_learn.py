"""Teaching Ovek a device: marked sessions of three invented languages, and what can go wrong."""

import json
import random
import re
import string
import tomllib
from datetime import datetime
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from languages import LANGUAGES, MAKERS, marked, other, plain
from languages.spoken import Held, Served, session
from ovek.app import learning
from ovek.files.marks import MarkError, fields_named, unmarked, with_mark, without_marks
from ovek.learn.answers import rules_of
from ovek.learn.dialogue import Exchange, taken_apart
from ovek.learn.lesson import SessionError, learn
from ovek.learn.sheet_text import head_of, learned_of, whole
from ovek.learn.values import dates_of
from ovek.sources.menus import MenuPosition, Step, chain, way
from ovek.sources.mistakes import mistakes_in
from ovek.sources.rows import rows_of
from ovek.sources.trial import try_sheet

ALL = sorted(LANGUAGES)


def learned(ovek, name, *more, exits=0):
    """Learn a language from its marked session; return what is shown."""
    ovek.write(f"{name}.txt", marked(name))
    return ovek("sheet", "learn", name, f"{name}.txt", *more, exits=exits).stdout


def fleet_of(ovek, name, **keys):
    lines = "".join(f"{key} = {json.dumps(value)}\n" for key, value in keys.items())
    ovek.write("fleet.toml", f'name = "T"\n[[device]]\nname = "one"\nsheet = "{name}"\n{lines}')


def state(ovek):
    files = (ovek.folder / "snapshots").glob("2*.jsonl")
    return json.loads(max(files, key=lambda file: file.stat().st_mtime_ns).read_text())


# -- from session to sheet to device


@pytest.mark.parametrize("name", ALL)
def test_twelve_marks_make_a_sheet_that_understands_the_whole_session(ovek, name):
    assert 100 <= len(plain(name).splitlines()) <= 300
    assert marked(name).count("<<") <= 12
    assert unmarked(marked(name))[0] == plain(name)
    shown = learned(ovek, name)
    assert shown.startswith(f"{name}: whole session parsed (12 marks")
    assert "NOT PARSED" not in shown
    ovek.write("session.txt", plain(name))
    tried = ovek("sheet", "try", name, "session.txt").stdout
    assert tried.startswith(f"{name}: whole session parsed, no fact missing.")
    assert ": no mistakes (" in ovek("sheet", "check", name).stdout


@pytest.mark.parametrize("name", ALL)
def test_and_then_the_device_is_read_over_ssh_and_sent_nothing_else(ovek, name, monkeypatch):
    learned(ovek, name)
    device = Served(MAKERS[name])
    monkeypatch.setenv("OVEK_PASSWORD", "a secret")
    monkeypatch.delenv("SSH_AUTH_SOCK", raising=False)
    fleet_of(ovek, name, host="127.0.0.1", port=device.port, user="reader")
    ovek("survey", "--take-new-keys", "--answer-limit", "10")
    over_ssh = state(ovek)
    fleet_of(ovek, name)
    ovek.write("session.txt", plain(name))
    ovek("survey", "--capture", "session.txt", "--sheet", name)
    from_session = state(ovek)
    for one in (over_ssh, from_session):
        for key in ("taken_at", "source"):
            del one[key]
        for member in one["members"]:
            for volume in member.get("volumes", ()):
                for file in volume.get("files") or ():
                    file.pop("digests_at", None)
                    file.pop("digests", None)  # of files that no catalog lists, none is asked for
    assert over_ssh == from_session
    allowed = set(LANGUAGES[name].TYPED) | {"0"}
    assert set(device.typed) <= allowed


@pytest.mark.parametrize("name", ALL)
def test_another_session_widens_the_sheet_and_the_first_stays_understood(ovek, name):
    learned(ovek, name)
    ovek.write("other.txt", other(name))
    shown = ovek("sheet", "learn", name, "other.txt").stdout
    assert shown.startswith(f"{name}: all 2 sessions parsed")
    assert "It parses 2 of its 2 kept sessions: " in ovek("sheet", "check", name).stdout
    assert ovek("sheet", "try", name, "--all").stdout.count("no fact missing") == 2
    # In any order, and at once.
    ovek.write("first.txt", marked(name))
    ovek("sheet", "learn", f"{name}-2", "other.txt", "first.txt")
    for text in (plain(name), other(name)):
        ovek.write("again.txt", text)
        ovek("sheet", "try", f"{name}-2", "again.txt")


def test_a_file_that_only_the_other_session_has_is_read_and_not_passed_over(ovek):
    learned(ovek, "corrie")
    ovek.write("other.txt", other("corrie"))
    ovek("sheet", "learn", "corrie", "other.txt")
    tried = ovek.json("sheet", "try", "corrie", "other.txt")
    paths = [row.get("path") for one in tried["questions"] for row in one["fields"]]
    assert "a file with blanks" in paths


def test_a_choice_by_number_is_the_bank_that_the_list_says(ovek):
    learned(ovek, "lathe")
    ovek.write("other.txt", other("lathe"))
    ovek("sheet", "learn", "lathe", "other.txt")
    fleet_of(ovek, "lathe")
    for file, bank in (("lathe.txt", "A"), ("other.txt", "B")):
        ovek("survey", "--capture", file)
        boot = state(ovek)["members"][0]["boot"]
        assert boot["default_bank"] == {"live": None, "saved": bank} or boot["default_bank"] == {
            "saved": bank
        }


# -- what is found, offered, and left open


def test_guesses_are_offered_and_none_is_taken_by_itself(ovek):
    shown = learned(ovek, "harrock")
    assert "<<hardware.serial=HK-77120>>  harrock.txt, line 12" in shown
    assert "<<leave=depart>>" in shown
    text = (ovek.folder / "sheets/harrock.toml").read_text()
    assert "SERIAL" not in text
    assert "leave" not in text.partition("[reading]")[2]
    ovek("sheet", "learn", "harrock", "--take", "2")
    text = (ovek.folder / "sheets/harrock.toml").read_text()
    assert "SERIAL" in text
    assert "depart" not in text
    shown = ovek("sheet", "learn", "harrock", "--take", "all").stdout
    assert "GUESSES" not in shown
    text = (ovek.folder / "sheets/harrock.toml").read_text()
    assert 'leave = "depart"' in text
    assert "there are no suggested marks" in ovek("sheet", "learn", "harrock", "--take", "1",
                                          exits=2).stderr  # fmt: skip


def test_what_was_typed_and_has_no_mark_is_never_asked(ovek):
    shown = learned(ovek, "harrock")
    assert "COMMANDS NOT USED" in shown
    assert "list heat" in shown
    sheet = tomllib.loads((ovek.folder / "sheets/harrock.toml").read_text())
    assert "list heat" not in {one["ask"] for one in sheet["reading"]["question"]}


def test_a_line_that_may_be_a_file_is_told_with_the_mark_that_settles_it(ovek):
    text = marked("harrock").replace("  old notes.txt", "  old notes.txt\nlost+found/core.hri")
    ovek.write("s.txt", text)
    shown = ovek("sheet", "learn", "h", "s.txt", exits=1).stdout
    assert shown.startswith("h: 1 line not parsed")
    assert "<<file.path=lost+found/core.hri>> or <<skip=lost+found/core.hri>>" in shown
    ovek.write("s.txt", text.replace("lost+found/core.hri", "<<skip=lost+found/core.hri>>"))
    assert ovek("sheet", "learn", "h2", "s.txt").stdout.startswith("h2: whole session parsed")


def test_a_word_whose_meaning_is_not_told_is_asked_for(ovek):
    text = marked("harrock").replace("<<state(absent)=missing>>", "missing")
    ovek.write("s.txt", text)
    shown = ovek("sheet", "learn", "h", "s.txt", exits=1).stdout
    assert "what the word 'missing' means as volume.state" in shown
    assert "<<volume.state(ok|unreadable|absent)=missing>>" in shown


@pytest.mark.parametrize(
    ("written", "told"),
    [
        ("<<fre=90112>>", "Did you mean 'free'?"),
        ("<<free=90112", "is not a complete mark"),
        ("<<free=>>90112", "is empty"),
    ],
)
def test_a_mark_that_says_nothing_is_told_with_its_line(ovek, written, told):
    text = marked("harrock").replace("<<free=90112>>", written)
    ovek.write("s.txt", text)
    line = next(n for n, one in enumerate(text.split("\n"), 1) if written in one)
    refused = ovek.refuses("sheet", "learn", "h", "s.txt")
    assert told in refused
    assert f"s.txt, line {line}" in refused
    assert not (ovek.folder / "sheets/h.toml").exists()


def test_a_name_that_may_be_several_things_is_asked_about_and_told_how_to_write_it(ovek):
    ovek.write("s.txt", "a# show\nit is <<mode.live=x>> and <<capacity=3>>\na# more\nb\na# ")
    assert "Mark its volume, too" in ovek.refuses("sheet", "learn", "h", "s.txt")


def test_a_session_without_marks_or_without_a_prompt_is_told(ovek):
    ovek.write("s.txt", plain("corrie"))
    assert "no output in it has a mark" in ovek.refuses("sheet", "learn", "h", "s.txt")
    ovek.write("s.txt", "one line\n<<free=3>> and another\n")
    assert "no typed command was found" in ovek.refuses("sheet", "learn", "h", "s.txt")
    assert "give a saved session" in ovek("sheet", "learn", "h", exits=2).stderr
    assert "not a valid sheet name" in ovek("sheet", "learn", "../h", "s.txt", exits=2).stderr


def test_what_was_typed_may_be_marked_where_no_prompt_is_found(ovek):
    text = "go ] show\nversion <<running.version=1.2>>, model <<model=Q>>\ngo ] x\ny\n"
    with pytest.raises(SessionError):
        learn([text.replace("go ] ", "go ")])
    found = learn([text.replace("go ] show", "go <<ask=show>>").replace("go ] x", "go x")])
    assert found.questions[0].ask == "show"


# -- learning again


def test_what_stands_above_the_line_is_the_person_s_and_what_is_below_is_written_anew(ovek):
    learned(ovek, "harrock")
    file = ovek.folder / "sheets/harrock.toml"
    text = file.read_text().replace('fallback = "none"', 'fallback = "first-found"')
    file.write_text(text.replace("log = []", 'log = ["*.log"]'))
    ovek("sheet", "learn", "harrock", "--take", "1")
    text = file.read_text()
    assert 'fallback = "first-found"' in text
    assert 'log = ["*.log"]' in text
    assert "REVISION" in text


def test_what_was_changed_by_hand_below_the_line_is_not_written_over_unasked(ovek):
    learned(ovek, "harrock")
    file = ovek.folder / "sheets/harrock.toml"
    file.write_text(file.read_text() + "\n# mine\n")
    assert "was changed by hand" in ovek.refuses("sheet", "learn", "harrock")
    assert file.read_text().endswith("# mine\n")
    ovek("sheet", "learn", "harrock", "--over")
    assert not file.read_text().endswith("# mine\n")
    own = ovek.write("sheets/own.toml", (ovek.folder / "sheets/switch.toml").read_text())
    before = own.read_text()
    ovek.write("s.txt", marked("corrie"))
    assert "written by hand" in ovek.refuses("sheet", "learn", "own", "s.txt")
    assert own.read_text() == before


def test_a_session_that_speaks_against_the_first_is_refused_and_nothing_is_written(ovek):
    learned(ovek, "harrock")
    folder = ovek.folder / "sheets"
    before = {file: file.read_bytes() for file in folder.rglob("*") if file.is_file()}
    text = other("harrock").replace("disk  sound", "disk  <<state(bad-word)=sound>>", 1)
    ovek.write("other.txt", text)
    told = ovek.refuses("sheet", "learn", "harrock", "other.txt")
    assert "parses harrock.txt now, and would no longer do so" in told
    assert {file: file.read_bytes() for file in folder.rglob("*") if file.is_file()} == before


def test_a_session_that_is_kept_is_replaced_by_itself_with_more_marks(ovek):
    learned(ovek, "harrock")
    text = marked("harrock").replace("HK-77120\n", "<<serial=HK-77120>>\n", 1)
    ovek.write("better.txt", text)
    ovek("sheet", "learn", "harrock", "better.txt")
    kept = list((ovek.folder / "sheets/harrock.sessions").iterdir())
    assert [file.name for file in kept] == ["harrock.txt"]
    assert kept[0].read_text() == text


def test_a_layout_is_said_of_a_new_sheet_only(ovek):
    learned(ovek, "harrock", "--layout", "paired")
    file = ovek.folder / "sheets/harrock.toml"
    assert 'layout = "paired"' in file.read_text()
    assert "is for a new sheet" in ovek.refuses("sheet", "learn", "harrock", "--layout", "files")


def test_a_dry_run_writes_nothing(ovek):
    ovek.write("s.txt", marked("corrie"))
    assert "parsed" in ovek("sheet", "learn", "c", "s.txt", "--dry-run").stdout
    assert not (ovek.folder / "sheets/c.toml").exists()


def test_json_has_what_the_table_shows(ovek):
    ovek.write("s.txt", marked("lathe"))
    told = ovek.json("sheet", "learn", "l", "s.txt")
    assert told["format"] == "ovek.learned/1"
    assert told["marks"] == 12
    assert {one["fills"] for one in told["asks"]} == {"device", "volume", "bank", "boot", "file"}


# -- one line at a time


def guided(ovek, text, answers):
    ovek.write("s.txt", text)
    folder = str(ovek.folder)
    typed = ["sheet", "learn", "g", str(ovek.folder / "s.txt"), "--ask", "--site", folder]
    from ovek.cli import cli

    return CliRunner().invoke(cli, typed, input="\n".join([*answers, ""]))


def test_one_line_at_a_time_offers_guesses_and_asks_about_what_is_open(ovek):
    text = marked("harrock").replace("  old notes.txt", "  old notes.txt\nlost+found/core.hri")
    done = guided(ovek, text, ["y", *[""] * 6, "nonsense=3", "skip", "next", "sink", "q"])
    assert "What does the device do at an image that it cannot boot?" in done.output
    assert "Use one of: none, first-found" in done.output
    assert 'on_bad_image = "next"' in (ovek.folder / "sheets/g.toml").read_text()
    assert "Is that <<hardware.revision=C4>>?" in done.output
    kept = (ovek.folder / "sheets/g.sessions/s.txt").read_text()
    assert "<<hardware.revision=C4>>" in kept
    assert "<<hardware.serial" not in kept


def test_one_line_at_a_time_takes_a_field_and_refuses_what_is_none(ovek):
    text = marked("harrock").replace("  old notes.txt", "  old notes.txt\n77 odd/core.hri")
    ovek.write("s.txt", text)
    from ovek.app import learning

    (one,) = learning.sessions_of(ovek.folder / "sheets/g.toml", [ovek.folder / "s.txt"])
    (line,) = learning.lesson_of([one]).open
    told = iter(["bogus=77", "size=78", "size=77"])

    asked = []

    class Person:
        def say(self, text):
            """Nobody listens."""

        def answer(self, prompt):
            asked.append(prompt)
            return next(told)

    assert learning._ask_line(one, line, Person())
    assert "<<size=77>> odd/core.hri" in one.text
    assert len(asked) == 3


def dated(first, second):
    """A session with two files, the time of the first marked."""
    return (
        "a# dir f\nwritten     bytes  name\n"
        f"{first}  <<size=700>>    <<path=i-1.0.img>>\n{second}  70     b.txt\na# "
    )


def test_a_date_that_may_be_two_days_is_asked_about_until_something_tells():
    (one,) = [each for each in learn([dated("<<modified=03/04/2026>>", "05/06/2026")]).unsettled
              if "month" in each.what]  # fmt: skip
    assert one.mark == "<<modified(%d/%m/%Y)=03/04/2026>>"
    told = learn([dated("<<modified(%m/%d/%Y)=03/04/2026>>", "05/06/2026")])
    (question,) = told.questions
    assert question.dates == {"modified": "%m/%d/%Y"}
    (question,) = learn([dated("<<modified=03/04/2026>>", "25/06/2026")]).questions
    assert question.dates == {"modified": "%d/%m/%Y"}


def test_quotes_of_toml_in_a_session_do_not_end_a_template(tmp_path):
    text = "a# show\nversion <<running.version=1>> ''' \\ \"\"\"\nit is '''so'''\na# "
    found = learn([text])
    made = whole(head_of("x", found), learned_of(found))
    (question,) = tomllib.loads(made)["reading"]["question"]
    assert question["template"] == found.questions[0].template
    assert rows_of(found.questions[0], "version 2 ''' \\ \"\"\"").rows == ({"VERSION": "2"},)


def test_short_commands_are_no_choices_of_a_menu():
    found = learn(["box-1# df\n<<volume=f>> <<capacity=9>> <<free=1>>\nbox-1# ls\nx\nbox-1# "])
    assert found.prompt == "[A-Za-z0-9._-]+# "
    assert found.questions[0].then == ()


# -- terminals as they are


def test_a_pager_escapes_and_line_ends_of_all_kinds_are_seen_through(ovek):
    text = plain("harrock")
    head, row, rest = text.partition("   43122688  03.11.2026 17:05  h7-4.2.1.hri\n")
    pager = "-- 12 lines more, blank for next --"
    paged = f"{head}{pager}\r{' ' * len(pager)}\r{row}{rest}"
    paged = paged.replace("mill-a =>", "\x1b[1mmill-a\x1b[0m =>").replace("\n", "\r\n")
    for old, new in LANGUAGES["harrock"].MARKS:
        paged = paged.replace(old.replace("\n", "\r\n"), new.replace("\n", "\r\n"), 1)
    ovek.write("s.txt", paged)
    shown = ovek("sheet", "learn", "h", "s.txt").stdout
    assert shown.startswith("h: whole session parsed")
    sheet = tomllib.loads((ovek.folder / "sheets/h.toml").read_text())["reading"]
    assert re.search(sheet["pager"]["shows"], "-- 7 lines more, blank for next --")


def test_an_error_that_is_marked_is_no_answer(ovek):
    text = marked("harrock").replace(
        "!! no drive stick in unit 1", "<<error=!! no drive stick in unit 1>>"
    )
    ovek.write("s.txt", text)
    ovek("sheet", "learn", "h", "s.txt")
    (pattern,) = tomllib.loads((ovek.folder / "sheets/h.toml").read_text())["reading"]["errors"]
    assert re.match(pattern, "!! no drive card in unit 3")


def test_a_digest_that_is_wrapped_over_lines_is_put_together(ovek):
    digest = "0123456789abcdef" * 8
    text = (
        "a# show\nversion <<running.version=1.0>> on <<model=Q>> from f:i-1.0.img\n"
        "a# vol\n<<volume=f>> <<capacity=900>> <<free=100>>\n"
        "a# dir f\n<<path=i-1.0.img>> <<size=8>>\n"
        f"a# hash i-1.0.img f\n<<sha512={digest[:64]}>>\n<<sha512={digest[64:]}>>\n"
        "a# boot\nfirst <<place=f:i-1.0.img>>\na# "
    )
    ovek.write("s.txt", text)
    ovek("sheet", "learn", "q", "s.txt")
    tried = ovek.json("sheet", "try", "q", "s.txt")
    rows = [row for one in tried["questions"] if one["fills"] == "digest" for row in one["fields"]]
    assert [row["sha512"] for row in rows] == [digest]


def test_volumes_that_nothing_lists_are_asked_for_by_name(ovek):
    text = (
        "a1> open up\na1# build\nversion <<running.version=1.0>> on <<model=Q>> (by reader)\n"
        "a1# peek store0:\nInside <<volume=store0>>:/ lie\n\n"
        "  a  file  <<size=700>>  <<path=i-1.0.img>>\n"
        "  b  <<skip=room>>  40  logs\n\nof <<capacity=9000>> it has <<free=2.5K>> to give\n"
        "a1# peek store1:\nInside store1:/ lie\n\n"
        "  a  file   70  note.txt\n  b  room   40  logs\n\nof 8000 it has 4.5K to give\n"
        "a1# start\nfirst <<place=store0:/i-1.0.img>>\n"
        f"a1# sum md5 store0:/i-1.0.img\nit is <<md5={'a' * 32}>>\na1# "
    )
    ovek.write("s.txt", text)
    assert ovek("sheet", "learn", "q", "s.txt").stdout.startswith("q: whole session parsed")
    sheet = tomllib.loads((ovek.folder / "sheets/q.toml").read_text())["reading"]
    asks = {(one["ask"], one.get("fixed", {}).get("volume")) for one in sheet["question"]}
    assert {("peek store0:", "store0"), ("peek store1:", "store1")} <= asks
    assert ("sum md5 {volume}:/{path}", None) in asks
    assert re.fullmatch(sheet["prompt"], "b-7> ")
    assert re.fullmatch(sheet["prompt"], "b-7# ")
    fleet_of(ovek, "q")
    ovek("survey", "--capture", "s.txt")
    volumes = {each["name"]: each for each in state(ovek)["members"][0]["volumes"]}
    assert [file["path"] for file in volumes["store0"]["files"]] == ["i-1.0.img"]
    assert [file["path"] for file in volumes["store1"]["files"]] == ["note.txt"]
    assert (volumes["store0"]["capacity"], volumes["store1"]["free"]) == (9000, 4608)
    assert volumes["store0"]["files"][0]["digests"] == {"md5": "a" * 32}


def test_a_table_in_a_frame_and_settings_with_equals_signs(ovek):
    text = (
        "(box) $ units\n+---+------+-----+\n| # | runs | sn  |\n+---+------+-----+\n"
        "| <<member=1>> | <<running_version=9.1>>  | <<serial=X1>>  |\n| 2 | 9.0  | X22 |\n"
        "+---+------+-----+\n(box) $ about\nmodel=<<model=Q>>\nruns=<<running.version=9.1>>\n"
        "changed=<<unsaved_changes(yes)=so>>\n(box) $ slots\nSlot  State   Holds\n"
        "<<bank=0>>     <<state(ok)=in use>>  <<bank.version=9.1>>\n"
        "1     <<state(empty)=free>>    -\n"
        "(box) $ next\nNext start: <<default_bank.saved=0>> (set by reader)\n(box) $ "
    )
    found = learn([text])
    assert not found.open
    assert [one for one in found.unsettled if "volume" not in one.what] == []
    answers = {each.typed[0]: "\n".join(each.lines) for each in taken_apart(text, 0).exchanges}
    rows = {one.fills: rows_of(one, answers[one.ask]).rows for one in found.questions}
    assert [row["SERIAL"] for row in rows["member"]] == ["X1", "X22"]
    assert [(row["BANK"], row["STATE"], row["VERSION"]) for row in rows["bank"]] == [
        ("0", "in use", "9.1"), ("1", "free", "-")
    ]  # fmt: skip
    (boot,) = [one for one in found.questions if one.fills == "boot"]
    assert rows_of(boot, "Next start: 1 (set by nobody, at 3)").rows


def test_blocks_of_each_member_are_members(ovek):
    text = (
        "a> units\nUnit <<member=1>>:\n  Runs: <<running_version=1.0>>\n  Fan: fine\n"
        "Unit 2:\n  Runs: 1.1\n  Fan: noisy\n  Note: none\n"
        "a> disk\nOn unit <<member=1>>:\n  <<volume=f>>  <<capacity=100 KiB>>  <<free=10 KiB>>\n"
        "  g  300 KiB  30 KiB\nOn unit 2:\n  f  100 KiB  20 KiB\na> "
    )
    found = learn([text])
    assert not found.open
    rows = {
        question.fills: rows_of(question, "\n".join(each.lines)).rows
        for question, each in zip(found.questions, taken_apart(text, 0).exchanges, strict=True)
    }
    assert [(r["MEMBER"], r["RUNNING_VERSION"]) for r in rows["member"]] == [
        ("1", "1.0"), ("2", "1.1")
    ]  # fmt: skip
    assert [(r["MEMBER"], r["VOLUME"], r["FREE"]) for r in rows["volume"]] == [
        ("1", "f", "10 KiB"), ("1", "g", "30 KiB"), ("2", "f", "20 KiB")
    ]  # fmt: skip


# -- properties

_WORDS = st.text(string.ascii_lowercase, min_size=1, max_size=9)


@st.composite
def tables(draw):
    """A table of files or volumes: its heading, rows of cells, and which cells are marked."""
    extra = draw(st.integers(0, 3))
    columns = ["path", "size", *[f"x{n}" for n in range(extra)]]
    order = draw(st.permutations(columns[1:]))
    columns = ["path", *order] if draw(st.booleans()) else [*order, "path"]
    shapes = {
        "path": st.builds("{}-{}.img".format, _WORDS, st.integers(0, 999)),
        "size": st.integers(1, 10**9).map(str),
    }
    kinds = [_WORDS, st.integers(0, 99).map(str), st.just("2026-01-02"), st.just("-")]
    for name in columns:
        shapes.setdefault(name, draw(st.sampled_from(kinds)))
    rows = [{name: draw(shapes[name]) for name in columns} for _ in range(draw(st.integers(1, 6)))]
    heading = draw(st.booleans())
    right = {name: draw(st.booleans()) for name in columns}
    return columns, rows, heading, right


def drawn(columns, rows, heading, right):
    """The lines of a table, aligned."""
    titles = {name: f"{name.upper()}h" for name in columns}
    shown = [titles, *rows] if heading else rows
    widths = {name: max(len(row[name]) for row in shown) for name in columns}
    return [
        "  ".join(
            row[name].rjust(widths[name]) if right[name] else row[name].ljust(widths[name])
            for name in columns
        ).rstrip()
        for row in shown
    ]


@given(tables())
def test_every_row_of_a_table_is_read_as_it_stands_or_told_as_open(table):
    columns, rows, heading, right = table
    lines = drawn(columns, rows, heading, right)
    first = 1 if heading else 0
    text = "\n".join(["box# dir", *lines, "box# x", "y", "box# "])
    for name in ("path", "size"):
        line, start = first + 1, lines[first].index(rows[0][name])
        if name == "size":
            spans = [
                m.start() for m in re.finditer(rf"(?<!\S){rows[0]['size']}(?!\S)", lines[first])
            ]
            at = columns.index("size")
            start = min(spans, key=lambda s: abs(len(lines[first][:s].split()) - at))
        text = with_mark(text, line, start, start + len(rows[0][name]), name, None)
    found = learn([text])
    (question,) = found.questions
    exchange = taken_apart(text, 0).exchanges[0]
    read = rows_of(question, "\n".join(exchange.lines))
    got = [(row["PATH"], row["SIZE"]) for row in read.rows]
    wanted = [(row["path"], row["size"]) for row in rows]
    assert got == wanted or (found.open and set(got) <= set(wanted)), question.template
    assert len(read.strange) == len(found.open)


@st.composite
def gappy(draw):
    """A table in which cells of some columns are empty, or hold blanks."""
    columns, rows, _, right = draw(tables())
    odd = [name for name in columns if name not in ("path", "size")]
    for row in rows[1:]:
        for name in odd:
            row[name] = draw(st.sampled_from([row[name], "", f"{row[name]} or so"]))
        row["path"] = draw(st.sampled_from([row["path"], f"{row['path']} copy"]))
    return columns, rows, True, right


@given(gappy())
def test_a_row_with_empty_cells_or_blanks_is_never_read_wrong_nor_passed_over(table):
    columns, rows, heading, right = table
    lines = drawn(columns, rows, heading, right)
    text = "\n".join(["box# dir", *lines, "", "box# x", "y", "box# "])
    for name in ("path", "size"):
        at = [cell.start() for cell in re.finditer(r"\S+", lines[1])][columns.index(name)]
        text = with_mark(text, 2, at, at + len(rows[0][name]), name, None)
    try:
        found = learn([text])
    except SessionError as wrong:
        assert "cannot be separated" in wrong.met
        return
    exchange = taken_apart(text, 0).exchanges[0]
    (question,) = found.questions
    read = rows_of(question, "\n".join(exchange.lines))
    got = [(row["PATH"], row["SIZE"]) for row in read.rows]
    wanted = [(row["path"], row["size"]) for row in rows]
    assert set(got) <= set(wanted), question.template
    assert len(got) + len(found.open) == len(wanted), question.template


@given(st.datetimes(datetime(2001, 1, 1), datetime(2030, 1, 1)), st.sampled_from([
    "%Y-%m-%d %H:%M:%S", "%d %b %Y %H:%M", "%B %d, %Y %H:%M:%S", "%d.%m.%Y %H:%M",
    "%a %b %d %H:%M:%S %Y", "%H:%M %d %b %Y", "%d/%m/%Y %H:%M", "%b %d %H:%M", "%Y-%m-%dT%H:%M:%SZ",
]))  # fmt: skip
def test_a_time_is_read_as_it_was_written_where_its_way_is_found(time, way):
    text = time.strftime(way)
    found = dates_of([text])
    if len(found) == 1:
        year = "2000 " if "%Y" not in way else ""
        front = "%Y " if year else ""
        read = datetime.strptime(year + text, front + found[0])
        assert read == datetime.strptime(year + text, front + way)
    else:  # the day may be the month
        assert any(each in (way, *found) for each in found)
        assert time.day <= 12


@given(st.text("ab <>=().\n", max_size=60))
def test_marks_come_out_of_a_text_as_they_went_in(text):
    try:
        plain_, marks = unmarked(text)
    except MarkError:
        assert without_marks(text) == text
        return
    assert not marks or len(plain_) < len(text)
    line = next((n for n, one in enumerate(plain_.split("\n")) if one.strip()), None)
    one = plain_.split("\n")[line] if line is not None else ">>"
    if not marks and ">>" not in one and one[-1:] != ">":
        again = with_mark(text, line, 0, len(one), "free", "x")
        back, found = unmarked(again)
        assert back == plain_
        assert [(mark.value, mark.means) for mark in found] == [(one, "x")]


_LINES = st.sampled_from(
    [*marked("harrock").split("\n"), *marked("corrie").split("\n"), *marked("lathe").split("\n")]
)


@given(st.lists(_LINES | st.text(max_size=30), max_size=60), st.sampled_from(ALL), st.data())
def test_a_damaged_session_is_learned_from_or_refused_by_its_line(lines, name, data):
    text = marked(name)
    cut = data.draw(st.integers(0, len(text)))
    whole_ = text[:cut] + "\n".join(lines) + text[data.draw(st.integers(cut, len(text))) :]
    try:
        found = learn([whole_])
    except SessionError as wrong:
        assert wrong.met
        assert wrong.do
        return
    made = whole(head_of("x", found), learned_of(found))
    tomllib.loads(made)


def test_what_was_learned_of_a_damaged_session_is_a_right_sheet(tmp_path):
    chance = random.Random(7)
    right = 0
    for _ in range(40):
        lines = marked(chance.choice(ALL)).split("\n")
        for _ in range(chance.randrange(6)):
            at = chance.randrange(len(lines))
            lines[at : at + chance.randrange(3)] = chance.choice(
                ([], ["'''\\ \x07"], [lines[at] * 3])
            )
        try:
            found = learn(["\n".join(lines)])
        except SessionError:
            continue
        file = tmp_path / "x.toml"
        file.write_text(whole(head_of("x", found), learned_of(found)))
        _, wrong = mistakes_in(file)
        assert not wrong, wrong
        right += 1
    assert right > 10


def test_a_session_of_odd_size_is_learned_from_in_bounded_time():
    long = "a" * 4_000
    text = f"a# show\nversion <<running.version=1>> {long}\na# x\n{long}\na# "
    assert learn([text]).questions
    many = "".join(f"a# q{n}\nanswer {n}\n" for n in range(3_000))
    assert learn([f"a# show\nversion <<running.version=1>>\n{many}a# "]).unasked


_NAMES = st.text(string.ascii_letters + string.digits + "._-", min_size=1, max_size=40).filter(
    lambda name: name[0] not in "._-"
) | st.builds("{} {}".format, _WORDS, _WORDS)
_SIZES = st.integers(0, 2**40)
_TIMES = st.datetimes(datetime(2020, 1, 1), datetime(2026, 11, 1))
_AS_WRITTEN = {
    "harrock": "%d.%m.%Y %H:%M",
    "corrie": "%-d %B %Y, %H:%M:%S",
    "lathe": "%Y-%m-%d %H:%M",
}
_DRIVES = {"harrock": ("disk", "card"), "corrie": ("inner", "outer"), "lathe": ("main", "spare")}
_TAUGHT = {}


def taught(name):
    """The lesson of a language, from its own session and that of another device."""
    if name not in _TAUGHT:
        _TAUGHT[name] = learn([marked(name), other(name)])
    return _TAUGHT[name]


@given(st.sampled_from(ALL), st.data())
def test_what_was_learned_reads_any_device_of_the_kind_right_or_says_that_it_does_not(name, data):
    files = {
        drive: [
            Held(path, data.draw(_SIZES), data.draw(_TIMES).strftime(_AS_WRITTEN[name]))
            for path in data.draw(st.lists(_NAMES, max_size=5, unique=True))
        ]
        for drive in _DRIVES[name]
    }
    device = MAKERS[name](files=files)
    typed = [line for line in LANGUAGES[name].TYPED if not line.startswith(("sum", "what is the"))]
    text = session(device, typed)
    file = Path(f"{name}.toml")
    sheet = learning.sheet_in(file, whole(head_of(name, taught(name)), learned_of(taught(name))))
    tried = try_sheet(sheet, [text])
    for one in tried.questions:
        if one.fills != "file" or not one.answered:
            continue
        drive = next(word for word in _DRIVES[name] if word in one.asked.split())
        got = [(row["path"], row["size"]) for row in one.fields]
        wanted = [(each.path, each.size) for each in files[drive]]
        assert got == wanted or one.strange, one.asked
        assert set(got) <= set(wanted), one.asked


# -- ways through menus


def test_the_way_to_a_menu_and_the_steps_that_lead_there():
    home, below = MenuPosition("> ", ("1) a",)), MenuPosition("> ", ("0) back",))
    steps = [
        Step(home, "2", (), below),
        Step(below, "1", ("x",), below),
        Step(below, "0", (), home),
        Step(home, "1", ("about",), home),
        Step(home, "2", (), below),
        Step(below, "0", (), None),
    ]
    assert way(steps, home, below) == ["2"]
    assert way(steps, below, home) == ["0"]
    assert way(steps, home, MenuPosition("?")) is None
    assert chain(steps, ["2", "1", "0"], home) == [0, 1, 2]
    assert chain(steps, ["1"], home) == [3]
    assert chain(steps, ["1", "0"], home) is None


def test_fields_are_named_by_their_last_word_where_that_says_enough():
    assert fields_named("free") == (("volume", "free"),)
    assert ("device", "running.version") in fields_named("running.version")
    assert fields_named("live") == ()
    assert fields_named("nonsense") == ()
    assert {fills for fills, _ in fields_named("version")} == {"bank", "device", "component"}


def test_an_answer_of_one_line_that_refuses_is_not_learned_from():
    refused = Exchange(("dir x",), ("?? no such drive",), (3,), ())
    assert rules_of([refused], (), ()).exchanges == ()


# -- what learning says of itself

BOX = (
    "q2> about\nQuillet <<model=Q2>>, image <<running.version=2.8>>\n"
    "q2> drives\ndrive  bytes    free\n<<volume=nand>>   <<capacity=262144>>   <<free=90112>>\n"
    "q2> look nand\n<<path=q2-2.8.bin>>   <<size=4456>>\nq2.ini       183\n"
    "q2> startup\n<<place=nand:q2-2.8.bin>>\n"
)


@pytest.mark.parametrize(
    ("was", "wrong", "line"),
    [
        ("<<free=90112>>", "<<free=90112>", 5),
        ("<<free=90112>>", "<free=90112>>", 5),
        ("<<free=90112>>", "<<free 90112>>", 5),
        ("<<free=90112>>", "<<fre=90112>>", 5),
        ("look nand", "look <<volume=nand>", 6),
        ("look nand", "look <<volum=nand>>", 6),
    ],
)
def test_a_mark_that_is_mistyped_is_told_where_it_stands(ovek, was, wrong, line):
    ovek.write("s.txt", BOX.replace(was, wrong))
    assert f"s.txt, line {line}: " in ovek.refuses("sheet", "learn", "q", "s.txt")
    assert not (ovek.folder / "sheets/q.toml").exists()


def test_a_session_of_another_kind_and_what_is_no_text_are_refused(ovek):
    ovek.write("s.txt", BOX)
    ovek("sheet", "learn", "q", "s.txt")
    before = (ovek.folder / "sheets/q.toml").read_bytes()
    ovek.write("other.txt", "sea# tell\nI am something else\nsea# bye\n")
    told = ovek.refuses("sheet", "learn", "q", "other.txt")
    assert "other.txt: nothing in the session could be parsed" in told
    ovek.write("noise.txt", bytes(range(1, 32)) * 40)
    assert "noise.txt: is not a text file" in ovek.refuses("sheet", "learn", "q", "noise.txt")
    assert (ovek.folder / "sheets/q.toml").read_bytes() == before
    shown = ovek("sheet", "try", "q", "other.txt", exits=1).stdout
    assert shown.startswith("q: nothing in the session could be parsed")
    # Some noise on the line is none.
    ovek.write("noisy.txt", BOX.replace("q2> drives", "\x00\x07q2> drives"))
    ovek("sheet", "learn", "q3", "noisy.txt")


def test_a_session_that_was_fixed_takes_the_place_of_the_one_of_its_name(ovek):
    ovek.write("s.txt", BOX.replace("q2.ini       183", "q2.ini       183\nq2.log       12"))
    ovek("sheet", "learn", "q", "s.txt")
    ovek.write("s.txt", BOX)
    ovek("sheet", "learn", "q", "s.txt")
    (kept,) = (ovek.folder / "sheets/q.sessions").iterdir()
    assert kept.read_text() == BOX


def test_all_guesses_are_taken_but_those_that_cannot_be_learned(ovek):
    # What seems to be free stands in a line with a field twice: it is told, and the rest is taken.
    text = BOX.replace("q2> startup", "q2> sum nand:q2-2.8.bin\n" + "a" * 64 + "\nq2> startup")
    ovek.write("s.txt", text)
    done = ovek("sheet", "learn", "q", "s.txt", "--take", "all")
    assert "<<sha256=" in (ovek.folder / "sheets/q.sessions/s.txt").read_text()
    assert done.stdout.startswith("q: whole session parsed")


def test_two_digest_commands_of_one_form_stay_two_questions(ovek):
    digests = "".join(
        f"q2> sum {name} nand:q2-2.8.bin\n<<{name}={sign * length}>>\n"
        for name, sign, length in (("sha256", "b", 64), ("md5", "c", 32))
    )
    ovek.write("s.txt", BOX + digests)
    ovek("sheet", "learn", "q", "s.txt")
    sheet = tomllib.loads((ovek.folder / "sheets/q.toml").read_text())["reading"]
    asks = {one["ask"]: one.get("digests") for one in sheet["question"] if one["fills"] == "digest"}
    assert asks == {
        "sum sha256 {volume}:{path}": ["sha256"], "sum md5 {volume}:{path}": ["md5"],
    }  # fmt: skip


def test_a_digest_that_goes_on_below_its_mark_is_read_whole(ovek):
    digest = "0123456789abcdef" * 8
    said = f"q2> sum nand:q2-2.8.bin\n<<sha512={digest[:64]}>>\n{digest[64:]}\n"
    ovek.write("s.txt", BOX + said)
    ovek("sheet", "learn", "q", "s.txt")
    tried = ovek.json("sheet", "try", "q", "s.txt")
    (one,) = [each for each in tried["questions"] if each["fills"] == "digest"]
    assert one["fields"][0]["sha512"] == digest


def test_an_unmarked_session_is_told_of_what_finds_marks(ovek):
    ovek.write("s.txt", unmarked(BOX)[0])
    told = ovek.refuses("sheet", "learn", "q", "s.txt")
    assert "--ask" in told and "--take all" in told


def test_a_mark_that_would_come_out_elsewhere_is_refused_with_its_line(ovek):
    # Two values written alike, with nothing above that tells them apart.
    said = "q2> boots\nbank: <<default_bank.live=a>>\nbank: <<default_bank.saved=b>>\n"
    banks = "q2> banks\n<<bank=a>>  <<bank.version=1.0>>\nb  1.1\n"
    ovek.write("s.txt", BOX.partition("q2> startup")[0] + banks + said)
    told = ovek.refuses("sheet", "learn", "q", "s.txt")
    assert "s.txt, line 13: <<default_bank.live=a>> would not be parsed as" in told
    # With a heading above each they are.
    said = said.replace("\nbank: <<default_bank.saved", "\nAs saved\nbank: <<default_bank.saved")
    ovek.write("s.txt", BOX.partition("q2> startup")[0] + banks + said)
    ovek("sheet", "learn", "q", "s.txt", exits=None)
    tried = ovek.json("sheet", "try", "q", "s.txt", exits=None)
    (one,) = [each for each in tried["questions"] if each["fills"] == "boot"]
    (row,) = one["fields"]
    assert (row["default_bank.live"], row["default_bank.saved"]) == ("a", "b")


def test_two_answers_that_each_tell_a_boot_order_are_told_apart_by_a_mark_in_what_is_typed(ovek):
    both = BOX.replace("q2> startup", "q2> startup now").replace("nand:q2-2.8.bin>>\n",
        "nand:q2-2.8.bin>>\nq2> startup kept\n<<place=nand:q2-2.8.bin>>\n")  # fmt: skip
    ovek.write("s.txt", both)
    shown = ovek("sheet", "learn", "q", "s.txt", exits=1).stdout
    assert "whether 'startup now' shows the live or the saved boot order" in " ".join(shown.split())
    told = both.replace("startup now", "startup <<list(live)=now>>")
    ovek.write("s.txt", told.replace("startup kept", "startup <<list(saved)=kept>>"))
    ovek("sheet", "learn", "q", "s.txt")
    sheet = tomllib.loads((ovek.folder / "sheets/q.toml").read_text())["reading"]
    fixed = {one["ask"]: one["fixed"] for one in sheet["question"] if one["fills"] == "order"}
    assert fixed == {"startup now": {"list": "live"}, "startup kept": {"list": "saved"}}


@pytest.mark.parametrize(("covers", "saved"), [("configuration", True), ("both", False)])
def test_unsaved_changes_cost_the_saved_order_where_they_may_be_of_it(ovek, covers, saved):
    said = "q2> state\nChanges: <<unsaved_changes(yes)=pending>>\n"
    ovek.write("s.txt", BOX + said)
    ovek("sheet", "learn", "q", "s.txt")
    file = ovek.folder / "sheets/q.toml"
    text = file.read_text()
    assert 'unsaved_covers = "both"' in text  # what promises less
    file.write_text(text.replace('unsaved_covers = "both"', f'unsaved_covers = "{covers}"'))
    fleet_of(ovek, "q")
    ovek.write("plain.txt", unmarked(BOX + said)[0])
    ovek("survey", "--capture", "plain.txt", exits=None)
    order = state(ovek)["members"][0]["boot"]["order"]
    assert order["live"] and (order.get("saved") is not None) == saved


def test_a_mark_that_says_only_which_volume_cannot_be_read_asks_which_can(ovek):
    front, _, behind = BOX.partition("drive  bytes")
    behind = behind.partition("q2> look")[2]
    rows = (
        "Drive <<volume=nand>>\n  <<capacity=262144>> bytes, <<free=90112>> free\n  it is sound\n"
        "Drive card\n  it is <<state(absent)=gone>>\nq2> look"
    )
    ovek.write("s.txt", front + rows + behind)
    shown = " ".join(ovek("sheet", "learn", "q", "s.txt", exits=1).stdout.split())
    assert "which volumes can be read (a mark says only which cannot)" in shown
    rows = rows.replace("it is sound", "it is <<state(ok)=sound>>")
    ovek.write("s.txt", front + rows + behind)
    ovek("sheet", "learn", "q", "s.txt", exits=None)
    text = (ovek.folder / "sheets/q.toml").read_text()
    assert 'words.state = { sound = "ok", gone = "absent" }' in text


def test_a_line_that_may_part_two_lists_is_asked_about_with_the_mark_that_says_which(ovek):
    more = "nand:q2-2.8.bin>>\nAs kept\nnand:q2-2.8.bin\n"
    ovek.write("s.txt", BOX.replace("nand:q2-2.8.bin>>\n", more))
    shown = ovek("sheet", "learn", "q", "s.txt", exits=1).stdout
    assert "mark: <<list(live|saved)=As kept>> or <<skip=As kept>>" in shown
    # What stands above the first entry, or below the last one, parts nothing.
    ovek.write("t.txt", BOX.replace("q2> startup\n", "q2> startup\nIn turn\n") + "That is all.\n")
    ovek("sheet", "learn", "q4", "t.txt")


def test_a_prompt_that_the_sheet_does_not_know_is_shown_after_one_try(ovek, monkeypatch):
    learned(ovek, "corrie")
    file = ovek.folder / "sheets/corrie.toml"
    file.write_text(re.sub(r"(?m)^prompt = .*$", 'prompt = "nobody> "', file.read_text()))
    device = Served(MAKERS["corrie"])
    monkeypatch.setenv("OVEK_PASSWORD", "a secret")
    fleet_of(ovek, "corrie", host="127.0.0.1", port=device.port, user="reader")
    asked = ("survey", "--take-new-keys", "--login-limit", "1", "--format", "json")
    (one,) = json.loads(ovek(*asked, exits=3).stdout)["devices"]
    assert "no prompt recognised within 1 s; the last text received is '" in one["problem"]
    assert one["tries"] == 1
    assert one["do"] == "Change `prompt` in the sheet to match this text"

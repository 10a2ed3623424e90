"""Sheets, answers and saved sessions: what is understood, and what stays not known."""

import asyncio
import gzip
import json
import tomllib
from importlib import resources

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from builders import NOW, digest
from builders.session import SESSION
from ovek.files.errors import InputError
from ovek.files.evidence import read_evidence, write_evidence
from ovek.files.journal import Journal, unfinished
from ovek.files.sheets import find_sheet
from ovek.model.sheet import Question, Reading, Sheet
from ovek.model.snapshot import Device
from ovek.sources.capture import answers_of, asking
from ovek.sources.clean import plain, without_echo
from ovek.sources.device_session import Interview, WantedDigests
from ovek.sources.rows import Rows, rows_of
from ovek.sources.snapshot_builder import Draft, DraftError, understood

FILES = r"""
Value SIZE (\d+)
Value MODIFIED (\S+ \S+|never)
Value PATH (\S.*)

Start
  ^Files:
  ^ *${SIZE} +${MODIFIED} +${PATH}$$ -> Record
"""


def question(**more):
    more.setdefault("name", "files")
    more.setdefault("ask", "files {volume}")
    more.setdefault("each", "volume")
    more.setdefault("fills", "file")
    more.setdefault("template", FILES)
    return Question(**more)


def filled(one, text, **context):
    """The draft that one answer gives, as plain data by member."""
    draft = Draft(new_sheet(), NOW)
    draft.member("1")
    context = {"member": "1", "volume": "flash", **context}
    try:
        draft.fill(one, context, understood(one, context, rows_of(one, text), draft.clock))
    except DraftError as error:
        draft.problems.append(f"{one.name}: {error}")
    return draft


def files_of(draft):
    return draft.members["1"]["volumes"][0].get("files")


@pytest.mark.parametrize(
    ("raw", "seen"),
    [
        ("a\r\nb\r\n", "a\nb\n"),
        ("\x1b[1;31mred\x1b[0m", "red"),
        ("\x1b]0;title\x07text", "text"),
        ("abc\b\b\bxyz", "xyz"),
        ("10 percent\r99 percent\rdone\n", "doneercent\n"),
        ("a\x00b\x07", "ab"),
        ("--more--\b\b\b\b\b\b\b\b        \b\b\b\b\b\b\b\bnext", "next"),
    ],
)
def test_text_is_what_a_person_would_have_seen(raw, seen):
    assert plain(raw) == seen


@given(st.text())
def test_plain_text_holds_no_control_character(text):
    assert not any(ord(char) < 32 and char not in "\n\t" for char in plain(text))


def test_the_echo_of_the_question_is_dropped():
    assert without_echo("tell files\nanswer", "tell files") == "answer"
    assert without_echo("answer", "tell files") == "answer"


def test_rows_fill_files_with_units_and_dates():
    one = question(dates={"modified": "%d/%m/%y %H:%M"}, units={"size": "KiB"})
    draft = filled(one, "Files:\n  4 02/03/26 21:14 a b.img\n")
    assert files_of(draft) == [
        {
            "path": "a b.img",
            "size": 4096,
            "size_step": 1024,
            "modified": "2026-03-02T21:14:00+00:00",
        }
    ]


def test_an_understood_answer_without_rows_is_known_to_be_none():
    assert files_of(filled(question(), "Files:\n")) == []


def test_a_line_that_nothing_understands_leaves_the_answer_not_known():
    draft = filled(question(), "Files:\n5 2026-01-01 00:00 a\n!! short read\n")
    assert draft.members == {"1": {"id": "1"}}
    assert "'!! short read'" in draft.problems[0]


def test_a_line_that_the_terminal_wrapped_is_joined():
    one = question(dates={"modified": "%Y-%m-%d %H:%M"})
    draft = filled(one, "Files:\n5 2026-01-0\n1 00:00 a.img\n")
    assert [file["path"] for file in files_of(draft)] == ["a.img"]


def test_words_are_mapped_and_an_unknown_word_is_a_problem():
    template = (
        "Value VOLUME (\\S+)\nValue STATE (\\S+)\n\nStart\n  ^${VOLUME} ${STATE}$$ -> Record\n"
    )
    one = question(fills="volume", template=template, words={"state": {"fine": "ok"}})
    assert filled(one, "flash fine").members["1"]["volumes"][0]["state"] == "ok"
    draft = filled(one, "flash odd")
    assert "'odd'" in draft.lost[0]
    assert draft.members["1"]["volumes"] == [{"name": "flash"}]


def test_a_value_that_means_nothing_is_left_out():
    draft = filled(question(none=("never",)), "5 never a.img")
    assert files_of(draft) == [{"path": "a.img", "size": 5}]


def test_facts_that_contradict_each_other_lose_one_of_them_and_no_more():
    draft = Draft(new_sheet(), NOW)
    draft.take("volume", [{"volume": "flash", "capacity": 1, "free": 2, "state": "ok"}])
    volume = draft.finished(json.loads(line_of("a"))).members[0].volumes[0]
    assert (volume.capacity, volume.free, volume.state) == (1, None, "ok")
    assert "2 bytes free of 1" in draft.lost[0]


SHIPPED = ("oxwick-40", "tolvane-8", "merrowby-m", "pellard-9", "linux-grub", "linux-u-boot")


@pytest.mark.parametrize("name", SHIPPED)
def test_the_sheets_that_ship_are_right(ovek, name):
    file = find_sheet(ovek.folder, name)
    assert f"{name}: no mistakes (" in ovek("sheet", "check", str(file)).stdout


def test_no_sheet_has_a_place_for_a_change():
    fields = set(Question.__struct_fields__) | set(Reading.__struct_fields__)
    assert not {"set", "write", "run", "do", "enable"} & fields


def test_a_new_sheet_is_right_and_understands_its_own_kind_of_session(ovek):
    ovek("sheet", "new", "box")
    ovek("sheet", "check", "sheets/box.toml")
    ovek.write("session.txt", SESSION)
    shown = ovek("sheet", "try", "box", "session.txt").stdout
    assert "whole session parsed, no fact missing" in shown
    assert "path=image-3.1.img" in shown
    assert "already" in ovek.refuses("sheet", "new", "box")


def test_a_trial_shows_what_was_not_understood_and_what_is_missing(ovek):
    ovek("sheet", "new", "box")
    ovek.write("session.txt", SESSION.replace("flash 1000 400", "flash: a lot"))
    shown = ovek("sheet", "try", "box", "session.txt", exits=1).stdout
    assert "not parsed:" in shown
    assert "'flash: a lot'" in shown
    assert "MISSING FACTS" in shown
    trial = ovek.json("sheet", "try", "box", "session.txt", exits=1)
    assert trial["missing"] == ["member 1: volumes or banks"]


def test_a_trial_takes_a_session_saved_as_utf16(ovek):
    ovek("sheet", "new", "box")
    ovek.write("session.txt", SESSION.encode("utf-16"))
    ovek("sheet", "try", "sheets/box.toml", "session.txt")


MISTAKES = {
    'fills = "order"': ('fills = "orders"', "'orders' is not valid here"),
    "${MODEL}": ("${MODELS}", "not TextFSM"),
    "(\\S+:\\S+)": ("(\\S+", "not TextFSM"),
    "columns.MODEL": ("columns.MODELL", "'MODELL'"),
    'columns.VERSION = "running.version"': (
        'columns.VERSION = "running.versions"',
        "'running.versions'",
    ),
    "files {volume}": ("files {store}", "{store}"),
    "[A-Za-z0-9._-]+[>#] ?": ("[A-Z", "regular expression"),
    'ask = "boot"': ('ask = "boot\\nnow"', "line end"),
    'name = "volumes"': ('name = "system"', "twice"),
}


@pytest.mark.parametrize("right", MISTAKES)
def test_a_mistake_in_what_is_asked_is_named(ovek, right):
    wrong, told = MISTAKES[right]
    ovek("sheet", "new", "box")
    file = ovek.folder / "sheets/box.toml"
    assert right in file.read_text()
    file.write_text(file.read_text().replace(right, wrong))
    done = ovek("sheet", "check", "sheets/box.toml", exits=2)
    assert told in done.stderr
    assert "box.toml" in done.stderr


def test_an_unknown_sheet_and_a_bad_name_are_told(ovek):
    assert "'nothing'" in ovek.refuses("sheet", "try", "nothing", "x")
    assert "valid sheet name" in ovek("sheet", "new", "../x", exits=2).stderr


def test_in_a_saved_session_the_last_answer_counts():
    answers = answers_of(["box# a\none\nbox#  a\ntwo\nbox# ", "box# b\nthree"], asks("a", "b"))
    assert answers.answers == {"a": "\ntwo\n", "b": "\nthree"}


def asks(*questions, prompt="box# "):
    """A reading that asks these."""
    return Reading(
        prompt=prompt,
        question=tuple(
            Question(
                name=ask,
                ask=ask,
                fills="digest",
                each="image" if "{" in ask else "device",
                template="Value MD5 (x)\n\nStart\n",
            )
            for ask in questions
        ),
    )


def test_a_file_that_looks_like_a_prompt_ends_no_answer():
    session = "box> list\nmy file> b\nlog#1 9\nbox.old> x\nbox(deep)> other\nno\nbox> list b\nb\n"
    reading = asks("list", "list {path}", prompt=Reading().prompt)
    assert answers_of([session], reading).answers == {
        "list": "\nmy file> b\nlog#1 9\nbox.old> x\n",
        "other": "\nno\n",
        "list b": "\nb\n",
    }


def captured(ovek, name, text, **more):
    ovek.write("sheets/box.toml", "")
    (ovek.folder / "sheets/box.toml").unlink()
    ovek("sheet", "new", "box")
    ovek.write("captures/one.txt", text)
    ovek.write(
        "fleet.toml",
        'name = "Test"\n[[device]]\nname = "box"\nsheet = "box"\naccess = ["capture"]\n'
        'capture = ["captures/*.txt"]\n',
    )


def test_a_fleet_is_read_from_saved_sessions(ovek):
    ovek.write("catalog/box.json", json.dumps(BOX_CATALOG))
    captured(ovek, "box", SESSION)
    result = ovek.json("survey")
    assert [one["result"] for one in result["devices"]] == ["read"]
    walk = ovek.json("bootwalk", "box")["devices"][0]
    assert walk["next_boot"] == "proven"
    assert walk["running"] == "3.1"


BOX_CATALOG = {
    "format": "ovek.catalog/1",
    "releases": [
        {"file": "image-3.1.img", "size": 100, "digests": {"sha256": "a" * 64}, "version": "3.1"}
    ],
}


def test_a_session_that_lacks_answers_gives_half_a_device(ovek):
    captured(ovek, "box", SESSION.split("box# boot")[0])
    result = ovek.json("survey", exits=3)["devices"][0]
    assert result["result"] == "partly read"
    assert result["missing"] == ["member 1: the boot settings"]
    assert ovek.json("bootwalk", "box")["devices"][0]["next_boot"] == "unknown"


def test_ways_add_only_what_the_ones_before_left_open():
    sheet = new_sheet()
    one = Interview("box", sheet, WantedDigests((), {}, everything=True), NOW)
    reading = replace(sheet.reading, prompt="box# ")
    first, rest = SESSION.split("box# boot")
    asyncio.run(one.run(asking(answers_of([first], reading))))
    asyncio.run(one.run(asking(answers_of([f"{first}box# boot{rest}"], reading))))
    member = one.draft.members["1"]
    assert [entry["told"] for entry in member["boot"]["order"]["saved"]] == ["flash:image-3.1.img"]
    assert len(member["volumes"][0]["files"]) == 2
    assert [answer.name for answer in one.evidence].count("files") == 1


def test_a_capture_that_leaves_the_site_or_is_not_there_is_told(ovek):
    captured(ovek, "box", SESSION)
    for glob, told in (("../*.txt", "is outside the site folder"), ("none/*.txt", "no file ")):
        file = ovek.folder / "fleet.toml"
        file.write_text(file.read_text().replace("captures/*.txt", glob))
        result = ovek.json("survey", exits=3)["devices"][0]
        assert result["result"] == "not read"
        assert told in result["problem"]
        file.write_text(file.read_text().replace(glob, "captures/*.txt"))


def test_a_folder_is_read_as_a_volume_with_digests(ovek):
    captured(ovek, "box", SESSION)
    ovek.write("stick/deep/image-3.1.img", "an image")
    ovek.write("catalog/box.json", json.dumps(BOX_CATALOG))
    (ovek.folder / "stick/link").symlink_to("/etc/passwd")
    file = ovek.folder / "fleet.toml"
    file.write_text(
        file.read_text().replace('"capture"]', '"capture", "folder"]\nfolder = "stick"')
    )
    ovek("survey")
    newest = max((ovek.folder / "snapshots").glob("2*.jsonl"))
    device = json.loads(newest.read_text())
    stick = device["members"][0]["volumes"][1]
    assert stick["name"] == "stick"
    assert [one["path"] for one in stick["files"]] == ["deep/image-3.1.img"]
    assert stick["files"][0]["digests"] == {"sha256": digest("an image", "sha256")}


def asked_of(said, wanted):
    """What is asked of a box whose answers are these."""
    asked = []

    async def ask(one, text, expected):
        asked.append(text)
        return await asking(said)(one, text, expected)

    asyncio.run(Interview("box", new_sheet(), wanted, NOW).run(ask))
    return asked


def new_sheet():
    """The sheet that `ovek sheet new` starts with."""
    start = (resources.files("ovek.files") / "new-sheet.toml").read_text()
    return msgspec.convert(tomllib.loads(start), Sheet)


def test_a_name_that_is_not_safe_is_never_sent():
    evil = "image-1; reboot.img"
    said = answers_of([SESSION.replace("site.cfg", evil)], new_sheet().reading)
    wanted = WantedDigests((), {}, everything=True)
    asked = asked_of(said, wanted)
    assert not any("reboot" in text for text in asked)
    session = SESSION.replace("image-3.1.img", "image-3.1$(id).img")
    said = answers_of([session], new_sheet().reading)
    asked = asked_of(said, wanted)
    assert not any("$" in text for text in asked)


def test_digests_that_the_catalog_cannot_use_are_not_asked_for():
    said = answers_of([SESSION], new_sheet().reading)
    asked = asked_of(said, WantedDigests((), {}))
    assert not any(text.startswith("digest") for text in asked)


def test_evidence_comes_back_as_it_was_kept(tmp_path):
    file = tmp_path / "a.json.gz"
    write_evidence(file, {"device": "a"}, [{"name": "x", "text": "ü\x1b"}])
    assert read_evidence(file)["answers"] == [{"name": "x", "text": "ü\x1b"}]
    for data in (b"", b"x", gzip.compress(b"{}"), gzip.compress(b"x")):
        file.write_bytes(data)
        with pytest.raises(InputError):
            read_evidence(file)


def line_of(name):
    return json.dumps(
        {
            "format": "ovek.snapshot/1",
            "device": name,
            "sheet": "s",
            "taken_at": "2026-01-01T00:00:00Z",
        }
    )


def test_a_journal_that_was_cut_off_loses_no_finished_device(tmp_path):
    snapshot = tmp_path / "a.jsonl"
    journal = Journal(snapshot)
    for name in ("b", "a"):
        journal.add(f"{line_of(name)}\n".encode(), name)
    journal.close()
    with journal.file.open("ab") as stream:
        stream.write(line_of("c").encode()[:20])
    assert unfinished(tmp_path) == snapshot
    again = Journal(snapshot)
    assert again.names == {"a", "b"}
    again.finish(["a", "b", "c"])
    assert [json.loads(line)["device"] for line in snapshot.read_text().splitlines()] == ["a", "b"]
    assert list(tmp_path.iterdir()) == [snapshot]


LISTS = {
    "name,host\nsw,192.0.2.1\nnew,192.0.2.2": (3, "sheet"),
    "host\nx": (1, "no column 'name'"),
    "name,colour\nsw,red": (1, "'colour'"),
    "name,port\nsw,many": (2, "port"),
    "name,port\nsw,99999": (2, "65535"),
    "name,host\nsw": (2, "1 cells"),
    "name\nsw\nsw": (3, "line 2"),
    'name\n"sw': (2, "CSV"),
}


@pytest.mark.parametrize("text", LISTS)
def test_a_bad_list_of_devices_is_told(ovek, text):
    line, told = LISTS[text]
    fleet = ovek.folder / "fleet.toml"
    fleet.write_text('lists = ["list.csv"]\n' + fleet.read_text())
    ovek.write("list.csv", text)
    message = ovek.refuses("audit")
    assert f"list.csv, line {line}" in message
    assert told in message


def test_a_list_adds_devices_and_facts(ovek):
    fleet = ovek.folder / "fleet.toml"
    fleet.write_text('lists = ["list.csv"]\n' + fleet.read_text())
    ovek.write(
        "list.csv",
        "\ufeffname,sheet,access,capture\r\nsw,,,\r\nmore,switch,capture,a.txt b.txt\r\n",
    )
    assert [one["device"] for one in ovek.json("audit", exits=3)["not_read"]] == ["more"]


def test_rows_that_a_way_made_itself_need_no_template():
    draft = Draft(new_sheet(), NOW)
    draft.take("file", [{"volume": "flash", "path": "a", "size": 1}])
    draft.take("digest", [{"volume": "flash", "path": "a", "md5": "0" * 32}])
    head = json.loads(line_of("a"))
    device = draft.finished(head)
    assert isinstance(device, Device)
    assert device.members[0].volumes[0].files[0].digests.md5 == "0" * 32
    assert Rows(()).strange == ()

"""Every file of a site: what is read, and the one clear message where it is not right."""

import json
import os
import subprocess
from pathlib import Path

import msgspec
import pytest

from builders import NOW, device, digest, image, member
from ovek.files.catalog import read_catalog
from ovek.files.errors import InputError
from ovek.files.importers import digestlist
from ovek.files.schema import SCHEMAS, schema_text
from ovek.files.snapshot import read_snapshot, write_snapshot
from ovek.files.toml_lines import line_of
from ovek.model.catalog import Published
from ovek.model.digest import Digests

HEAD = '"format":"ovek.snapshot/1","sheet":"switch","taken_at":"2026-03-02T21:14:05Z"'


def line(more: str = "", name: str = "sw") -> str:
    return f'{{"device":"{name}",{HEAD}{"," if more else ""}{more}}}'


def volume(more: str) -> str:
    return line(f'"members":[{{"id":"1","volumes":[{{"name":"flash",{more}}}]}}]')


BAD_SNAPSHOTS = {
    "JSON": (line() + "\n{nonsense", ["line 2", "damaged"]),
    "cut off": (line()[:-5], ["line 1", "damaged"]),
    "no object": ("[1]", ["line 1", "met [1]", "object"]),
    "wrong type": (volume('"free":"much"'), ["members[0].volumes[0].free", "'much'", "number"]),
    "unknown key": (volume('"fre":1'), ["members[0].volumes[0].fre", "unknown"]),
    "missing key": ('{"format":"ovek.snapshot/1"}', ["key device", "missing", "Add it"]),
    "negative size": (volume('"free":-5'), ["line 1", "free", "met -5", "0 or more"]),
    "huge size": (volume(f'"free":{10**30}'), ["free", "whole number"]),
    "fraction": (volume('"free":1.5'), ["met 1.5"]),
    "digest too short": (
        volume('"files":[{"path":"a","digests":{"md5":"abc"}}]'),
        ["files[0].digests.md5", "'abc'", "32"],
    ),
    "digest not hex": (
        volume(f'"files":[{{"path":"a","digests":{{"md5":"{"g" * 32}"}}}}]'),
        ["files[0].digests.md5", "hex"],
    ),
    "digest with a line feed": (
        volume(f'"files":[{{"path":"a","digests":{{"md5":"{"a" * 32}\\n"}}}}]'),
        ["digests.md5"],
    ),
    "unknown word": (volume('"state":"fine"'), ["state", "'fine'", "unreadable"]),
    "no place": (
        line('"members":[{"id":"1","components":[{"component":"web","loads_from":"web.pkg"}]}]'),
        ["components[0]", "web.pkg", "volume:path"],
    ),
    "two lines for one device": (line() + "\n" + line(), ["line 2", "'sw'", "line 1"]),
    "one file twice": (volume('"files":[{"path":"a"},{"path":"a"}]'), ["'a'", "twice"]),
    "one member twice": (line('"members":[{"id":"1"},{"id":"1"}]'), ["'1'", "twice"]),
    "empty": ("", ["empty"]),
    "only blanks": ("\n \n", ["empty"]),
    "another version": (
        line().replace("snapshot/1", "snapshot/2"),
        ["key format", "'ovek.snapshot/2'", "ovek.snapshot/1"],
    ),
    "another format": ('{"format":"ovek.catalog/1"}', ["key format", "ovek.catalog/1"]),
    "not UTF-8": (line().encode().replace(b"sw", b"s\xff", 1), ["line 1", "0xff", "UTF-8"]),
    "UTF-16": (line().encode("utf-16"), ["UTF-16"]),
    "free larger than capacity": (volume('"free":2,"capacity":1'), ["volumes[0]", "2", "1"]),
    "a time without a zone": (
        line().replace("05Z", "05"),
        ["taken_at", "2026-03-02T21:14:05"],
    ),
    "nested without end": ("[" * 100_000, ["line 1"]),
    "sheet unknown": (line().replace("switch", "sw/../x"), ["sheet", "sw/../x"]),
}


@pytest.mark.parametrize("what", BAD_SNAPSHOTS)
def test_a_bad_snapshot_is_one_message_and_exit_code_two(ovek, what):
    text, told = BAD_SNAPSHOTS[what]
    ovek.write("snapshots/now.jsonl", text)
    message = ovek.refuses("audit")
    assert "now.jsonl" in message
    for words in told:
        assert words in message, message


BAD_FILES = {
    "fleet.toml": {
        "": ["empty"],
        "name = ": ["line 1", "invalid TOML"],
        'name = "x"\nbogus = 1': ["bogus", "unknown"],
        "name = 5": ["key name", "met 5", "text"],
        'name = "x"\n[[device]]\nname = "a"\nsheet = "s"\n[[device]]\nname = "a"\nsheet = "s"': [
            "'a'",
            "twice",
        ],
        'name = "x"\nformat = "ovek.fleet/9"': ["ovek.fleet/9", "ovek.fleet/1"],
        b"name = '\xff'": ["line 1", "0xff"],
    },
    "policy.toml": {
        "keep = 0": ["key keep", "met 0"],
        'reserve = "much"': ["'much'", "64MiB"],
        'reserve = "120%"': ["120%", "at most 100%"],
        "keeps = 2": ["keeps", "unknown"],
    },
    "sheets/switch.toml": {
        'format = "ovek.sheet/1"': ["name", "missing"],
    },
    "catalog/list.json": {
        "": ["empty"],
        "{": ["line 1", "JSON"],
        '{"format":"ovek.catalog/1","releases":[\n\n{"file":"b","size":-1}]}': [
            "line 3",
            "releases[0].size",
            "met -1",
        ],
        '{"format":"ovek.catalog/1","releases":[{"file":"a/b"}]}': ["releases[0].file", "'a/b'"],
        '{"format":"ovek.catalog/7","releases":[]}': ["ovek.catalog/7"],
    },
    "catalog/list.md5": {
        "": ["empty"],
        "abc  a.img": ["line 1", "3 characters", "32 (MD5)"],
        f"{'g' * 32}  a.img": ["line 1", "0-9"],
        f"# so\n{'a' * 32}": ["line 2", "file name"],
        f"\\{'a' * 32}  a\\x.img": ["line 1", "\\x"],
    },
    "catalog/notes.doc": {"x": [".doc", ".json"]},
}


@pytest.mark.parametrize(
    ("name", "text"), [(name, text) for name, texts in BAD_FILES.items() for text in texts]
)
def test_a_bad_file_of_a_site_is_one_message_and_exit_code_two(ovek, name, text):
    ovek.write(name, text)
    message = ovek.refuses("audit")
    assert name in message
    for words in BAD_FILES[name][text]:
        assert words in message, message


def test_a_bad_release_of_a_catalog_costs_itself(ovek):
    good, bad = '{"file":"a"}', '{"file":"b","size":-1}'
    ovek.write("catalog/more.json", f'{{"format":"ovek.catalog/1","releases":[\n{good},\n{bad}]}}')
    told = ovek("audit").stderr
    assert "line 3, key releases[1].size: met -1." in told
    assert "That line is ignored." in told
    assert ovek("catalog", "show", "a").stdout.startswith("a")


SHEET_MISTAKES = {
    'layout = "files"': ('layout = "tree"', ["boot.layout", "'tree'", "banks, files, paired"]),
    'fallback = "none"': ('fallback = "other-bank"', ["other-bank", "banks or paired"]),
    "names = ['sw": ("names = ['(sw", ["regular expression"]),
    "<version>": ("<build>", ["'build'", "family, variant, version"]),
    "leftover =": ("leftovers =", ["roles", "'leftovers'", "crash-file"]),
    'name = "switch"': ('name = "other"', ["key name", "'other'", "switch.toml"]),
}


@pytest.mark.parametrize("right", SHEET_MISTAKES)
def test_a_mistake_in_a_sheet_is_named(ovek, right):
    wrong, told = SHEET_MISTAKES[right]
    file = ovek.folder / "sheets/switch.toml"
    assert right in file.read_text()
    file.write_text(file.read_text().replace(right, wrong))
    message = ovek.refuses("audit")
    for words in told:
        assert words in message, message


def test_what_is_no_file_is_passed_over(ovek):
    os.mkfifo(ovek.folder / "snapshots/pipe.jsonl")
    os.mkfifo(ovek.folder / "catalog/pipe.json")
    ovek("audit")


def test_a_folder_that_is_no_site_is_told(ovek, tmp_path):
    assert "fleet.toml" in ovek.refuses("audit", "--site", str(tmp_path / "nowhere"))


def test_a_site_without_a_snapshot_is_told(ovek):
    (ovek.folder / "snapshots/now.jsonl").unlink()
    assert "--snapshot FILE" in ovek.refuses("audit")


def test_a_snapshot_that_is_not_there_is_told(ovek):
    assert "gone.jsonl" in ovek.refuses("audit", "--snapshot", "gone.jsonl")
    assert "directory" in ovek.refuses("audit", "--snapshot", ".")


def test_the_newest_snapshot_is_the_one_read_last_whatever_it_is_called(ovek):
    older = device(member(image("1.0")), device="older")
    newer = device(member(image("1.0")), device="newer")
    ovek.snapshot(msgspec.structs.replace(older, taken_at=NOW.replace(year=2025)), name="z.jsonl")
    ovek.snapshot(msgspec.structs.replace(newer, taken_at=NOW.replace(year=2027)), name="a.jsonl")
    ovek.fleet("sw")
    assert [each["device"] for each in ovek.json("audit", exits=1)["devices"]] == ["sw", "newer"]


def test_a_snapshot_that_is_written_reads_back_alike(tmp_path):
    whole = device(member(image("1.0"), boots=("flash:sw-1.0.img",), mode="listed"))
    write_snapshot(tmp_path / "a.jsonl", [whole])
    assert list(read_snapshot(tmp_path / "a.jsonl")) == [whole]


def test_a_write_that_fails_leaves_what_was_there(tmp_path):
    file = tmp_path / "a.jsonl"
    file.write_text("before")

    def failing():
        yield device(member())
        raise RuntimeError

    with pytest.raises(RuntimeError):
        write_snapshot(file, failing())
    assert file.read_text() == "before"
    assert list(tmp_path.iterdir()) == [file]


def test_every_release_remembers_its_line(tmp_path):
    file = tmp_path / "list.json"
    releases = [{"file": name} for name in ("a", "b", "a b")]
    catalog = {"format": "ovek.catalog/1", "releases": releases, "publisher": "P"}
    file.write_text(json.dumps(catalog, indent=1))
    lines = file.read_text().splitlines()
    for entry in read_catalog(file):
        assert isinstance(entry, Published)
        assert f'"file": "{entry.release.file}"' in lines[entry.origin.line]


NAMES = ["plain.img", "with blank.img", "back\\slash", "line\nfeed", "*star", " lead", "ünï.img"]


@pytest.mark.parametrize("program", ["md5sum", "sha1sum", "sha256sum", "sha512sum"])
@pytest.mark.parametrize("mode", ["--text", "--binary"])
def test_digest_lists_are_read_as_the_checksum_programs_write_them(tmp_path, program, mode):
    for name in NAMES:
        (tmp_path / name).write_text(name)
    files = sorted(NAMES)
    done = subprocess.run(
        [program, mode, "--", *files], cwd=tmp_path, capture_output=True, check=True
    )
    listing = tmp_path.parent / f"{tmp_path.name}.txt"
    listing.write_bytes(done.stdout)
    algorithm = program.removesuffix("sum")
    found = {one.release.file: one.release.digests for one in digestlist.read(listing)}
    assert found == {name: Digests(**{algorithm: digest(name, algorithm)}) for name in files}


def test_a_digest_list_tolerates_what_people_do_to_it(tmp_path):
    file = tmp_path / "list.md5"
    file.write_bytes(
        b"\xef\xbb\xbf# note\r\n\r\n" + b"A" * 32 + b"\tdir/a.img\r\n" + b"b" * 32 + b" b.img"
    )
    found = list(digestlist.read(file))
    assert [(one.release.file, one.origin.line) for one in found] == [("a.img", 3), ("b.img", 4)]
    assert found[0].release.digests.md5 == "a" * 32


@pytest.mark.parametrize("name", SCHEMAS)
def test_published_schemas_are_those_of_the_code(name):
    root = Path(__file__).parent.parent
    for folder in (root / "src/ovek/files/schemas", root / "docs/schemas"):
        assert (folder / name).read_text() == schema_text(name), "run scripts/write_schemas.py"


def test_an_input_error_says_where_what_and_what_to_do():
    error = InputError("a.toml", "met 5", "Give a text", line=3, key="name")
    assert str(error) == "a.toml, line 3, key name: met 5. Give a text."


TOML = """\
format = "ovek.policy/1"
kepp = 2

[[reload_in]]
site = "A"
when = "in port"

[[reload_in]]
site = "B"
days = "sat"
from = "26:00"
to = "04:00"

[[want]]
device = "a"
bank_rule = "mach"
"""


def test_what_is_wrong_in_a_toml_file_is_told_at_once_each_with_its_line(ovek):
    ovek.write("policy.toml", TOML)
    told = ovek("runbook", exits=2).stderr.splitlines()
    assert [each.split(": ")[1].split(", key ")[0] for each in told] == [
        "policy.toml, line 2", "policy.toml, line 11", "policy.toml, line 16",
    ]  # fmt: skip
    assert "Did you mean 'keep'?" in told[0] and "Did you mean 'match'?" in told[2]


@pytest.mark.parametrize(
    ("text", "key", "met", "line"),
    [
        ("a = 1\n", "a", "met 1", 1),
        ("a = 1\n[b.c]\nd = 2\n", "b.c.d", "met 2", 3),
        ("[[b]]\nc = 1\n[[b]]\nc = 2\n", "b[1].c", "met 2", 4),
        ("[[b]]\n[[b]]\nd = 2\n", "b[1].c", "missing key 'c'", 2),
        ("b = [\n {c = 1},\n]\n", "b[0].c", "met 1", 1),
        ('[s."x"]\nl = "5 k"\n', "s[...]", "'5 k' is not a valid rate", 2),
        ('[s."x"]\nl = "5 k"\n[s."y"]\nl = "5 k"\n', "s[...]", "'5 k' is not a valid rate", None),
        ("a = 1\n", "z", "missing key 'z'", None),
        ("# a = 1\n'a' = 2\n", "a", "met 2", 2),
    ],
)
def test_the_line_of_a_key_is_told_where_it_is_sure(text, key, met, line):
    assert line_of(text, key, met) == line


@pytest.mark.parametrize(
    ("file", "text", "typed", "now"),
    [
        ("sheets/old.toml", 'name = "old"\ntitle = "x"\n[start]\nlayout = "files"\n',
         ("sheet", "check", "old"), "'boot'"),
        ("catalog/old.json",
         '{"format": "ovek.catalog/1", "releases": [{"file": "a", "fits": []}]}',
         ("catalog", "list"), "'hardware'"),
        ("waivers.toml",
         '[[waiver]]\nrule = "image-cut-short"\ndevice = "*"\nby = "me"\nwhy = "x"\n'
         "until = 2099-01-01\n", ("policy", "check"), "'image-truncated'"),
    ],
)  # fmt: skip
def test_a_name_of_an_earlier_edition_is_refused_with_the_new_one(ovek, file, text, typed, now):
    ovek.write(file, text)
    assert f"It is called {now} now" in ovek(*typed, exits=2).stderr

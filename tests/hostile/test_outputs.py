"""Names that want to be more than names, through every command and every form of its output."""

import json
import re
from pathlib import Path

import msgspec
import pytest

import conftest
from builders import device, flash, member
from ovek.model.snapshot import Bank, BootEntry, Component, File, Setting

# What a terminal obeys, what a page or a spreadsheet runs, and what ends a line, a cell or a fence.
EVIL = "\x1b[2J\u202e\u2028\x9b1m\n```\n| $(reboot) `reboot` <b>&\x07"
# The usual sheet, for any model, with names that may hold anything and a line to type.
SHEET = (
    conftest.SHEET.replace('"SW*"', '"*"')
    .replace("['sw-", "['(?s)sw-")
    .replace(")\\.img']", ").*\\.img']")
    + '[wording]\ndelete = "erase {volume}:{path}"\n'
)


@pytest.fixture
def evil(ovek):
    """A site in which every name is hostile."""
    image = f"sw-1.0{EVIL}.img"
    files = [File(path=image, size=10), File(path=f"a{EVIL}.partial", size=2**20)]
    files += [File(path=f"=cmd{EVIL}.log", size=5), File(path="sw-2.0.img", size=10)]
    volume = msgspec.structs.replace(flash(), name=f"fl{EVIL.replace('/', '')}", files=tuple(files))
    place = f"{volume.name}:{image}"
    one = msgspec.structs.replace(
        member(volumes=(volume,), boots=(place, f"{volume.name}:gone{EVIL}.img")),
        banks=(Bank(name=f"b{EVIL}", version=f"1{EVIL}", places=(place,)),),
        components=(
            Component(component=f"web{EVIL}", loads_from=f"{volume.name}:web/"),
            Component(component=f"loader{EVIL}", version=f"9{EVIL}", slot=f"3{EVIL}"),
        ),
    )
    boot = msgspec.structs.replace(
        one.boot, order=Setting(live=(BootEntry(raw=f"what{EVIL}"),), saved=one.boot.order.saved)
    )
    one = msgspec.structs.replace(one, boot=boot)
    name = f"=de{EVIL}"
    bad = device(one, device=name, running=f"1.0{EVIL}", place=place, site=f"site{EVIL}")
    ovek.write("sheets/switch.toml", SHEET)
    ovek.snapshot(bad, name="now.jsonl")
    ovek.snapshot(device(member(), device=name), name="before.jsonl")
    release = {"file": f"sw-1.0{EVIL}.img", "version": "1.0", "size": 99, "note": EVIL}
    catalog = {"format": "ovek.catalog/1", "publisher": EVIL, "releases": [release]}
    ovek.write("catalog/list.json", json.dumps(catalog))
    told = json.dumps(name)
    ovek.write(
        "fleet.toml", f'name = {json.dumps(EVIL)}\n[[device]]\nname = {told}\nsheet = "switch"\n'
    )
    want = f"target = {json.dumps(f'2.0{EVIL}')}\n"
    ovek.write("policy.toml", want)
    ovek.write("shelf/sw\x1b[2J\u202e.img", b"x")
    return ovek, name, place


COMMANDS = [
    ["audit"],
    ["audit", "-v"],
    ["audit", "--format", "markdown"],
    ["audit", "--format", "csv"],
    ["audit", "--format", "junit"],
    ["audit", "--group-by", "image"],
    ["audit", "--group-by", "rule"],
    ["bootwalk"],
    ["bootwalk", "NAME"],
    ["bootwalk", "NAME", "--delete", "IMAGE"],
    ["cleanup", "--free", "1MiB"],
    ["cleanup", "NAME", "--sweep", "6", "-v"],
    ["cleanup", "NAME", "--free", "1MiB", "--format", "checklist"],
    ["cleanup", "--whole-fleet", "--free", "1MiB"],
    ["audit", "--format", "jsonl"],
    ["audit", "--format", "csv", "--rows", "devices"],
    ["audit", "--where", "site=site*"],
    ["audit", "--where", f"site={EVIL}"],
    ["audit", f"nobody{EVIL}"],
    ["runbook"],
    ["runbook", "--format", "csv"],
    ["runbook", "--format", "markdown"],
    ["where", "*"],
    ["where", "*", "--format", "csv"],
    ["history", "add"],
    ["history", "device", "NAME"],
    ["history", "device", "NAME", "--format", "csv"],
    ["history", "image", "sw-1.0"],
    ["history", "image", f"x{EVIL}"],
    ["history", "finding", "facts-missing"],
    ["history", "trend"],
    ["compare", "snapshots/before.jsonl", "--to", "snapshots/now.jsonl"],
    ["compare", "snapshots/before.jsonl", "snapshots/now.jsonl"],
    ["compare", "--baseline", "x"],
    ["catalog", "list"],
    ["catalog", "show", "sw-1.0"],
    ["catalog", "check"],
    ["catalog", "pick", "NAME"],
    ["shelf"],
    ["custody", "1.0"],
    ["policy", "check"],
    ["policy", "show"],
    ["survey"],
    ["survey", "nobody"],
    ["bootwalk", "nobody"],
    ["report", "--format", "markdown"],
    ["report", "-o", "page.html"],
    ["chart", "flash"],
    ["chart", "versions", "--ascii"],
    ["chart", "verdicts"],
    ["chart", "walk", "NAME"],
    ["chart", "waves"],
    ["chart", "trend"],
    ["chart", "walk", "NAME", "-o", "walk.svg"],
    ["chart", "verdicts", "-o", "verdicts.svg"],
]
PLAIN = re.compile(r"[^\x20-\x7e\n\t]")


@pytest.mark.parametrize("typed", COMMANDS, ids=lambda typed: ascii(" ".join(typed)))
def test_no_output_holds_what_a_terminal_obeys_or_a_page_runs(evil, typed):
    ovek, name, place = evil
    filled = [{"NAME": name, "IMAGE": place}.get(each, each) for each in typed]
    forms = [[]] if "--format" in typed else [[], ["--format", "json"]]
    for form in forms:
        done = ovek(*filled, *form, exits=None)
        assert done.returncode in (0, 1, 2, 3)
        check(done, typed)
        for file in [*ovek.folder.glob("*.html"), *ovek.folder.glob("*.svg")]:
            text = file.read_text()
            odd = {char for char in PLAIN.findall(text) if not char.isprintable()}
            assert not odd and "<b>&" not in text, (file.name, odd)
        if form and done.returncode != 2:
            json.loads(done.stdout)


def check(done, typed):
    """Hold what a command wrote to what its form may hold."""
    for text in (done.stdout, done.stderr):
        odd = {char for char in PLAIN.findall(text) if not char.isprintable() and char != "\r"}
        assert not odd, (typed, odd)
    if "csv" in typed:
        assert not re.search(r'(?m)(^|,)"?[=+@]', done.stdout)
    if "junit" in typed:
        assert "<b>" not in done.stdout
    if "markdown" in typed or "checklist" in typed:
        fences = [line for line in done.stdout.splitlines() if line.strip().startswith("```")]
        assert len(fences) % 2 == 0
        assert not re.search(r"(?<!\\)`reboot|(?<!\\)<b>", done.stdout)
    assert not re.search(r"(?m)^(erase|.*type: ?erase) .*reboot", done.stdout)


def test_a_hostile_name_names_no_file_outside_its_folder(ovek):
    ovek("sheet", "new", "../x", exits=2)
    ovek("sheet", "new", 'a"b', exits=2)
    ovek("compare", "--baseline", "a\x1b", exits=2)
    ovek.write("x.md5", "a" * 32 + "  y.img\n")
    ovek("catalog", "import", "x.md5", "--name", "a\x1bb", exits=2)
    assert not (ovek.folder / "baselines").exists()


def test_a_dollar_in_a_name_is_drawn_as_it_is(ovek):
    volume = flash(File(path="x$^{_\\frac.log", size=10), capacity=1000, free=10)
    ovek.snapshot(device(member(volumes=(volume,)), device="$x^{_$"))
    ovek.write("fleet.toml", 'name = "x"\n')
    ovek("cleanup", "--whole-fleet", "--free", "1KiB", "--figure", "a.png", exits=None)
    assert (ovek.folder / "a.png").read_bytes()[1:4] == b"PNG"


def test_nothing_is_written_but_through_the_one_function_that_makes_it_visible():
    """`say.py` and `_write_line` write text; files and JSON are encoded by their own rules."""
    writing = re.compile(r"click\.s?echo\(|\bprint\(|sys\.std(out|err)\.write\(|console\.print\(")
    found = {
        (file.name, line.strip())
        for file in (Path(conftest.__file__).parent.parent / "src/ovek/cli").glob("*.py")
        for line in file.read_text().splitlines()
        if writing.search(line) and "shown(" not in line and "Shown(" not in line
    }
    assert found == {
        ("say.py", 'click.echo(f"ovek: {visible(text)}", err=True)'),
        ("completion.py", "click.echo(kind(cli, {}, \"ovek\", COMPLETE).source())"),
        ("logs.py", "click.echo(self.format(record), err=True)"),  # as _Line makes it
        ("show.py", 'sys.stdout.write("\\n")'),
        ("show.py", 'sys.stdout.write("".join(f"{each.rstrip()}\\n" for each in drawn))'),
    }  # fmt: skip


def test_a_waiver_and_a_list_of_hosts_show_nothing_that_a_terminal_obeys(ovek):
    told = json.dumps(EVIL)
    ovek.write(
        "waivers.toml",
        f'format = "ovek.waivers/1"\n[[waiver]]\nrule = "no-fallback"\ndevice = "sw"\n'
        f"by = {told}\nwhy = {told}\nuntil = 2099-01-01\n",
    )
    check(ovek("policy", "check", exits=None), ["policy", "check"])
    hosts = "name,sheet\n" + f'"de{EVIL}","ki{EVIL}"\n'.replace("\n", " ").strip() + "\n"
    ovek.write("hosts.csv", hosts)
    check(ovek("init", "new", "--from", "hosts.csv", exits=None), ["init"])


@pytest.mark.parametrize("terminal", [True, False])
def test_what_is_drawn_is_made_visible_whoever_forgot_to(monkeypatch, capsys, terminal):
    from rich.table import Table
    from rich.text import Text

    from ovek.cli.show import write_lines

    table = Table()
    table.add_column(EVIL)
    table.add_row(EVIL)
    monkeypatch.setattr("ovek.cli.show.colour", lambda: "always" if terminal else "never")
    write_lines([EVIL, Text(EVIL, style="bold"), table])
    shown = re.sub(r"\x1b\[[0-9;]*m", "", capsys.readouterr().out)
    assert "\\x1b[2J" in shown
    assert not {char for char in shown if not char.isprintable() and char != "\n"}

"""What a terminal gets: its width, near names, help with examples, colour, completion."""

import contextlib
import os
import pty
import re
import runpy
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import click
import pytest
from click.testing import CliRunner
from msgspec import Struct

from builders import ONE, device, image, member
from conftest import Ovek
from ovek.cli import COMMANDS, cli
from ovek.cli.command import _SAID, Command
from ovek.demo import write_site
from ovek.files.errors import InputError, ManyInputError
from ovek.render.lines import Columns, shortened, width

DIGEST = re.compile(r"[0-9a-f]{32,}")


@pytest.fixture(scope="module")
def sample(tmp_path_factory):
    """The sample site, as `ovek demo` writes it."""
    folder = tmp_path_factory.mktemp("sample") / "site"
    write_site(folder)
    return Ovek(folder)


def commands(group=cli, front=()):
    """Every command with what is typed for it."""
    ctx = click.Context(group)
    for name in group.list_commands(ctx):
        one = group.get_command(ctx, name)
        if isinstance(one, click.Group):
            yield from commands(one, (*front, name))
        else:
            yield (*front, name), one


ALL = dict(commands())
OUTPUTS = [
    "audit", "audit -v", "audit arle-quay", "audit --group-by rule", "audit --group-by image",
    "audit --only no-fallback", "bootwalk", "bootwalk brack-hall --if-saved", "runbook",
    "runbook brack-slip", "runbook -v", "compare before-7.4.2",
    "compare before-7.4.2 --expect target", "cleanup --whole-fleet --room-for target",
    "cleanup --room-for target", "cleanup --sweep 4 -v", "custody", "custody -v", "where 7.4.2",
    "where *", "catalog list", "catalog find 7.4.2", "catalog show ox40-full-7.4.2.img",
    "catalog check", "catalog path brack-slip --to 7.4.2", "catalog pick arle-quay",
    "catalog pick holm-ramp", "rules", "rules stranded", "policy check", "shelf catalog -v",
]  # fmt: skip


class Done(Struct):
    """How a command ended that was run in this process."""

    returncode: int
    stdout: str
    stderr: str


def run(site, typed, columns):
    """Run `ovek` as it is typed, in a terminal of so many columns."""
    before = os.environ.get("COLUMNS")
    os.environ["COLUMNS"] = str(columns)
    width.cache_clear()
    try:
        with contextlib.chdir(site.folder):
            made = CliRunner().invoke(cli, shlex.split(typed), prog_name="ovek")
    finally:
        os.environ.pop("COLUMNS")
        if before is not None:
            os.environ["COLUMNS"] = before
        width.cache_clear()
        _SAID.clear()
    if isinstance(made.exception, InputError | ManyInputError):
        return Done(2, made.stdout, f"{made.stderr}{made.exception}")
    assert made.exception is None or isinstance(made.exception, SystemExit), made.exception
    return Done(made.exit_code, made.stdout, made.stderr)


@pytest.mark.parametrize("typed", OUTPUTS)
def test_every_output_of_the_sample_fits_eighty_columns(sample, typed):
    done = run(sample, typed, 80)
    for line in done.stdout.splitlines():
        # A digest is shown whole, whatever its length; and a word that has no blank stays one.
        if not DIGEST.search(line) and " " in line.strip():
            assert len(line) <= 80, line


@pytest.mark.parametrize("columns", [80, 120, 200])
def test_no_version_and_no_end_of_a_file_name_is_cut(sample, columns):
    for typed in ("audit", "runbook", "where *", "cleanup --whole-fleet --room-for target"):
        for word in re.findall(r"\S*…\S*", run(sample, typed, columns).stdout):
            assert not word.endswith("…"), word


@pytest.mark.parametrize(
    ("columns", "widest"), [("20", 80), ("120", 120), ("5000", 200), ("no", 100), ("", 100)]
)
def test_columns_counts_from_eighty_to_two_hundred(ovek, columns, widest):
    names = [f"a-very-long-name-that-somebody-chose-{at}" * 4 for at in range(2)]
    ovek.snapshot(*(device(member(image("1.0"), boots=(ONE,)), device=name) for name in names))
    shown = run(ovek, "audit", columns).stdout
    longest = max(len(line) for line in shown.splitlines() if " " in line.strip())
    assert widest - 25 < longest <= widest


def test_a_name_is_cut_in_its_middle():
    assert shortened("arle-core", 9) == "arle-core"
    cut = shortened("flash:folder/ox40-full-7.4.2.img", 20)
    assert len(cut) == 20
    assert cut.endswith("7.4.2.img")


def test_a_table_leaves_out_its_least_column_before_it_overflows():
    columns = Columns(("NAME", "A", "B"), whole=(1, 2), least=(1, 2))
    columns.measure(("n" * 30, "a" * 30, "b" * 30))
    columns.fit(60)
    assert columns.shown == [0, 2]
    assert columns.wide <= 60
    columns.fit(30)
    assert columns.shown == [0]


def test_what_wraps_loses_nothing():
    columns = Columns(("NAME", "VERSIONS"), wrap={1: 8})
    row = ("sw", "7.4.2 / 7.4.1 / 7.3.3")
    columns.measure(row)
    columns.fit(16)
    lines = [text.plain for text in columns.rows(row)]
    assert " ".join(" ".join(lines).split()) == "sw 7.4.2 / 7.4.1 / 7.3.3"
    assert all(len(line) <= 16 for line in lines)


@pytest.mark.parametrize("name", ALL, ids=" ".join)
def test_help_ends_with_two_examples_at_least_and_h_is_help(ovek, name):
    command = ALL[name]
    assert isinstance(command, Command)
    assert len(command.examples) == 2, name
    shown = run(ovek, " ".join((*name, "-h")), 100).stdout
    assert shown == run(ovek, " ".join((*name, "--help")), 100).stdout
    assert shown.rstrip().endswith(f"ovek {command.examples[-1]}")
    assert all(line.startswith(" ".join(name)) for line in command.examples)


# What asks a device, waits for one, or writes elsewhere is tried by tests of its own.
APART = {("standin", "serve"), ("demo",), ("survey",)}


@pytest.mark.parametrize(
    "typed", [line for name in ALL if name not in APART for line in ALL[name].examples]
)
def test_every_example_works_on_the_sample_site(sample, tmp_path, typed):
    site = Ovek(shutil.copytree(sample.folder, tmp_path / "site"))
    done = run(site, typed, 100)
    assert done.returncode in (0, 1, 3), done.stderr
    assert done.stdout or done.stderr


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        ("audti", "no such command: 'audti'; did you mean 'audit'? Commands are: demo, init"),
        ("catalog lits", "no such command: 'lits'; did you mean 'list'?"),
        ("audit --formt json", "No such option '--formt'."),
        (
            "audit --format jsom",
            "'jsom' is not a valid choice; use one of: table, json, jsonl, csv, markdown, junit",
        ),
        ("audit --only boot-target-mising", "did you mean 'boot-target-missing'?"),
        ("audit --rows device --format csv", "did you mean 'devices'?"),
        (
            "audit --color sometimes",
            "'sometimes' is not a valid choice; use one of: auto, always, never",
        ),
        ("catalog show ox40-full-7.4.2.im", "Did you mean 'ox40-full-7.4.2.img'?"),
        ("sheet try oxwick-4 x", "Did you mean 'oxwick-40'?"),
        ("rules strandet", "did you mean 'stranded'?"),
        ("runbook --for 7.4.3", "did you mean '7.4.2'?"),
        ("completion tcsh", "use one of: bash, zsh, fish, powershell"),
    ],
)
def test_what_is_mistyped_is_told_with_the_nearest(sample, typed, told):
    done = run(sample, typed, 100)
    assert done.returncode == 2
    assert told in " ".join(done.stderr.split())


@pytest.mark.parametrize(
    ("file", "text", "told"),
    [
        ("policy.toml", 'tarket = "7.4.2"', "did you mean 'target'"),
        ("policy.toml", "keep = \"two\"", "keep"),
        ("waivers.toml", '[[waiver]]\ndevice="sw"\nrule="stranded"\nwhy="x"\nby="y"\n'
         'until="soon"', "2026-12-31"),
        ("waivers.toml", '[[waiver]]\ndevice="sw"\nrule="stranded"\nwhy="x"\nby="y"\n'
         'until=2026-13-01', "2026-12-31"),
    ],
)  # fmt: skip
def test_a_mistake_in_a_file_says_what_is_allowed(ovek, file, text, told):
    ovek.write(file, text)
    assert told.lower() in ovek.refuses("audit").lower()


def in_a_terminal(folder: Path, *typed: str, lines=24, **environment: str) -> str:
    """What a terminal of so many lines is sent."""
    import fcntl
    import struct
    import termios

    reader, writer = pty.openpty()
    fcntl.ioctl(writer, termios.TIOCSWINSZ, struct.pack("HHHH", lines, 100, 0, 0))
    told = {**os.environ, "TERM": "xterm-256color", **environment}
    if "NO_COLOR" not in environment:
        told.pop("NO_COLOR", None)
    with subprocess.Popen(
        [sys.executable, "-m", "ovek", *typed], cwd=folder, stdout=writer, env=told
    ):
        os.close(writer)
        shown = b""
        while True:
            try:
                piece = os.read(reader, 65536)
            except OSError:
                break
            if not piece:
                break
            shown += piece
    os.close(reader)
    return shown.decode()


def test_color_says_whether_there_is_any(sample):
    assert "\x1b[" in in_a_terminal(sample.folder, "audit", "arle-quay")
    assert "\x1b[" not in in_a_terminal(sample.folder, "audit", "arle-quay", "--color", "never")
    assert "\x1b[3" not in in_a_terminal(sample.folder, "audit", "arle-quay", NO_COLOR="1")
    assert "\x1b[" in run(sample, "audit arle-quay --color always", 100).stdout
    assert "\x1b[" not in run(sample, "audit arle-quay", 100).stdout


def test_the_answer_comes_last_again_where_the_output_is_longer_than_the_screen(sample):
    long = in_a_terminal(sample.folder, "audit", "--color", "never")
    assert long.count(" go, ") == 2
    assert " go, " in long.splitlines()[0]
    short = in_a_terminal(sample.folder, "audit", "arle-core", "--color", "never", lines=60)
    assert short.count("arle-core: go.") == 1
    assert run(sample, "audit", 100).stdout.count(" go, ") == 1


def completed(folder: Path, words: str, shell="bash") -> list[str]:
    """What a shell would offer behind these words."""
    told = {**os.environ, "_OVEK_COMPLETE": f"{shell}_complete", "COMP_WORDS": f"ovek {words}",
            "COMP_CWORD": str(len(words.split()) + words.endswith(" "))}  # fmt: skip
    done = subprocess.run(
        [sys.executable, "-c", "from ovek.cli import main; main()"],
        cwd=folder, env=told, capture_output=True, encoding="utf-8", check=False,
    )  # fmt: skip
    assert "Traceback" not in done.stderr, done.stderr
    return [line.partition(",")[2] for line in done.stdout.splitlines() if line]


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("au", ["audit"]),
        ("audit arle-q", ["arle-quay"]),
        ("bootwalk kitti", ["kittiwake-bridge"]),
        ("audit --only boot-target-m", ["boot-target-missing"]),
        ("audit --format j", ["json", "jsonl", "junit"]),
        ("custody ox40-full-7.4.2", ["ox40-full-7.4.2.img"]),
        ("cleanup --room-for ox40-lite-7.4.2", ["ox40-lite-7.4.2.img"]),
        ("compare before", ["before-7.4.2"]),
        ("sheet try tol", ["tolvane-8"]),
        ("audit --where sit", ["site="]),
        ("audit --where site=Port", ["site=Port?Arle"]),
        ("bootwalk arle-quay --if-bad flash:ox40-full-7.2", ["flash:ox40-full-7.2.5.img"]),
        ("completion z", ["zsh"]),
    ],
)
def test_words_are_completed(sample, words, offered):
    assert completed(sample.folder, words) == offered


def test_a_glob_is_completed_to_itself_and_what_it_means(sample):
    offered = completed(sample.folder, "audit arle-d*")
    assert offered == ["arle-d*", "arle-dist-1", "arle-dist-2"]


def test_no_name_that_a_shell_would_run_is_offered(ovek):
    ovek.fleet("sw-1", "sw;reboot", "sw$(reboot)", "sw`x`", "sw a", "sw\nb", "-sw")
    assert completed(ovek.folder, "audit sw") == ["sw-1"]
    assert completed(ovek.folder, "audit s*") == ["s*", "sw-1"]


def test_a_place_with_a_blank_is_offered_as_a_glob_that_works(sample):
    shown = run(sample, "audit --where site=Port?Arle", 100).stdout
    assert re.match(r"\d+ devices, as of ", shown)


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_is_written_for_each_shell(ovek, shell):
    script = ovek("completion", shell).stdout
    assert f"{shell}_complete" in script
    program = shutil.which(shell)
    if program is not None:
        checked = subprocess.run([program, "-n"], input=script, text=True, check=False)
        assert checked.returncode == 0


def test_a_folder_that_is_no_site_completes_to_nothing(tmp_path):
    assert completed(tmp_path, "audit a") == []
    (tmp_path / "fleet.toml").write_bytes(b"\xff\x00 [[device]]")
    (tmp_path / "snapshots").mkdir()
    (tmp_path / "snapshots/.newest.db").write_text("[]")
    (tmp_path / ".fleet.db").write_text("[]")
    assert completed(tmp_path, "audit a") == []


def test_every_command_has_its_line_in_the_list(ovek):
    shown = ovek("--help").stdout
    for name, told in COMMANDS.items():
        assert re.search(rf"^  {name} +{re.escape(told.split()[0])}", shown, re.MULTILINE)


def test_the_outline_that_shells_are_answered_from_is_what_the_code_says():
    script = runpy.run_path(str(Path(__file__).parent.parent / "scripts/write_outline.py"))
    kept = Path(sys.modules["ovek.cli"].__file__).with_name("outline.json").read_text()
    assert kept == script["text"](), "run scripts/write_outline.py"

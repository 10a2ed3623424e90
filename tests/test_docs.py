"""What the pages in docs/ show works as shown."""

import json
import os
import re
import shlex
import subprocess
import sys
from importlib.util import module_from_spec, spec_from_file_location
from pathlib import Path

import click
import pytest

import ovek as ovek_package
import zygote
from ovek.cli import cli
from ovek.demo import write_site
from ovek.engine.audit import rule_cards
from ovek.render.rules import page

DOCS = Path(__file__).parent.parent / "docs"


def blocks(page: str, language: str) -> list[str]:
    text = (DOCS / page).read_text()
    return re.findall(rf"^```{language}\n(.*?)^```", text, re.MULTILINE | re.DOTALL)


def test_the_guide_to_sheets_ends_with_a_sheet_that_understands_its_session(ovek):
    ovek.write("session.txt", blocks("sheets.md", "text")[0])
    ovek.write("sheets/quillet-q2.toml", blocks("sheets.md", "toml")[0])
    ovek("sheet", "check", "sheets/quillet-q2.toml")
    tried = ovek("sheet", "try", "quillet-q2", "session.txt").stdout
    assert tried.startswith("quillet-q2: whole session parsed, no fact missing.")
    assert "path=q2-2.8.bin" in tried


def test_what_the_guide_marks_is_learned_as_it_shows(ovek):
    ovek.write("marked.txt", blocks("sheets.md", "text")[1])
    shown, *lines = blocks("sheets.md", "console")[0].strip().split("\n")
    told = ovek(*shlex.split(shown)[2:]).stdout
    assert told.startswith("\n".join(lines[:-1]))
    assert lines[-1] == "..."
    ovek.write("session.txt", blocks("sheets.md", "text")[0])
    ovek("sheet", "try", "quillet-q2", "session.txt")


@pytest.mark.parametrize("number", range(len(blocks("api.md", "python"))))
def test_a_script_of_the_page_for_scripts_runs(tmp_path, monkeypatch, number, capsys):
    write_site(tmp_path / "skerrow-ferries")
    monkeypatch.chdir(tmp_path)
    exec(compile(blocks("api.md", "python")[number], "api.md", "exec"), {})
    assert capsys.readouterr().out


def test_every_public_function_has_an_example():
    """They are run where the code stands."""
    functions = []
    for name in ovek_package.__all__:
        one = getattr(ovek_package, name)
        assert one.__doc__, name
        if callable(one) and not isinstance(one, type):
            assert ">>>" in one.__doc__, name
            functions.append(name)
    assert len(functions) == 23


def test_the_ways_and_shelves_that_the_pages_show_are_right(ovek):
    fleet = blocks("survey.md", "toml")[1]
    shelves = blocks("catalog.md", "toml")
    (shelf,) = [text for text in shelves if "[[shelf]]" in text]
    ovek.write("fleet.toml", f"{fleet}\n{shelf}")
    assert ovek.json("audit", exits=3)["not_read"][0]["device"] == "quay-ups"
    assert "is neither a folder nor an archive" in ovek.refuses("shelf", "last-year")


def test_the_fleet_that_the_pages_show_is_right(ovek):
    fleet = blocks("survey.md", "toml")[0]
    ovek.write("fleet.toml", fleet)
    ovek.write("addresses.csv", "name,port\narle-core,2222\n")
    unread = ovek.json("audit", exits=3)["not_read"]
    assert [one["device"] for one in unread] == ["arle-core", "box-7", "old-core"]


def test_the_policy_and_the_sheet_that_the_pages_show_are_right(ovek):
    toml = {text.split('"')[1]: text for text in blocks("files.md", "toml")}
    ovek.write("sheets/oxwick-40.toml", toml["ovek.sheet/1"])
    ovek.write("policy.toml", toml["ovek.policy/1"])
    names = {"sw": "MV Tern", "holm-ramp": "Port Arle"}
    names |= dict.fromkeys(("arle-quay", "core-1", "core-2"), "Port Arle")
    rows = [
        f'[[device]]\nname = "{name}"\nsheet = "switch"\nsite = "{place}"\n'
        for name, place in names.items()
    ]
    ovek.write("fleet.toml", 'name = "Test"\n' + "\n".join(rows))
    ovek.write("waivers.toml", toml["ovek.waivers/1"])
    told = ovek("policy", "check", exits=2).stderr
    assert told.count("\n") == 1, "only the sample's version is unknown in the test's catalog"
    assert "want[0].target: release of version '7.4.2' does not exist" in told
    assert "no mistakes" in ovek("sheet", "check", "sheets/oxwick-40.toml").stdout


def test_the_page_of_the_rules_is_what_the_code_says():
    assert (DOCS / "rules.md").read_text() == page(rule_cards()), "scripts/write_rules_page.py"


def test_the_pages_made_from_the_code_are_what_it_says():
    for name in ("commands", "formats", "fields"):
        made = _script(f"write_{name}_page").page()
        assert (DOCS / f"{name}.md").read_text() == made, f"scripts/write_{name}_page.py"
    made = _script("write_formats_page").result_page()
    assert (DOCS / "result-keys.md").read_text() == made, "scripts/write_formats_page.py"


def _script(name: str):
    file = DOCS.parent / f"scripts/{name}.py"
    module = module_from_spec(spec := spec_from_file_location(name, file))
    spec.loader.exec_module(module)
    return module


def lines_in_shells() -> list[tuple[str, str]]:
    """Each line about `ovek` in a block for a shell, of the README and every page."""
    found = []
    for file in (DOCS.parent / "README.md", *sorted(DOCS.glob("*.md"))):
        for block in re.findall(r"^ *```sh\n(.*?)^ *```", file.read_text(), re.M | re.S):
            for line in block.splitlines():
                pieces = re.split(r"&&|;|\|", line.partition(" #")[0])
                found += [(file.name, each.strip()) for each in pieces if " ovek " in f" {each} "]
    return found


def test_every_line_in_a_block_for_a_shell_is_one_that_ovek_takes():
    lines = lines_in_shells()
    assert len(lines) > 40
    for page_, line in lines:
        words = shlex.split(re.sub(r"^.*?(?=\bovek )|\s+[<>].*$", "", line))[1:]
        command, context = cli, click.Context(cli)
        words = [word for word in words if word != "--version"]
        while isinstance(command, click.Group) and words and not words[0].startswith("-"):
            name = words.pop(0)
            found = command.get_command(context, name)
            assert found is not None, (page_, line)
            command = found
        try:
            command.make_context("ovek", words, resilient_parsing=True)
        except click.UsageError as error:
            raise AssertionError((page_, line, error.format_message())) from None


def test_the_site_of_the_pages_is_whole_and_searches_by_itself(tmp_path):
    pytest.importorskip("mkdocs", reason="mkdocs is not installed")
    command = [sys.executable, "-m", "mkdocs", "build", "--strict", "-q", "-d", str(tmp_path)]
    done = subprocess.run(command, cwd=DOCS.parent, capture_output=True, check=False, text=True)
    assert done.returncode == 0, done.stderr
    index = json.loads((tmp_path / "search/search_index.json").read_text())
    assert any("stranded" in one["text"] for one in index["docs"])
    for page_ in tmp_path.glob("*.html"):
        asked = re.findall(
            r'<(?:script|link|img)[^>]*(?:src|href)="(https?:[^"]*)"', page_.read_text()
        )
        assert not [url for url in asked if "canonical" not in url], page_


def test_every_page_is_on_the_map():
    told = (DOCS / "index.md").read_text()
    pages = {file.name for file in DOCS.glob("*.md")} - {"index.md"}
    assert [name for name in sorted(pages) if f"({name})" not in told] == []


def test_every_picture_is_linked_from_the_readme():
    readme = (DOCS.parent / "README.md").read_text()
    pictures = [picture.name for picture in (DOCS / "screenshots").glob("*.png")]
    assert 0 < len(pictures) < 20
    assert [name for name in pictures if name not in readme] == []


def typed_in(page: str) -> list[tuple[str, list[str]]]:
    """Each line that a page types, with what it shows below it."""
    found: list[tuple[str, list[str]]] = []
    text = (DOCS / page).read_text()
    for indent, block in re.findall(
        r"^( *)```console\n(.*?)^\1```", text, re.MULTILINE | re.DOTALL
    ):
        for line in (each.removeprefix(indent) for each in block.splitlines()):
            if line.startswith("$ "):
                found.append((line[2:], []))
            elif line.startswith("> ") and not found[-1][1]:  # it goes on
                found[-1] = (f"{found[-1][0]}\n{line[2:]}", [])
            else:
                found[-1][1].append(line)
    return found


@pytest.fixture
def day(tmp_path_factory):
    """The sample site, and a folder of programs in which `ovek` is."""
    folder = tmp_path_factory.mktemp("day")
    write_site(folder / "site")
    program = folder / "bin/ovek"
    program.parent.mkdir()
    (folder / "bin/python3").symlink_to(sys.executable)
    with zygote.program(program):
        yield folder


@pytest.mark.parametrize(
    "page",
    [
        "day.md",
        "history.md",
        "install.md",
        "night.md",
        "recipes.md",
        "report.md",
        "runbook.md",
        "start.md",
        "trust.md",
    ],
)
def test_what_a_page_types_shows_what_it_says(day, page):
    text = (DOCS / page).read_text()
    for name, told in re.findall(r"as `([^`]+)`:\n\n```text\n(.*?)^```", text, re.M | re.S):
        (day / "site" / name).parent.mkdir(exist_ok=True)
        (day / "site" / name).write_text(told)
    environment = {**os.environ, "PATH": f"{day / 'bin'}:{os.environ['PATH']}", "COLUMNS": "100"}
    environment |= {"XDG_CACHE_HOME": str(day / "cache"), "PYTHONPATH": os.pathsep.join(sys.path)}
    for line, shown in typed_in(page):
        done = subprocess.run(
            ["bash", "-c", line], cwd=day / "site", env=environment, capture_output=True,
            encoding="utf-8", check=False,
        )  # fmt: skip
        assert "Traceback" not in done.stderr
        assert done.returncode in (0, 1, 3), (line, done.stderr)
        rest = done.stdout.splitlines()
        skip = False
        for wanted in shown:
            if wanted == "...":
                skip = True
                continue
            at = next((at for at, each in enumerate(rest) if each.startswith(wanted)), None)
            assert at is not None, (line, wanted, done.stdout)
            assert skip or at == 0, (line, wanted, rest[:3])
            rest, skip = rest[at + 1 :], False

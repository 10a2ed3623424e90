"""Manual pages, the versions of what Ovek stands on, and completion in PowerShell."""

import os
import re
import runpy
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from click.shell_completion import get_completion_class

from ovek.cli import COMMANDS

ROOT = Path(__file__).parent.parent
MAN = ROOT / "docs/man"


def test_the_manual_pages_are_what_the_commands_say():
    pages = runpy.run_path(str(ROOT / "scripts/write_man_pages.py"))["pages"]()
    kept = {file.name: file.read_text() for file in MAN.glob("*.1")}
    assert kept == pages, "run scripts/write_man_pages.py"
    for name in COMMANDS:
        assert any(page.startswith(f"ovek-{name}") for page in pages), name


@pytest.mark.skipif(shutil.which("groff") is None, reason="groff is not installed")
def test_a_formatter_of_manual_pages_finds_nothing_wrong():
    for file in sorted(MAN.glob("*.1")):
        done = subprocess.run(
            ["groff", "-man", "-Tascii", "-P-c", "-ww", str(file)],
            capture_output=True,
            check=False,
            text=True,
        )
        assert done.returncode == 0 and done.stderr == "", (file.name, done.stderr)
        assert "SYNOPSIS" in re.sub(".\x08", "", done.stdout)


def test_version_tells_what_it_stands_on_where_it_is_asked(ovek):
    assert len(ovek("--version").stdout.splitlines()) == 1
    for typed in (("--version", "-v"), ("-v", "--version"), ("--version", "--verbose")):
        first, *rest = ovek(*typed).stdout.splitlines()
        assert first == ovek("--version").stdout.strip()
        assert any(line.split() == ["msgspec", line.split()[-1]] for line in rest)
        assert any(line.startswith("  Python ") for line in rest)
    assert "No such option" in ovek("-v", exits=2).stderr


KNOWS_POWERSHELL = get_completion_class("powershell") is not None  # Click, from 8.5 on


@pytest.mark.skipif(not KNOWS_POWERSHELL, reason="this Click knows no PowerShell")
def test_powershell_is_offered_words_with_what_they_are(tmp_path):
    from ovek.demo import write_site

    write_site(tmp_path)

    def offered(*words: str) -> dict[str, str]:
        asked = {
            "_OVEK_COMPLETE": "powershell_complete", "COMP_WORDS": shlex.join(("ovek", *words)),
            "COMP_CWORD": str(len(words)),
        }  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", "from ovek.cli import main; main()"], cwd=tmp_path,
            env={**os.environ, **asked}, capture_output=True, encoding="utf-8", check=False,
        )  # fmt: skip
        assert done.stderr == ""
        lines = done.stdout.splitlines()
        return dict(zip(lines[1::3], lines[2::3], strict=True))

    assert list(offered("aud")) == ["audit"]
    assert offered("aud")["audit"].startswith("Can each DEVICE")
    assert list(offered("audit", "arle-q")) == ["arle-quay"]
    assert list(offered("audit", "--format", "js")) == ["json", "jsonl"]


def test_powershell_has_a_script_or_it_is_said_what_it_needs(ovek):
    if KNOWS_POWERSHELL:
        script = ovek("completion", "powershell").stdout
        assert "Register-ArgumentCompleter" in script and "_OVEK_COMPLETE" in script
    else:
        assert "needs Click 8.5" in ovek("completion", "powershell", exits=2).stderr

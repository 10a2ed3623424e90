"""Ovek needs nothing that only Unix has.

No other system is at hand: what only Unix has is taken away from Ovek's modules instead, see
`without_unix`.
"""

import os
import pkgutil
import subprocess
import sys
from pathlib import Path

import pytest

import ovek
import zygote

WITHOUT = Path(__file__).with_name("without_unix.py")
TYPED = (
    "audit", "bootwalk arle-quay", "cleanup arle-quay --free 100MiB", "runbook brack-slip",
    "catalog list", "custody * arle-quay", "history trend", "chart flash -o flash.svg",
    "report -o fleet.html", "compare before-7.4.2", "cache",
    "survey arle-core --capture sessions/arle-core.txt",
)  # fmt: skip


def run(folder: Path, *typed: str, without: bool) -> tuple[int, bytes, bytes]:
    own = {"XDG_CACHE_HOME": str(folder / "cache"), "COLUMNS": "80"}
    if not without:
        return zygote.run(folder, *typed, **own)
    done = subprocess.run(
        [sys.executable, str(WITHOUT), *typed], cwd=folder, capture_output=True, check=False,
        env={**os.environ, **own},
    )  # fmt: skip
    return done.returncode, done.stdout, done.stderr


def test_every_module_is_imported():
    done = subprocess.run(
        [sys.executable, str(WITHOUT)], capture_output=True, check=True, text=True
    )
    there = {module.name for module in pkgutil.walk_packages(ovek.__path__, "ovek.")}
    assert set(done.stdout.split()) == there - {"ovek.__main__"}


def test_what_is_taken_away_is_missed():
    code = """
import without_unix; without_unix.take_away()
import types
new = vars(types.ModuleType("ovek.new"))
exec("import os; print(hasattr(os, 'fork'), hasattr(os, 'getpid'))", new)
exec("import fcntl", new)
"""
    program = [sys.executable, "-c", code]
    done = subprocess.run(program, cwd=WITHOUT.parent, capture_output=True, text=True, check=False)
    assert done.stdout.split() == ["False", "True"]
    assert "no module named fcntl" in done.stderr


@pytest.mark.parametrize("typed", TYPED)
def test_a_command_answers_the_same(typed, sample_copies):
    with_, without = sample_copies
    words = typed.split()
    expected = run(with_, *words, without=False)
    told = run(without, *words, without=True)
    if words[0] not in ("survey", "cache"):  # which tell times and places
        assert told == expected
    assert told[0] == expected[0] and b"Traceback" not in told[2]


@pytest.fixture
def sample_copies(tmp_path):
    from ovek.demo import write_site

    for name in ("with", "without"):
        write_site(tmp_path / name / "site")
    return tmp_path / "with/site", tmp_path / "without/site"


def test_processes_that_are_no_forks_say_the_same(tmp_path):
    from ovek.demo import write_site

    write_site(tmp_path / "site")
    code = """
import multiprocessing
from datetime import UTC, datetime
from ovek import audit, here, open_site, select
from ovek.app.runner import Processes

if __name__ == "__main__":
    multiprocessing.set_start_method("spawn")
    for at in (None, datetime(2026, 12, 1, tzinfo=UTC)):
        site = open_site("site", as_of=at, knowing="now")
        one, other = (audit(select(site, runner=each)) for each in (here, Processes(2)))
        assert list(one.devices.lines()) == list(other.devices.lines())
        print(one.summary.devices, one.as_of.date())
"""
    (tmp_path / "spawned.py").write_text(code)
    done = subprocess.run(
        [sys.executable, "spawned.py"], cwd=tmp_path, capture_output=True, text=True, check=False,
        env={**os.environ, "XDG_CACHE_HOME": str(tmp_path / "cache")},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    now, then = done.stdout.splitlines()
    assert now.split()[0] == "36" and then.split() == ["36", "2026-12-01"]

"""A survey that is watched: how far it is, who is read, what each waits for, each failure."""

import io
import os
import pty
import subprocess
import sys

from rich.console import Console

from ovek.demo import write_site
from ovek.model.surveyed import Surveyed
from ovek.render.watched import WatchedSurvey


def shown(watched: WatchedSurvey, now: float, height: int = 24) -> list[str]:
    out = io.StringIO()
    console = Console(file=out, width=100, force_terminal=False)
    console.print(watched.drawn(now, height))
    return [line.rstrip() for line in out.getvalue().splitlines() if line.strip()]


def surveyed(name: str, result: str = "read", problem: str | None = None, missing=()) -> Surveyed:
    return Surveyed(
        device=name, result=result, problem=problem, do=None, missing=missing, lost=(), notes=(),
        tries=1, seconds=1.0,
    )  # fmt: skip


def test_it_says_who_is_read_and_who_waits():
    watched = WatchedSurvey(5)
    watched.began("a", 0)
    watched.began("b", 10)
    watched.answered("b", 2048)
    first, *rest = shown(watched, 13)
    assert first.startswith("0 of 5 devices ") and "2 being read, 3 waiting" in first
    assert rest == ["  b: 1 answer, 2.00 KiB, 3 s", "  a: connecting, 13 s"]
    watched.done("a")
    first, *rest = shown(watched, 20)
    assert first.startswith("1 of 5 devices ") and "1 being read, 3 waiting" in first
    assert "about 80 s left" in first, "four devices more at one in twenty seconds"
    assert len(rest) == 1


def test_it_says_how_long_digests_may_take_and_how_many_are_there():
    watched = WatchedSurvey(2)
    watched.began("slow", 0)
    watched.began("other", 0)
    watched.answered("slow", 100)
    watched.expects("slow", 3, 600.0, None, 10)
    watched.digested("slow")
    first, *rest = shown(watched, 130)
    assert rest[0] == "  slow: digest 2 of 3, 2 min of about 10 min"
    assert "about 8 min left" in first
    for _ in range(9):
        watched.digested("slow")
    assert "1 answer" in " ".join(shown(watched, 200)), "all digests are there"


def test_a_file_that_is_read_through_says_how_much_of_it_was_read():
    watched = WatchedSurvey(1)
    watched.began("a", 0)
    watched.expects("a", 1, 40.0, 2**20, 0)
    watched.transferred("a", 5 * 2**20)
    line = "  a: digest 1 of 1, 5 s of about 40 s, 5.00 MiB so far, "
    assert shown(watched, 5)[1] == f"{line}files are read at 1.00 MiB a second"


def test_a_small_screen_shows_those_that_take_longest():
    watched = WatchedSurvey(300)
    for number in range(100):
        watched.began(f"d{number}", number)
    lines = shown(watched, 100, height=7)
    assert len(lines) == 5 and lines[-1] == "  and 97 more"
    assert len(shown(watched, 100)) == 10


def test_a_failure_is_said_as_it_comes_and_a_success_is_not():
    watched = WatchedSurvey(3)
    assert watched.failure(surveyed("a")) is None
    assert str(watched.failure(surveyed("b", "not read", "no answer"))) == "not read: b: no answer"
    half = surveyed("c\x1b[2J", "partly read", None, ("the boot settings",))
    assert str(watched.failure(half)) == "partly read: c\\x1b[2J: missing: the boot settings"


def test_what_is_told_of_a_device_that_is_done_or_unknown_is_ignored():
    watched = WatchedSurvey(1)
    watched.answered("x", 7)
    watched.digested("x")
    watched.transferred("x", 7)
    watched.expects("x", 1, 1.0, None, 0)
    assert len(shown(watched, 1)) == 1


def survey_in_a_terminal(folder, *typed: str) -> str:
    """What a survey writes to standard error where that is a terminal."""
    main, far = pty.openpty()
    program = [sys.executable, "-m", "ovek", "survey", *typed]
    with subprocess.Popen(
        program, cwd=folder, stdout=subprocess.DEVNULL, stderr=far,
        env={**os.environ, "TERM": "xterm", "COLUMNS": "100", "LINES": "24"},
    ) as process:  # fmt: skip
        os.close(far)
        written = b""
        try:
            while piece := os.read(main, 65536):
                written += piece
        except OSError:
            pass  # the terminal is closed
        process.wait()
    os.close(main)
    return written.decode()


def test_a_survey_shows_it_in_a_terminal_and_writes_the_same_to_a_log(tmp_path):
    folder = tmp_path / "site"
    write_site(folder)
    written = survey_in_a_terminal(folder, "--log", "survey.log", "--tries", "1")
    assert "of 36 devices" in written and "being read" in written
    assert "not read: " in written
    log = (folder / "survey.log").read_text()
    assert "arle-core: reading by " in log and ": not read after 1 tries" in log
    assert survey_in_a_terminal(folder, "--quiet", "--tries", "1") == ""

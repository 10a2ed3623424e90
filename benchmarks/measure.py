"""How the benchmarks measure: whole commands in turn, as ratios within one run, as rows of a table.

A machine that gives way to others changes its speed: so what is compared runs in turn, and the
ratio is the median of the pairs. Each first run has a cache folder of its own.
"""

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

# A program that is installed is compiled; one that is worked on need not be, where this is set.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
PYTHON = sys.executable
OVEK = (PYTHON, "-m", "ovek")
ENDS = (0, 1)  # an audit that finds something ends with 1


class Row(NamedTuple):
    """One row of the table: what was done, its goal, what was measured, and if that is reached."""

    work: str
    goal: str
    measured: str
    reached: bool | None
    command: str

    def __str__(self) -> str:
        mark = {True: "reached", False: "NOT reached", None: "no goal"}[self.reached]
        return f"{self.work}: {self.measured} (goal: {self.goal}; {mark})"


def at_most(work: str, goal: float, value: float, more: str, command: str, unit: str = " ×") -> Row:
    """A row whose value should not be above its goal."""
    return Row(
        work, f"≤ {goal:g}{unit}", f"{value:.2f}{unit}; {more}" if more else f"{value:.2f}{unit}",
        value <= goal, command,
    )  # fmt: skip


def at_least(work: str, goal: float, value: float, more: str, command: str) -> Row:
    """A row whose ratio should not be below its goal."""
    shown = f"{value:.2f} ×; {more}" if more else f"{value:.2f} ×"
    return Row(work, f"≥ {goal:g} ×", shown, value >= goal, command)


class Took(NamedTuple):
    """What a command took: seconds, and the MiB of its largest process at its peak."""

    seconds: float
    peak: float


# A process inherits the peak of whoever starts it: so one that is small starts all commands.
_LAUNCHER = """
import json, os, subprocess, sys, time
for line in sys.stdin:
    command, cwd, env = json.loads(line)
    start = time.perf_counter()
    process = subprocess.Popen(
        command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, cwd=cwd, env=env)
    complaint = process.stderr.read().decode("utf-8", "replace")
    _, status, usage = os.wait4(process.pid, 0)
    took = time.perf_counter() - start, usage.ru_maxrss / 1024
    print(json.dumps([*took, os.waitstatus_to_exitcode(status), complaint]), flush=True)
"""
_STARTED: list[subprocess.Popen[str]] = []


def _launcher() -> subprocess.Popen[str]:
    if not _STARTED:
        command = [PYTHON, "-S", "-c", _LAUNCHER]
        _STARTED.append(
            subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        )
    return _STARTED[0]


_launcher()


def timed(*command: str, cwd: Path | None = None, ends: Sequence[int] = ENDS) -> Took:
    """Run a command whose output is thrown away; stop where it complains."""
    process = _launcher()
    assert process.stdin is not None
    assert process.stdout is not None
    told = [command, None if cwd is None else str(cwd), dict(os.environ)]
    process.stdin.write(json.dumps(told) + "\n")
    process.stdin.flush()
    seconds, peak, code, complaint = json.loads(process.stdout.readline())
    if code not in ends or complaint:
        sys.exit(f"{command} ended with {code}: {complaint}")
    return Took(seconds, peak)


@contextmanager
def fresh_cache(kept: Path | None = None) -> Iterator[Path]:
    """A cache folder of its own: empty, or as another one was `kept`."""
    before = os.environ.get("XDG_CACHE_HOME")
    with tempfile.TemporaryDirectory() as name:
        cache = Path(name, "cache")
        if kept is not None:
            shutil.copytree(kept, cache)
        os.environ["XDG_CACHE_HOME"] = str(cache)
        try:
            yield cache
        finally:
            os.environ.pop("XDG_CACHE_HOME")
            if before is not None:
                os.environ["XDG_CACHE_HOME"] = before


def first(*command: str, cwd: Path | None = None) -> Took:
    """What a command takes the first time, when nothing is kept from before."""
    with fresh_cache():
        return timed(*command, cwd=cwd)


class Pair(NamedTuple):
    """Two works in turn: the medians of what each took, and of the ratio of the first to it."""

    ours: float
    other: float
    ratio: float


def in_turn(rounds: int, ours: Callable[[], float], other: Callable[[], float]) -> Pair:
    """Do both so many times, one after the other; each gives its seconds."""
    pairs = [(ours(), other()) for _ in range(rounds)]
    ratio = statistics.median(one / two for one, two in pairs)
    return Pair(*(statistics.median(column) for column in zip(*pairs, strict=True)), ratio)


DECODE = """
import sys, msgspec
from ovek.model.snapshot import Device
decoder = msgspec.json.Decoder(Device)
with open(sys.argv[1], "rb") as lines:
    for line in lines:
        decoder.decode(line)
"""


def decode(snapshot: Path) -> float:
    """The seconds of a process that merely decodes a snapshot into the same typed data."""
    return timed(PYTHON, "-c", DECODE, str(snapshot)).seconds


def size_asked(default: int, at: int = 1) -> int:
    """A size that was typed behind the name of the benchmark, or the usual one."""
    return int(sys.argv[at]) if len(sys.argv) > at else default


def show(rows: Iterator[Row]) -> None:
    """Print rows as they come."""
    for row in rows:
        print(row, flush=True)

"""Work on every device of a fleet, on all cores where that pays.

A snapshot is a line a device, so that a fleet falls into parts by itself. Small ones are worked on
here; large ones by processes of their own, each with its own site, a part at a time; or by the
workers of a cluster, where one is named. Parts come back in the order of the devices, and only a
few are held at once.
"""

import os
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from contextlib import nullcontext
from pathlib import Path
from typing import Any, TypeVar

from ovek.cli.options import Devices
from ovek.cli.progress import bytes_bar
from ovek.cli.work import Work
from ovek.engine.releases import ReleaseIndex
from ovek.files.site import Site
from ovek.files.state import Line, State

T = TypeVar("T")
# Where the lines of some devices stand, each in a file told by its number. Whoever works on them
# reads them, one at a time, so that no line is held twice.
Lines = list[tuple[str, Line]]
Made = tuple[int, T]

_PART = 2**20
_LARGE = 16 * _PART


# A class of work, made of the devices of a site and what else it needs.
Make = Callable[..., Work[T]]


def each_part(devices: Devices, make: Make[T], *args: Any) -> Iterator[T]:
    """Go through what comes of each part of a fleet; `make(devices, *args)` makes the work.

    `make` and `args` go to other processes, so that they have to pickle. Raises InputError.
    """
    devices.check()
    lines = list(devices.chosen.lines.items())
    size = sum(line.length for _, line in lines)
    workers = _workers(size)
    parts = _parts(lines)
    made: Iterator[Made[T]]
    if devices.on is not None:
        from ovek.cli.cluster import spread

        made = spread(devices.on, devices, parts, make, args)
    elif workers < 2:
        work = make(devices, *args)
        made = (worked(devices, work, part) for part in parts)
    else:
        made = _spread(devices, parts, workers, make, args)
    slow = workers > 1 or devices.on is not None
    bar = bytes_bar(size) if slow else nullcontext(_silent)
    with bar as advance:
        for done, result in made:
            advance(done)
            yield result


def _silent(size: int) -> None:
    """A small fleet is done before a bar could be read."""


def _workers(size: int) -> int:
    """How many processes pay for lines of so many bytes in all."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    return min(cores or 1, 16) if size >= _LARGE else 1


def _parts(lines: Lines) -> Iterator[Lines]:
    """Lines, about a MiB at a time."""
    part: Lines = []
    size = 0
    for name, line in lines:
        part.append((name, line))
        size += line.length
        if size >= _PART:
            yield part
            part, size = [], 0
    if part:
        yield part


def worked(devices: Devices, work: Work[T], lines: Lines) -> Made[T]:
    """Work on the devices of some lines: how many bytes those are, and what came of them."""
    for name, line, text in devices.state.texts(lines):
        if not work.knows(name, line, text):
            device = devices.standing(devices.state.device(name, line, text))
            work.take(device, devices.judge(device))
    return sum(line.length for _, line in lines), work.result()


def _spread(
    devices: Devices, parts: Iterator[Lines], workers: int, make: Make[T], args: tuple[Any, ...]
) -> Iterator[Made[T]]:
    """Work in processes of their own; parts that wait are bounded, so that memory stays flat."""
    start = (
        devices.site.folder, devices.state.root, devices.state.files, devices.stale, make, args,
    )  # fmt: skip
    _FORKED[:] = [devices]
    with ProcessPoolExecutor(workers, initializer=_start, initargs=start) as pool:
        waiting: deque[Future[Made[T]]] = deque()
        try:
            for lines in parts:
                waiting.append(pool.submit(_part, lines))
                if len(waiting) > 2 * workers:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()


# What was read of the site before: a process that is forked has it, and does not read it again.
_FORKED: list[Devices] = []
# What a process of its own works with; set once when it starts.
_OWN: list[tuple[Devices, Work[Any]]] = []


def _start(
    folder: Path,
    root: Path,
    files: list[Path],
    stale: dict[str, str],
    make: Make[Any],
    args: tuple[Any, ...],
) -> None:
    site = _FORKED[0].site if _FORKED else Site(folder)
    releases = _FORKED[0].releases if _FORKED else ReleaseIndex(site.releases)
    devices = Devices(site, State(root, files, {}), releases=releases)
    devices.stale = stale
    _OWN[:] = [(devices, make(devices, *args))]


def _part(lines: Lines) -> Made[Any]:
    devices, work = _OWN[0]
    return worked(devices, work, lines)

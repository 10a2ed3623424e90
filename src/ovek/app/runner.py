"""Work on every device of a fleet, on all cores where that pays.

A snapshot is a line a device, so that a fleet falls into parts by itself. Small ones are worked on
here; large ones by processes of their own, each with its own site, a part at a time; or by the
workers of a cluster, where one is named. Parts come back in the order of the devices, and only a
few are held at once.
"""

import os
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from pathlib import Path
from typing import Any, TypeVar

from ovek.app.devices import Devices
from ovek.app.progress import Bar, shown
from ovek.app.work import Lines, Made, Make, Work, worked
from ovek.engine.releases import ReleaseIndex
from ovek.files.site import Site
from ovek.files.state import State

T = TypeVar("T")
_PART = 2**20
_LARGE = 16 * _PART


def each_part(devices: Devices, make: Make[T], *args: Any, bar: Bar | None = None) -> Iterator[T]:
    """Go through what comes of each part of a fleet; `make(devices, *args)` makes the work.

    `make` and `args` go to other processes, so that they have to pickle; `bar` shows how far a
    large fleet is. Raises InputError.
    """
    devices.check()
    lines = list(devices.chosen.lines.items())
    size = sum(line.length for _, line in lines)
    workers = _workers(size)
    parts = _parts(lines)
    made: Iterator[Made[T]]
    if devices.on is not None:
        from ovek.app.cluster import spread

        made = spread(devices.on, devices, parts, make, args)
    elif workers < 2:
        work = make(devices, *args)
        made = (worked(devices, work, part) for part in parts)
    else:
        made = _spread(devices, parts, workers, make, args)
    slow = workers > 1 or devices.on is not None
    with shown(bar if slow else None, size) as advance:
        for done, result in made:
            advance(done)
            yield result


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

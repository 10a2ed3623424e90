"""Work on every device of a snapshot, on all cores where that pays.

A snapshot is a line a device, so that it falls into parts by itself. Small ones are worked on
here; large ones by processes of their own, each with its own site, a part at a time. Parts come
back in the order of the snapshot, and only a few are held at once.
"""

import os
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ProcessPoolExecutor
from contextlib import nullcontext
from pathlib import Path
from typing import Any, Protocol, TypeVar

from ovek.cli.options import Devices
from ovek.cli.progress import bytes_bar
from ovek.engine.verdicts import Judge
from ovek.files.site import Site
from ovek.files.snapshot import Seen, devices_at, placed_lines
from ovek.model.snapshot import Device

T = TypeVar("T")
T_co = TypeVar("T_co", covariant=True)
# Lines of a snapshot: the number, the byte it starts at, and the length of each. Whoever works on
# them reads them, one at a time, so that no line is held twice.
Lines = list[tuple[int, int, int]]
Made = tuple[list[tuple[str, int]], int, T]

_PART = 2**20
_LARGE = 16 * _PART


class Work(Protocol[T_co]):
    """What is done with each device, and what comes of those that were taken since last asked."""

    def take(self, device: Device, judge: Judge) -> None:
        """Work on one device."""

    def result(self) -> T_co:
        """What came of the devices taken since the last call."""


Make = Callable[..., Work[T]]


def each_part(devices: Devices, make: Make[T], *args: Any) -> Iterator[T]:
    """Go through what comes of each part of a snapshot; `make(devices, *args)` makes the work.

    `make` and `args` go to other processes, so that they have to pickle. Raises InputError.
    """
    seen = Seen(devices.file)
    workers = _workers(devices.file)
    parts = _parts(devices.file)
    made: Iterator[Made[T]]
    if workers < 2:
        work = make(devices, *args)
        made = (_worked(devices, work, lines) for lines in parts)
    else:
        made = _spread(devices, parts, workers, make, args)
    bar = bytes_bar(devices.file.stat().st_size) if workers > 1 else nullcontext(_silent)
    with bar as advance:
        for names, size, result in made:
            for name, number in names:
                seen.add(name, number)
                devices.saw(name)
            advance(size)
            yield result
    seen.done()
    devices.done()


def _silent(size: int) -> None:
    """A small snapshot is done before a bar could be read."""


def _workers(snapshot: Path) -> int:
    """How many processes pay for a snapshot of this size."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    large = snapshot.is_file() and snapshot.stat().st_size >= _LARGE
    return min(cores or 1, 16) if large else 1


def _parts(snapshot: Path) -> Iterator[Lines]:
    """The lines of a snapshot, about a MiB at a time."""
    part: Lines = []
    size = 0
    for number, line, at in placed_lines(snapshot):
        part.append((number, at, len(line)))
        size += len(line)
        del line
        if size >= _PART:
            yield part
            part, size = [], 0
    if part:
        yield part


def _worked(devices: Devices, work: Work[T], lines: Lines) -> Made[T]:
    names = []
    for number, device in devices_at(devices.file, lines):
        names.append((device.device, number))
        if devices.takes(device.device):
            work.take(device, devices.judge(device))
    return names, sum(length for _, _, length in lines), work.result()


def _spread(
    devices: Devices, parts: Iterator[Lines], workers: int, make: Make[T], args: tuple[Any, ...]
) -> Iterator[Made[T]]:
    """Work in processes of their own; parts that wait are bounded, so that memory stays flat."""
    start = (devices.site.folder, devices.file, devices.globs, make, args)
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


# What a process of its own works with; set once when it starts.
_OWN: list[tuple[Devices, Work[Any]]] = []


def _start(
    folder: Path, snapshot: Path, globs: tuple[str, ...], make: Make[Any], args: tuple[Any, ...]
) -> None:
    devices = Devices(Site(folder), snapshot, globs=globs)
    _OWN[:] = [(devices, make(devices, *args))]


def _part(lines: Lines) -> Made[Any]:
    devices, work = _OWN[0]
    return _worked(devices, work, lines)

"""Work on every device of a fleet: here, by processes of this machine, or by a cluster.

A snapshot is a line a device, so that a fleet falls into parts by itself. Small ones are worked on
here; large ones by processes of their own, each with its own site, a part at a time; or by the
workers of a cluster, where one is named. Parts come back in the order of the devices, and only a
few are held at once.
"""

import gc
import logging
import os
from collections import deque
from collections.abc import Iterator
from contextlib import AbstractContextManager, nullcontext
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from msgspec import Struct

from ovek.app.devices import Devices, release_index
from ovek.app.means import Bar, Calls, Runner, shown
from ovek.app.work import Lines, Made, Part, Work, worked
from ovek.files.site import Site
from ovek.files.state import State

if TYPE_CHECKING:
    from concurrent.futures import Future

T = TypeVar("T")
_LOG = logging.getLogger(__name__)
_PART = 2**20
_LARGE = 16 * _PART


class Here(Struct, frozen=True):
    """Work is done in this process."""

    elsewhere = False

    def run(
        self, devices: Devices, parts: Iterator[Lines], work: Work[T], args: tuple[Any, ...]
    ) -> Iterator[Made[T]]:
        """Go through what comes of each part, in their order. Raises InputError."""
        prepared = work.prepare(devices, *args)
        return (worked(devices, prepared, part) for part in parts)

    def calls(self) -> AbstractContextManager[Calls]:
        """Nothing takes calls."""
        return nullcontext((None, None))


class Processes(Struct, frozen=True):
    """Work is done by so many processes of this machine (0: one a core)."""

    number: int = 0
    elsewhere = False

    def run(
        self, devices: Devices, parts: Iterator[Lines], work: Work[T], args: tuple[Any, ...]
    ) -> Iterator[Made[T]]:
        """Go through what comes of each part, in their order. Raises InputError."""
        return _spread(devices, parts, self.number or _cores(), work, args)

    def calls(self) -> AbstractContextManager[Calls]:
        """Nothing takes calls."""
        return nullcontext((None, None))


class Dask(Struct, frozen=True):
    """Work is done by the Dask workers of a scheduler, by its address."""

    address: str
    elsewhere = True

    def run(
        self, devices: Devices, parts: Iterator[Lines], work: Work[T], args: tuple[Any, ...]
    ) -> Iterator[Made[T]]:
        """Go through what comes of each part, in their order. Raises InputError."""
        from ovek.app.cluster import spread

        return spread(self.address, devices, parts, work, args)

    def calls(self) -> AbstractContextManager[Calls]:
        """The workers take calls."""
        from ovek.app.cluster import calls

        return calls(self.address)


here, processes = Here(), Processes()


def dask(address: str) -> Dask:
    """The Dask workers of the scheduler at an address, such as `tls://host:8786`.

    >>> from ovek import dask, open_site, select
    >>> select(open_site("skerrow-ferries"), runner=dask("tls://host:8786")).runner.address
    'tls://host:8786'
    """
    return Dask(address)


def each_part(devices: Devices, work: Work[T], *args: Any, bar: Bar | None = None) -> Iterator[T]:
    """Go through what comes of each part of a fleet, done where `devices.runner` says.

    `work` and `args` go to other processes, so that they have to pickle; `bar` shows how far a
    large fleet is. Raises InputError.
    """
    devices.check()
    lines = list(devices.chosen.lines.items())
    size = sum(line.length for _, line in lines)
    runner: Runner = devices.runner or _fitting(size)
    bar = bar or devices.bar
    where = type(runner).__name__.lower()
    _LOG.info("%d devices, %d bytes, worked on by: %s", len(lines), size, where)
    with shown(None if runner == here else bar, size) as advance:
        for done, result in runner.run(devices, _parts(lines), work, args):
            advance(done)
            yield result


def _fitting(size: int) -> Runner:
    """Where work on lines of so many bytes pays."""
    cores = _cores() if size >= _LARGE else 1
    return Processes(cores) if cores > 1 else here


def _cores() -> int:
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    return min(cores or 1, 16)


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
    devices: Devices, parts: Iterator[Lines], workers: int, work: Work[T], args: tuple[Any, ...]
) -> Iterator[Made[T]]:
    """Work in processes of their own; parts that wait are bounded, so that memory stays flat."""
    from concurrent.futures import ProcessPoolExecutor

    site, state = devices.site, devices.state
    start = (
        (site.folder, site.until, site.lies), state.root, state.files, devices.stale, work, args,
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
_OWN: list[tuple[Devices, Part[Any]]] = []


def _start(
    place: tuple[Path, datetime | None, Path],
    root: Path,
    files: list[Path],
    stale: dict[str, str],
    work: Work[Any],
    args: tuple[Any, ...],
) -> None:
    folder, until, lies = place
    site = _FORKED[0].site if _FORKED else Site(folder, until=until, lies=lies)
    releases = _FORKED[0].releases if _FORKED else release_index(site)
    devices = Devices(site, State(root, files, {}), releases=releases)
    devices.stale = stale
    _OWN[:] = [(devices, work.prepare(devices, *args))]
    gc.freeze()  # what is there by now stays: no collection need go through it again


def _part(lines: Lines) -> Made[Any]:
    devices, part = _OWN[0]
    return worked(devices, part, lines)

"""Work on every device of a fleet, with a bar on standard error where that takes its time."""

from collections.abc import Iterator
from typing import Any, TypeVar

from ovek.app import runner
from ovek.app.devices import Devices
from ovek.app.work import Make
from ovek.cli.progress import bytes_bar

T = TypeVar("T")


def each_part(devices: Devices, make: Make[T], *args: Any) -> Iterator[T]:
    """Go through what comes of each part of a fleet. Raises InputError."""
    return runner.each_part(devices, make, *args, bar=bytes_bar)

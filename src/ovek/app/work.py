"""What is done with each device of a fleet, wherever that is done."""

from collections.abc import Callable
from typing import Any, ClassVar, Protocol, TypeVar

from ovek.app.devices import Devices
from ovek.engine.verdicts import Judge
from ovek.files.state import Line
from ovek.model.snapshot import Device

T = TypeVar("T")
T_co = TypeVar("T_co", covariant=True)


class Work(Protocol[T_co]):
    """What is done with each device, and what comes of those that were taken since last asked."""

    # The type of what comes of them, as it is read when it comes from another machine.
    makes: ClassVar[Any]

    def knows(self, name: str, line: Line, text: bytes) -> bool:
        """Whether what comes of a device is known, and taken in, from its line alone."""
        return False

    def take(self, device: Device, judge: Judge) -> None:
        """Work on one device."""

    def result(self) -> T_co:
        """What came of the devices taken since the last call."""


# Where the lines of some devices stand, each in a file told by its number. Whoever works on them
# reads them, one at a time, so that no line is held twice.
Lines = list[tuple[str, Line]]
Made = tuple[int, T]

# A class of work, made of the devices of a site and what else it needs.
Make = Callable[..., Work[T]]


def worked(devices: Devices, work: Work[T], lines: Lines) -> Made[T]:
    """Work on the devices of some lines: how many bytes those are, and what came of them."""
    for name, line, text in devices.state.texts(lines):
        if not work.knows(name, line, text):
            device = devices.standing(devices.state.device(name, line, text))
            work.take(device, devices.judge(device))
    return sum(line.length for _, line in lines), work.result()

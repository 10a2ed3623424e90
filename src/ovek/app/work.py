"""What is done with each device of a fleet, wherever that is done."""

from collections.abc import Callable, Iterable
from typing import Any, Generic, NamedTuple, TypeVar

from ovek.app.devices import Devices
from ovek.engine.verdicts import Judge, JudgedDevice, judge_device
from ovek.files.newest import SnapshotLine
from ovek.files.state import LineReader
from ovek.model.snapshot import Device

T = TypeVar("T")

# Where the lines of some devices stand, each in a file told by its number. Whoever works on them
# reads them, one at a time, so that no line is held twice.
Lines = list[tuple[str, SnapshotLine]]
Made = tuple[int, T]


class DeviceLine(NamedTuple):
    """One device by its line in a snapshot, which is read only where it is asked for."""

    devices: Devices
    name: str
    line: SnapshotLine
    reader: LineReader

    @property
    def text(self) -> bytes:
        """The line as it stands in its file. Raises InputError where it cannot be read."""
        return self.reader.text(self.line)

    @property
    def device(self) -> Device:
        """The device as it was read. Raises InputError where the line cannot be."""
        return self.devices.standing(self.devices.state.device(self.name, self.line, self.text))

    def judged(self) -> JudgedDevice:
        """The device with its images judged. Raises InputError."""
        device = self.device
        judge: Judge = self.devices.judge(device)
        return judge_device(device, judge)


# What is done with some devices, a part of a fleet.
Part = Callable[[Iterable[DeviceLine]], T]


class Work(NamedTuple, Generic[T]):
    """What is done with the devices of a fleet, a part at a time.

    `prepare` is called once by each process, with the devices and what else it needs, and gives
    what is done with each part. `makes` is the type of what comes of a part, as it is read when it
    comes from another machine.
    """

    prepare: Callable[..., Part[T]]
    makes: Any


def worked(devices: Devices, part: Part[T], lines: Lines) -> Made[T]:
    """Work on the devices of some lines: how many bytes those are, and what came of them."""
    with devices.state.reader() as reader:
        made = part(DeviceLine(devices, name, line, reader) for name, line in lines)
    return sum(line.length for _, line in lines), made

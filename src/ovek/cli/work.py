"""What is done with each device of a fleet, wherever that is done."""

from typing import Any, ClassVar, Protocol, TypeVar

from ovek.engine.verdicts import Judge
from ovek.files.state import Line
from ovek.model.snapshot import Device

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

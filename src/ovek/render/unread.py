"""Devices that were asked about and were not read: why, what to do, and what is known of them."""

from collections.abc import Iterator, Sequence
from datetime import datetime

from msgspec import Struct
from rich.text import Text

from ovek.model.age import show_age
from ovek.model.unread import Unread
from ovek.render.lines import Line, count, hanging, listed
from ovek.render.visible import visible


class Unreads(Struct, frozen=True):
    """The devices that were not read, as they are told at a time."""

    devices: Sequence[Unread]
    now: datetime

    def __bool__(self) -> bool:
        return bool(self.devices)

    def lines(self) -> Iterator[Line]:
        """Go through the lines of a terminal, a title first; none where all were read."""
        if not self.devices:
            return
        yield from ("", Text("NOT READ", "bold"))
        for device in self.devices:
            yield from hanging(f"  {visible(device.device)}: ", why(device, self.now), indent=6)
            yield from hanging("      do:", device.do, indent=10)

    def summary(self) -> str:
        """How many and which, in one sentence; empty where all were read."""
        if not self.devices:
            return ""
        names = listed([visible(one.device) for one in self.devices])
        return f"{count(len(self.devices), 'device')} not read: {names}."


def why(unread: Unread, now: datetime) -> str:
    """Why a device was not read, and how old what is known of it is."""
    return f"{unread.why}; {known(unread, now)}"


def known(unread: Unread, now: datetime) -> str:
    """How old what is known of a device is."""
    if unread.last_read is None:
        return "never read before"
    return f"last read {show_age(now - unread.last_read)} ago"

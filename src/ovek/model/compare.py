"""What changed on devices between two snapshots (`ovek.compare/1`)."""

from typing import Literal

from msgspec import Struct

from ovek.model.answer import Answer
from ovek.model.ofdevice import OfDevice
from ovek.model.walk import NextBoot

Topic = Literal[
    "version", "image", "boot", "bank", "volume", "component", "configuration", "member"
]
Outcome = Literal["same", "changed", "new", "gone"]


class ChangedFact(Struct, frozen=True, kw_only=True):
    """One thing that is not as it was, told as an engineer would; None was or is not there.

    `member` is None where the device has one member, or the change is the device's. `unknown` is
    the side that is not known: that is no removal, and nothing new.
    """

    topic: Topic
    member: str | None
    what: str
    was: str | None
    now: str | None
    unknown: Literal["was", "now"] | None = None


class MemberDone(Struct, frozen=True, kw_only=True):
    """Whether one member runs what was expected; None is not known."""

    member: str
    done: bool | None
    why: str


class DeviceCompare(OfDevice, frozen=True, kw_only=True):
    """One device in two snapshots. `done` is whether every member runs what was expected of it.

    None: nothing was expected, or it is not known; `members` tells which. `expected` is the
    version. `no_longer_proven` are the images that were proven, are there, and are something else.
    `answer` and `why` are as it is now, `answer_before` as it was. `unasked` is what got worse
    though nobody asks for that, in words.
    """

    outcome: Outcome
    answer: Answer | None = None
    why: str = ""
    answer_before: Answer | None = None
    unasked: tuple[str, ...] = ()
    next_boot_before: NextBoot | None
    next_boot_after: NextBoot | None
    changes: tuple[ChangedFact, ...] = ()
    expected: str | None = None
    no_longer_proven: tuple[ChangedFact, ...] = ()
    done: bool | None = None
    members: tuple[MemberDone, ...] = ()

    @property
    def worse(self) -> bool:
        """Whether anything got worse."""
        return bool(self.unasked)

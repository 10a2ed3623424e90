"""The simulated next start of a device: every candidate tried, with the reason."""

from typing import Literal

from msgspec import Struct

from ovek.model.digest import Algorithm
from ovek.model.ofdevice import OfDevice
from ovek.model.place import Place
from ovek.model.verdict import Verdict

NextBoot = Literal["stranded", "unknown", "unproven", "proven"]
RELOADS_WORST_FIRST: tuple[NextBoot, ...] = ("stranded", "unknown", "unproven", "proven")

CandidateOrigin = Literal[
    "once", "order", "first-found", "default-bank", "other-bank", "trial", "committed"
]
GoesOn = Literal["missing", "absent", "unreadable", "empty"]
Broken = Literal["bad", "not-an-image", "wrong-hardware", "altered", "truncated"]
Starts = Literal["proven", "matched", "unverified", "unlisted", "disputed", "remote"]
CandidateResult = Literal[GoesOn, Broken, Starts, "unknown"]

GOES_ON: tuple[GoesOn, ...] = ("missing", "absent", "unreadable", "empty")
BROKEN: tuple[Broken, ...] = ("bad", "not-an-image", "wrong-hardware", "altered", "truncated")
STARTS: tuple[Starts, ...] = (
    "proven",
    "matched",
    "unverified",
    "unlisted",
    "disputed",
    "remote",
)


class Candidate(Struct, frozen=True, kw_only=True):
    """One thing that the loader tries. `place` is as the device names it.

    `at` is where that is: with the member in front, and spelled as its volume does. None for a
    server's, and for an entry that is not understood.
    """

    place: str
    origin: CandidateOrigin
    result: CandidateResult
    why: str
    at: Place | None = None


class Started(Struct, frozen=True, kw_only=True):
    """What a member starts on; `at` is where that is, as for a candidate."""

    place: str
    version: str | None = None
    verdict: Verdict | None = None
    by: Algorithm | None = None
    at: Place | None = None


class MemberWalk(Struct, frozen=True, kw_only=True, rename={"from_": "from"}):
    """The walk of one member.

    `from_` tells whether the saved settings were walked, or the live ones for want of them; None
    where neither is known. `note` says what else there is to know about the walk. `rescue` is what
    a stranded member could be started from by hand, the best proven first.
    """

    member: str
    from_: Literal["saved", "live"] | None
    outcome: NextBoot
    boots: Started | None
    tried: tuple[Candidate, ...]
    note: str
    rescue: tuple[Started, ...] = ()


class DeviceWalk(OfDevice, frozen=True, kw_only=True):
    """The walk of a device.

    `running` is the version that runs; `changes` whether a member starts another version than it
    runs; `members_differ` whether two members start different versions. None: not known.
    """

    answer: str | None = None
    why: str = ""
    next_boot: NextBoot
    running: str | None
    changes: bool | None
    members_differ: bool | None
    members: tuple[MemberWalk, ...]

    def member(self, name: str) -> MemberWalk:
        """The walk of one member, which is there."""
        return next(each for each in self.members if each.member == name)

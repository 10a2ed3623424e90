"""A runbook: all that is left to do on a device, change by change (`ovek.runbook/1`)."""

from datetime import datetime
from typing import Literal, get_args

from msgspec import Struct

from ovek.model.answer import Answer
from ovek.model.do import Do
from ovek.model.ofdevice import OfDevice
from ovek.model.walk import NextBoot

Stage = Literal[
    "boot loader",
    "configuration",
    "server copy",
    "free space",
    "image",
    "digest",
    "components",
    "boot settings",
    "save",
    "reload",
    "commit",
    "other bank",
    "fallback",
    "tidy",
]
STAGES: tuple[Stage, ...] = get_args(Stage)
"""In the order in which engineers work."""

AimKind = Literal["all", "boot", "target", "fallback", "tidy"]
AIMS: tuple[AimKind, ...] = get_args(AimKind)


class Cut(Struct, frozen=True, kw_only=True):
    """How the device stands after a power failure in the middle of a change."""

    next_boot: NextBoot
    boots: str | None


class RunbookStep(Struct, frozen=True, kw_only=True):
    """One change of a runbook, and what to expect of it.

    `brings` is what a reload makes of each component. `free` are the bytes free on the volume that
    it is about, once it is made. `cut` None: there is no middle, it is made or not. `undo` are the
    changes that undo it, none where nothing can.
    """

    stage: Stage
    do: Do
    brings: tuple[str, ...] = ()
    free: int | None = None
    cut: Cut | None = None
    undo: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """The step in words."""
        return self.do.words


class Barred(Struct, frozen=True, kw_only=True):
    """A part of the aim that no change reaches: unknown because, or impossible because.

    `words` are what a person may do about it. `needed` and `available` are bytes, where space is
    what is missing.
    """

    part: str
    member: str | None
    unknown: bool
    why: str
    words: str
    needed: int | None = None
    available: int | None = None


class OpenProblem(Struct, frozen=True, kw_only=True):
    """A finding, or a part of the aim, that no step ends: what was seen, and what else to do.

    `member` is told where the device has several.
    """

    rule: str
    place: str | None
    seen: str
    words: str
    member: str | None = None


class Runbook(OfDevice, frozen=True, kw_only=True):
    """All that is left to do on one device.

    `done` and `left` are stages; `find_out` what has to be known first, in words: then only what
    rests on nothing is planned. `danger` are the steps, counted from 1, in or after which a power
    failure leaves it worse off. `barred` are the parts of the aim that no step reaches. `minutes`
    are those of the steps of which it is known, `untimed` how many others there are. `next_boot`
    and `boots` are as the device stands, `next_boot_after` and `boots_after` as it would in the
    end;
    `open` is what no step ends. `server` are the images of which the shelf has no proven copy,
    `copies` the bytes that are to be brought. `answer` and `why` are as the device stands, where
    they are told.
    """

    answer: Answer | None = None
    why: str = ""
    waived: int = 0
    target: str | None
    done: tuple[Stage, ...] = ()
    left: tuple[Stage, ...] = ()
    steps: tuple[RunbookStep, ...] = ()
    minutes: int = 0
    untimed: int = 0
    reloads: int = 0
    danger: tuple[int, ...] = ()
    barred: tuple[Barred, ...] = ()
    next_boot: NextBoot
    boots: str | None
    next_boot_after: NextBoot
    boots_after: str | None
    find_out: tuple[str, ...] = ()
    open: tuple[OpenProblem, ...] = ()
    server: tuple[str, ...] = ()
    copies: int = 0


ANY_TIME = "any time"


class Wave(Struct, frozen=True, kw_only=True):
    """Devices that reload together in one window, once what `before` says is so.

    `minutes` are those of the device that takes longest, from its first reload on; `untimed` is
    whether some of its changes are of unknown length. `begins` is the first time at which it may
    be, by the clock of the place; None where only people can tell. `into` is how many minutes of
    the window are over then. `group` is `canaries` or `rest`, `danger` the devices whose plan has a
    step that a power failure must not meet.
    """

    number: int
    group: Literal["canaries", "rest"]
    window: str
    devices: tuple[str, ...]
    minutes: int
    untimed: bool
    length: int | None
    begins: datetime | None
    into: int = 0
    before: str
    danger: tuple[str, ...] = ()

    @property
    def no_date(self) -> str:
        """What to say of the date of the next wave where this one has none; else empty."""
        if self.begins is not None or self.window == ANY_TIME:
            return ""
        text = f"wave {self.number} has no date ({self.window}), so a date of this wave "
        return text + "holds only if that was by then"


class Misfit(Struct, frozen=True, kw_only=True):
    """A device that no wave takes, and why."""

    device: str
    why: str


class Waves(Struct, frozen=True, kw_only=True):
    """A fleet's reloads in waves, and the devices that fit into none."""

    waves: tuple[Wave, ...] = ()
    misfits: tuple[Misfit, ...] = ()


class Followed(Struct, frozen=True, kw_only=True):
    """A runbook held against a later snapshot: changes done and not done, in words.

    `too_much` is what happened though no change asks for it. `next_boot` is the verdict now.
    """

    device: str
    done: tuple[str, ...]
    not_done: tuple[str, ...]
    too_much: tuple[str, ...]
    next_boot: NextBoot

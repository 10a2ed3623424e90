"""What every boot layout can tell: one module a layout, named in `model.sheet.LAYOUTS`.

A layout knows how a kind of device finds its image: which candidates its loader tries, where an
image may be written, how a start is pointed at it, and which facts that takes. It tries nothing
itself: `bootwalk` does.
"""

from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import ClassVar, Literal, TypeVar

from msgspec import Struct

from ovek.engine.layouts.writing import Spot, Unwritable, Writing
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.change import Change
from ovek.model.place import Place
from ovek.model.sheet import BootScheme
from ovek.model.snapshot import Boot, BootEntry, Member, Setting
from ovek.model.verdict import Image
from ovek.model.walk import CandidateOrigin

T = TypeVar("T")


class NotKnownError(Exception):
    """A fact that the walk needs is not known; the text says which."""


class Attempt(Struct, frozen=True):
    """A candidate before it is tried: a place as the device names it, or the entry in its stead."""

    origin: CandidateOrigin
    place: Place | None
    entry: BootEntry | None = None


class Seen:
    """One member as its loader sees it, and which of its settings were read by now.

    `used` is whether any setting was read, `only_live` whether a live one had to do.
    """

    def __init__(self, judged: JudgedDevice, member: JudgedMember) -> None:
        self.judged, self.one, self.member = judged, member, member.member
        self.scheme: BootScheme = judged.judge.sheet.boot
        self.used = self.only_live = False

    @property
    def boot(self) -> Boot:
        """The boot settings; raises NotKnownError."""
        if self.member.boot is None:
            raise NotKnownError("boot settings not read")
        return self.member.boot

    def setting(self, setting: Setting[T]) -> T | None:
        """What the next start reads; the live value where the saved one is not known."""
        if setting.saved is not None:
            self.used = True
            return setting.saved
        if setting.live is not None:
            self.used = self.only_live = True
        return setting.live

    def once(self) -> Iterator[Attempt]:
        """The once entry, where there is one."""
        entry = self.boot.once
        if entry is not None:
            self.used = True
            yield Attempt("once", entry.at, entry)


class Layout(ABC):
    """How a kind of device finds its image.

    `start_facts` are the fields, as Sheet.asks names them, that tell the next start. `holder` is
    where its images are looked for. `pair` is whether one of two directories is committed.
    """

    start_facts: ClassVar[tuple[str, ...]]
    holder: ClassVar[Literal["files", "banks"]]
    pair: ClassVar[bool] = False

    @abstractmethod
    def candidates(self, seen: Seen) -> Iterator[Attempt]:
        """Everything that a start tries, in order; raises NotKnownError where a fact is missing."""

    def named(self, seen: Seen) -> Iterator[Attempt]:
        """What settings name by entries, in order, also behind the first start: the once entry."""
        yield from seen.once()

    def others(self, seen: Seen) -> Iterator[Image]:
        """What a start may come to besides what entries name: another bank, where it goes on."""
        if seen.scheme.fallback == "other-bank":
            yield from seen.one.banks.values()

    @abstractmethod
    def spots(self, writing: Writing) -> list[Spot] | Unwritable:
        """Where an image may be written, that of the least loss first."""

    @abstractmethod
    def point(self, member: Member, spot: Spot) -> tuple[Change, ...]:
        """What a person sets so that the next start is from a spot."""

    @abstractmethod
    def settings_known(self, member: Member) -> bool:
        """Whether it is known what the boot settings name."""

    def into_banks(self, member: Member) -> bool:
        """Whether images go into banks that hold them, not onto a volume."""
        return (
            self.holder == "banks"
            and bool(member.banks)
            and not any(bank.places for bank in member.banks or ())
        )

"""The parsed state of devices at one time: `ovek.snapshot/1`, one device a line.

None means *not known*; an empty tuple means *known to be none*. Sizes are bytes, times are UTC.
"""

from collections import Counter
from datetime import datetime
from typing import Annotated, Generic, Literal, TypeVar

from msgspec import Meta, Struct

from ovek.model.digest import Digests
from ovek.model.place import parse_place

FORMAT = "ovek.snapshot/1"

Bytes = Annotated[int, Meta(ge=0, le=2**63 - 1)]
Name = Annotated[str, Meta(min_length=1)]
Time = Annotated[datetime, Meta(tz=True)]
VolumeState = Literal["ok", "unreadable", "absent"]
BankState = Literal["ok", "empty", "bad"]
BootMode = Literal["listed", "first-found", "hold"]
T = TypeVar("T")


class _Data(
    Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    kw_only=True,
    gc=False,
):
    """Plain data: immutable, strict about unknown keys, and short when written."""


class Setting(_Data, Generic[T], frozen=True):
    """One setting twice over: `live` is in effect now, `saved` is what the next start reads."""

    live: T | None = None
    saved: T | None = None


class File(_Data, frozen=True):
    """One file on a volume. `path` is relative to the volume, without a leading slash."""

    path: Name
    size: Bytes | None = None
    modified: Time | None = None
    digests: Digests | None = None


class FileSet(_Data, frozen=True):
    """An image unpacked into packages, listed by one set file. Paths are of the same volume."""

    set_file: Name
    packages: tuple[Name, ...]


class Volume(_Data, frozen=True):
    """One file system of a member. `files` are in the directory order of the device."""

    name: Name
    state: VolumeState | None = None
    filesystem: str | None = None
    capacity: Bytes | None = None
    free: Bytes | None = None
    cluster: Annotated[int, Meta(ge=1, le=2**40)] | None = None
    files: tuple[File, ...] | None = None
    sets: tuple[FileSet, ...] | None = None

    def __post_init__(self) -> None:
        if self.free is not None and self.capacity is not None and self.free > self.capacity:
            raise ValueError(
                f"free is {self.free} bytes but capacity is {self.capacity}; "
                "a volume cannot have more free than it holds"
            )
        _once_each("file", [file.path for file in self.files or ()])

    @property
    def case_blind(self) -> bool:
        """Whether names that differ only in case may be one name.

        They are on the FAT family, and may be where the file system is not known.
        """
        if self.filesystem is None:
            return True
        return self.filesystem.casefold().lstrip("v").startswith(("fat", "exfat", "msdos"))

    def folded(self, path: str) -> str:
        """The path as names are compared on this volume."""
        return path.casefold() if self.case_blind else path


class Bank(_Data, frozen=True):
    """A fixed place that holds one image, or points to the files that make it up (`places`)."""

    name: Name
    state: BankState | None = None
    version: str | None = None
    variant: str | None = None
    size: Bytes | None = None
    digests: Digests | None = None
    places: tuple[Name, ...] | None = None

    def __post_init__(self) -> None:
        for place in self.places or ():
            parse_place(place)


class BootEntry(_Data, frozen=True):
    """One entry that a start tries. `raw` keeps the device's own text."""

    place: str | None = None
    remote: str | None = None
    raw: str | None = None

    def __post_init__(self) -> None:
        if self.place is not None:
            if self.remote is not None:
                raise ValueError("an entry has a place or is remote, not both")
            parse_place(self.place)
        elif self.remote is None and self.raw is None:
            raise ValueError("an entry needs a place, a remote or at least its raw text")


class Boot(_Data, frozen=True):
    """The boot settings of a member. `once` is tried before all else; None: none is known."""

    mode: Setting[BootMode] = Setting()
    order: Setting[tuple[BootEntry, ...]] = Setting()
    default_bank: Setting[Name] = Setting()
    once: BootEntry | None = None
    ignores_saved_config: Setting[bool] = Setting()


class Pointer(_Data, frozen=True):
    """Where a part is loaded from."""

    part: Name
    place: Name

    def __post_init__(self) -> None:
        parse_place(self.place)


class Part(_Data, frozen=True):
    """Something with firmware of its own, and the version it runs."""

    part: Name
    version: str | None = None


class Hardware(_Data, frozen=True):
    """What a device or member is made of. `memory` is in bytes."""

    model: str | None = None
    revision: str | None = None
    memory: Bytes | None = None


class Member(_Data, frozen=True):
    """One member of a device, with its own flash and boot settings.

    What its own `hardware` does not tell, the device's does.
    """

    id: Name
    role: str | None = None
    running_version: str | None = None
    hardware: Hardware | None = None
    volumes: tuple[Volume, ...] | None = None
    banks: tuple[Bank, ...] | None = None
    boot: Boot | None = None
    pointers: tuple[Pointer, ...] | None = None
    parts: tuple[Part, ...] | None = None

    def __post_init__(self) -> None:
        _once_each("volume", [volume.name for volume in self.volumes or ()])
        _once_each("bank", [bank.name for bank in self.banks or ()])

    def volume(self, name: str) -> Volume | None:
        """Return the volume of this name; None where the snapshot has none."""
        for volume in self.volumes or ():
            if volume.name == name:
                return volume
        return None

    def bank(self, name: str) -> Bank | None:
        """Return the bank of this name; None where the snapshot has none."""
        return next((bank for bank in self.banks or () if bank.name == name), None)


class Evidence(_Data, frozen=True):
    """The raw text that facts came from, by name and SHA-256."""

    name: Name
    sha256: Annotated[str, Meta(pattern=r"^[0-9a-f]{64}$", max_length=64)]


class Source(_Data, frozen=True):
    """How the state was brought in."""

    kind: Name
    evidence: tuple[Evidence, ...] | None = None


class Running(_Data, frozen=True):
    """What runs now, and the place or bank it was started from."""

    version: str | None = None
    variant: str | None = None
    place: str | None = None
    bank: str | None = None

    def __post_init__(self) -> None:
        if self.place is not None:
            parse_place(self.place)


class Config(_Data, frozen=True):
    """The state of the device's configuration."""

    unsaved_changes: bool | None = None
    backed_up_at: Time | None = None


class Device(_Data, frozen=True):
    """One device at one time: one line of a snapshot."""

    format: Literal["ovek.snapshot/1"]
    device: Name
    sheet: Name
    taken_at: Time
    site: str | None = None
    hardware: Hardware = Hardware()
    source: Source | None = None
    running: Running = Running()
    members: tuple[Member, ...] | None = None
    config: Config | None = None

    def __post_init__(self) -> None:
        _once_each("member", [member.id for member in self.members or ()])

    def hardware_of(self, member: Member) -> Hardware:
        """What a member is made of: its own where that is known, else the device's."""
        own, whole = member.hardware, self.hardware
        if own is None:
            return whole
        return Hardware(
            model=own.model if own.model is not None else whole.model,
            revision=own.revision if own.revision is not None else whole.revision,
            memory=own.memory if own.memory is not None else whole.memory,
        )


def _once_each(kind: str, names: list[str]) -> None:
    if len(set(names)) < len(names):
        twice = next(name for name, times in Counter(names).items() if times > 1)
        raise ValueError(f"the {kind} {twice!r} is listed twice; list it once")

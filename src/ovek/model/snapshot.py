"""The parsed state of devices at one time: `ovek.snapshot/1`, one device a line.

None means *not known*; an empty tuple means *known to be none*. Sizes are bytes, times are UTC.
"""

from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Annotated, Generic, Literal, TypeVar

from msgspec import Meta, Struct

from ovek.model.digest import Digests
from ovek.model.filesystem import is_fat
from ovek.model.place import Place, parse_place

FORMAT = "ovek.snapshot/1"

Bytes = Annotated[int, Meta(ge=0, le=2**63 - 1)]
Name = Annotated[str, Meta(min_length=1)]
Time = Annotated[datetime, Meta(tz=True)]
VolumeState = Literal["ok", "unreadable", "absent"]
BankState = Literal["ok", "empty", "bad"]
BootMode = Literal["listed", "first-found", "hold"]
T = TypeVar("T")
ITSELF = "itself"  # where a component is loaded from that lies on no volume


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

    @property
    def effective(self) -> T | None:
        """What the next boot reads; the live value where the saved one is not known."""
        return self.saved if self.saved is not None else self.live


class File(_Data, frozen=True):
    """One file on a volume. `path` is relative to the volume, without a leading slash.

    `size` is known to within `size_step` bytes, as a listing in KiB tells it; None is exact.
    `path_cut` is whether the listing cut the name, which may then be any that begins so.
    `digests_at` is when the digests were measured; None: when the device was read.
    """

    path: Name
    size: Bytes | None = None
    size_step: Annotated[int, Meta(ge=1, le=2**50)] | None = None
    path_cut: bool = False
    modified: Time | None = None
    digests: Digests | None = None
    digests_at: Time | None = None

    @property
    def least(self) -> int:
        """The fewest bytes that it may have; 0 where nothing is known of its size."""
        if self.size is None:
            return 0
        return self.size if self.size_step is None else max(0, self.size - self.size_step + 1)

    @property
    def most(self) -> int | None:
        """The most bytes that it may have; None where nothing is known of its size."""
        if self.size is None or self.size_step is None:
            return self.size
        return self.size + self.size_step - 1

    def may_have(self, size: int) -> bool:
        """Whether it may have this many bytes, as far as is known.

        >>> told_in_kib = File(path="a.img", size=3072, size_step=1024)
        >>> [told_in_kib.may_have(size) for size in (2048, 2049, 4095, 4096)]
        [False, True, True, False]
        """
        most = self.most
        return most is None or self.least <= size <= most

    @property
    def is_empty(self) -> bool:
        """Whether it surely holds nothing."""
        return self.most == 0


class FileSet(_Data, frozen=True):
    """An image unpacked into packages, listed by one set file. Paths are of the same volume."""

    set_file: Name
    packages: tuple[Name, ...]


class Volume(_Data, frozen=True):
    """One file system of a member. `files` are in the directory order of the device."""

    name: Name
    state: VolumeState | None = None
    filesystem: str | None = None
    removable: bool | None = None
    capacity: Bytes | None = None
    free: Bytes | None = None
    cluster: Annotated[int, Meta(ge=1, le=2**40)] | None = None
    files: tuple[File, ...] | None = None
    sets: tuple[FileSet, ...] | None = None

    def __post_init__(self) -> None:
        if self.free is not None and self.capacity is not None and self.free > self.capacity:
            raise ValueError(
                f"free is {self.free} bytes but capacity is {self.capacity}; "
                "free space cannot be larger than the capacity"
            )
        files = self.files or ()
        if len({file.path for file in files}) < len(files):  # two names may be cut alike
            _once_each("file", [file.path for file in files if not file.path_cut])

    @property
    def case_blind(self) -> bool:
        """Whether names that differ only in case may be one name.

        They are on the FAT family, and may be where the file system is not known.
        """
        return self.filesystem is None or is_fat(self.filesystem)

    def folded(self, path: str) -> str:
        """The path as names are compared on this volume."""
        return path.casefold() if self.case_blind else path

    def files_at(self, path: str) -> tuple[File, ...]:
        """The files of this path, as names are compared on this volume.

        >>> files = (File(path="A.img"), File(path="b.img"))
        >>> stick = Volume(name="stick", filesystem="fat32", files=files)
        >>> [file.path for file in stick.files_at("a.img")]
        ['A.img']
        """
        files = self.files or ()
        if not self.case_blind:
            return tuple([file for file in files if file.path == path])
        name = path.casefold()
        return tuple([file for file in files if file.path.casefold() == name])


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

    @property
    def files(self) -> tuple[Place, ...]:
        """The places of the files that make it up, as they are named; empty also if not known."""
        return tuple(map(parse_place, self.places or ()))


class BootEntry(_Data, frozen=True):
    """One entry that a start tries. `raw` keeps the device's own text."""

    place: str | None = None
    remote: str | None = None
    raw: str | None = None

    def __post_init__(self) -> None:
        if self.place is not None:
            if self.remote is not None:
                raise ValueError("a boot entry has a place or a remote, not both")
            parse_place(self.place)
        elif self.remote is None and self.raw is None:
            raise ValueError("a boot entry needs a place, a remote or at least its raw text")

    @property
    def at(self) -> Place | None:
        """The place that it names; None where it names none."""
        return None if self.place is None else parse_place(self.place)

    @property
    def shown(self) -> str:
        """What it names: a place, something remote, or else the device's own text."""
        return self.place or self.remote or self.raw or ""


class Boot(_Data, frozen=True):
    """The boot settings of a member. `once` is tried before all else; None: none is known."""

    mode: Setting[BootMode] = Setting()
    order: Setting[tuple[BootEntry, ...]] = Setting()
    default_bank: Setting[Name] = Setting()
    once: BootEntry | None = None
    ignores_saved_config: Setting[bool] = Setting()


class Component(_Data, frozen=True):
    """Something with firmware of its own, and the version it runs.

    Where there are several of one kind, each is in a `slot`. `loads_from` is the place that it is
    loaded from at the next reload, or `itself`, where that is no place on a volume; None: not
    known.
    """

    component: Name
    slot: Name | None = None
    version: str | None = None
    loads_from: str | None = None

    def __post_init__(self) -> None:
        if self.loads_from not in (None, ITSELF):
            parse_place(self.loads_from)

    @property
    def place(self) -> Place | None:
        """Where it is loaded from, as its member names that; None: from no volume, or not known."""
        if self.loads_from is None or self.loads_from == ITSELF:
            return None
        return parse_place(self.loads_from)

    @property
    def shown(self) -> str:
        """The component, and its slot where there are several.

        >>> Component(component="line-card", slot="3").shown
        'line-card in slot 3'
        """
        return self.component if self.slot is None else f"{self.component} in slot {self.slot}"


class Hardware(_Data, frozen=True):
    """What a device or member is made of. `memory` is in bytes."""

    model: str | None = None
    revision: str | None = None
    memory: Bytes | None = None
    serial: str | None = None


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
    components: tuple[Component, ...] | None = None

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

    @property
    def at(self) -> Place | None:
        """The place that it was started from, as it is named; None: from a bank, or not known."""
        return None if self.place is None else parse_place(self.place)


class Config(_Data, frozen=True):
    """The state of the device's configuration. `backed_up` is told where it never was."""

    unsaved_changes: bool | None = None
    backed_up_at: Time | None = None
    backed_up: Literal["never"] | None = None


class Device(_Data, frozen=True):
    """One device at one time: one line of a snapshot.

    `at` is where it was read: `running`, or at the prompt of its `boot-loader`, where nothing runs.
    `clock` is its own time when it was read, `reload_at` when it is set to reload by itself.
    """

    format: Literal["ovek.snapshot/1"]
    device: Name
    sheet: Name
    taken_at: Time
    site: str | None = None
    role: str | None = None
    at: Literal["running", "boot-loader"] | None = None
    clock: Time | None = None
    reload_at: Time | None = None
    hardware: Hardware = Hardware()
    source: Source | None = None
    running: Running = Running()
    members: tuple[Member, ...] | None = None
    config: Config | None = None

    def __post_init__(self) -> None:
        _once_each("member", [member.id for member in self.members or ()])

    @property
    def now(self) -> datetime:
        """When it was read by its own clock, by which ages on it are counted."""
        return self.clock if self.clock is not None else self.taken_at

    def ago(self, age: timedelta) -> datetime:
        """A time so long ago by its own clock, whatever that says."""
        try:
            return self.now - age
        except OverflowError:
            return datetime.min.replace(tzinfo=UTC)

    def hardware_of(self, member: Member) -> Hardware:
        """What a member is made of: its own where that is known, else the device's.

        A serial number is one member's: that of the device is its member's where it has but one.
        """
        own, whole = member.hardware, self.hardware
        if own is None and (whole.serial is None or len(self.members or ()) == 1):
            return whole
        own = own if own is not None else Hardware()
        alone = len(self.members or ()) == 1
        return Hardware(
            model=own.model if own.model is not None else whole.model,
            revision=own.revision if own.revision is not None else whole.revision,
            memory=own.memory if own.memory is not None else whole.memory,
            serial=own.serial if own.serial is not None or not alone else whole.serial,
        )


def _once_each(kind: str, names: list[str]) -> None:
    if len(set(names)) < len(names):
        twice = next(name for name, times in Counter(names).items() if times > 1)
        raise ValueError(f"the {kind} {twice!r} is listed twice; list it once")

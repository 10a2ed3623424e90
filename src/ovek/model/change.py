"""Changes: what a person does to a device, and what may befall it, as plain data.

What each needs, does, leaves half done, takes and is undone by is told in `ovek.engine.changes`.
Places have their member in front. Sizes are bytes.
"""

from typing import Literal

from msgspec import Struct

from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.snapshot import BootEntry, BootMode
from ovek.model.verdict import KnownRelease


class NewContent(Struct, frozen=True, kw_only=True):
    """The bytes of an image on their way: `release` None is an image that nobody published."""

    name: str
    size: int | None = None
    digests: Digests | None = None
    version: str | None = None
    variant: str | None = None
    release: KnownRelease | None = None


class CheckDigest(Struct, frozen=True, kw_only=True, tag="check-digest"):
    """Find out the digests of a file or bank: brings knowledge, changes nothing."""

    place: Place
    digests: Digests


class BackUp(Struct, frozen=True, kw_only=True, tag="back-up"):
    """Take an image (None: the configuration) to the shelf."""

    place: Place | None = None
    size: int | None = None


class Delete(Struct, frozen=True, kw_only=True, tag="delete"):
    """Delete a unit: one file, or a set file first and then the packages that go with it.

    `tier` is how much it would be missed, `why` says so in words.
    """

    place: Place
    also: tuple[Place, ...] = ()
    tier: int | None = None
    why: str = ""


class Copy(Struct, frozen=True, kw_only=True, tag="copy"):
    """Copy an image to a volume; `bank` is the bank of files that it becomes part of.

    `source` is where it is copied from on the device itself (a stick, another volume or member);
    None: from the shelf, or from wherever the publisher's file lies.
    """

    place: Place
    content: NewContent
    bank: str | None = None
    source: Place | None = None


class WriteBank(Struct, frozen=True, kw_only=True, tag="write-bank"):
    """Write an image into a bank that holds it itself."""

    member: str
    bank: str
    content: NewContent


class CopyBank(Struct, frozen=True, kw_only=True, tag="copy-bank"):
    """Write what one bank of a member holds into another of it."""

    member: str
    source: str
    bank: str


class LoadComponent(Struct, frozen=True, kw_only=True, tag="load-component"):
    """Load the firmware of a component, in its slot where there are several, from its image."""

    member: str
    component: str
    version: str
    slot: str | None = None
    image: str | None = None
    minutes: int | None = None


class SetComponent(Struct, frozen=True, kw_only=True, tag="set-component"):
    """Have a component loaded from a file at the next reload. It holds at once, saved or not."""

    member: str
    component: str
    place: Place
    slot: str | None = None


class SetOrder(Struct, frozen=True, kw_only=True, tag="set-order"):
    """Set the live boot order."""

    member: str
    entries: tuple[BootEntry, ...]


class SetMode(Struct, frozen=True, kw_only=True, tag="set-mode"):
    """Set the live boot mode."""

    member: str
    mode: BootMode


class SetDefault(Struct, frozen=True, kw_only=True, tag="set-default"):
    """Set the live default bank."""

    member: str
    bank: str


class SetOnce(Struct, frozen=True, kw_only=True, tag="set-once"):
    """Schedule a start, one time; None takes it back. It holds at once, saved or not."""

    member: str
    entry: BootEntry | None


class HeedConfig(Struct, frozen=True, kw_only=True, tag="heed-config"):
    """Have the next boot read the saved configuration again. It holds at once, saved or not.

    The device itself runs without it until the next reload.
    """

    member: str


class Save(Struct, frozen=True, kw_only=True, tag="save"):
    """The live settings of a member, where they are known, become the saved ones.

    `member` None is the configuration of the device, without its boot settings.
    """

    member: str | None


class Commit(Struct, frozen=True, kw_only=True, tag="commit"):
    """The trial directory becomes the committed one."""

    member: str


class Reload(Struct, frozen=True, kw_only=True, tag="reload"):
    """What the walk starts becomes what runs; `minutes` is how long that takes, if it is known."""

    minutes: int | None = None


class BootByHand(Struct, frozen=True, kw_only=True, tag="boot-by-hand"):
    """Boot each member from a place that a person names at its boot loader."""

    places: tuple[Place, ...]


class Lose(Struct, frozen=True, kw_only=True, tag="lose"):
    """A whole volume goes (`path` empty), or what a bank holds. Nobody does that: it happens."""

    place: Place


class Spoil(Struct, frozen=True, kw_only=True, tag="spoil"):
    """A file or bank gets other bytes than it had. Nobody does that: it happens."""

    place: Place


Change = (
    CheckDigest
    | BackUp
    | Delete
    | Copy
    | WriteBank
    | CopyBank
    | LoadComponent
    | SetComponent
    | SetOrder
    | SetMode
    | SetDefault
    | SetOnce
    | HeedConfig
    | Save
    | Commit
    | Reload
    | BootByHand
    | Lose
    | Spoil
)
ChangeKind = Literal[
    "check-digest",
    "back-up",
    "delete",
    "copy",
    "write-bank",
    "copy-bank",
    "load-component",
    "set-component",
    "set-order",
    "set-mode",
    "set-default",
    "set-once",
    "heed-config",
    "save",
    "commit",
    "reload",
    "boot-by-hand",
    "lose",
    "spoil",
]

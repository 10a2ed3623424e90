"""What lies on the shelf, and what it is worth (`ovek.shelf/1`)."""

from datetime import datetime
from typing import Literal

from msgspec import Struct

from ovek.model.catalog import Contained
from ovek.model.digest import Algorithm, Digests
from ovek.model.signature import SignatureCheck
from ovek.model.structure import Structure
from ovek.model.verdict import Verdict


class ShelfMember(Struct, frozen=True, kw_only=True):
    """One file inside an archive, digested without being unpacked to disk."""

    path: str
    size: int
    digests: Digests


class ShelfFile(Struct, frozen=True, kw_only=True, gc=False):
    """One file of the shelf: its digests, what its format says, and what is inside an archive.

    `problem` is why it could not be read whole; nothing else is known of it then. `by_word` is
    whether its digests are by its server's own word. `modified` and `sign` are what its server
    tells of it, by which it is the same the next time.
    """

    path: str
    size: int | None
    digests: Digests = Digests()
    structure: Structure | None = None
    members: tuple[ShelfMember, ...] = ()
    problem: str | None = None
    note: str | None = None
    by_word: bool = False
    modified: datetime | None = None
    sign: str | None = None


SHELF_RECORD = "ovek.shelf-record/1"


class ShelfRecord(Struct, frozen=True, kw_only=True):
    """What a shelf elsewhere held when it was last read: its name, where, when, and each file."""

    format: Literal["ovek.shelf-record/1"] = "ovek.shelf-record/1"
    shelf: str
    at: str
    read_at: datetime
    files: tuple[ShelfFile, ...]


class ShelfVerdict(Struct, frozen=True, kw_only=True):
    """One file (or `path!member` of an archive) judged.

    `verdict` None: it is no image. `used_by` are devices that run it or start it next, `version` is
    that of its release. `named` is the release that its name says, where it holds another;
    `contains` are the images in a proven archive. `signature` is what the signature beside it came
    to; None: there is none, or none was looked for.
    """

    path: str
    size: int | None
    verdict: Verdict | None
    why: str
    release: str | None
    by: Algorithm | None
    hardware: tuple[str, ...]
    used_by: tuple[str, ...]
    structure: Structure | None
    problem: str | None
    digests: Digests
    version: str | None = None
    named: str | None = None
    contains: tuple[Contained, ...] = ()
    by_word: bool = False
    signature: SignatureCheck | None = None


class Look(Struct, frozen=True, kw_only=True):
    """One shelf looked at: its name, where it is, when it was read, and each file judged.

    `read_at` None: now, here. `problem` is why it could not be read now.
    """

    name: str
    at: str
    files: list[ShelfVerdict]
    read_at: datetime | None = None
    problem: str | None = None


FileUse = Literal["the one", "first", "component", "no"]


class Offered(Struct, frozen=True, kw_only=True):
    """One image of the shelf held against a device.

    `use`: it is the one; it has to start first, on the way to the one; it is for a component; no.
    """

    path: str
    release: str | None
    verdict: Verdict
    use: FileUse
    why: str


class Offer(Struct, frozen=True, kw_only=True):
    """What the shelf has for a device: `chosen` is the release for it, `good` a proven copy."""

    device: str
    chosen: str | None
    good: str | None
    files: tuple[Offered, ...]


class Backups(Struct, frozen=True, kw_only=True):
    """When the newest copy of each device's configuration was written.

    A device without one has none where the folder was read `whole`; else that is not known.
    """

    newest: dict[str, datetime]
    whole: bool = True


class ShelfFacts(Struct, frozen=True, kw_only=True):
    """What the audit takes from the shelf, by digest: what is proven there, and what is broken.

    `broken` tells what is wrong inside each file whose own format shows it to be damaged.
    `unread` are shelves of which nothing is known, so that what no other holds may lie there.
    `read` are the shelves elsewhere that are part of it, and when each was last read.
    `backups` None: policy does not say what configuration backups are called. `held` are the
    digests of all that lies there, `sizes` the bytes of what is proven there and
    `where` in which file, by digest.
    """

    proven: frozenset[str]
    broken: dict[str, str]
    backups: Backups | None = None
    read: tuple[tuple[str, datetime], ...] = ()
    unread: tuple[str, ...] = ()
    held: frozenset[str] = frozenset()
    sizes: dict[str, int] = {}
    where: dict[str, str] = {}

    @property
    def named(self) -> str:
        """The shelf in words: with the servers that are part of it, as they were last read."""
        parts = [f"{name} as read {at:%Y-%m-%d %H:%M} UTC" for name, at in self.read]
        return f"the shelf ({', '.join(parts)})" if parts else "the shelf"

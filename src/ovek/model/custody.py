"""One image followed from where it was published to every flash (`ovek.custody/1`)."""

from datetime import datetime
from typing import Literal

from msgspec import Struct

from ovek.model.digest import Digests
from ovek.model.signature import SignatureCheck

Hop = Literal["catalog", "archive", "shelf", "flash"]
HOPS: tuple[Hop, ...] = ("catalog", "archive", "shelf", "flash")  # a shelf's archives before it


class Sighting(Struct, frozen=True, kw_only=True):
    """One copy of an image: on which hop, where, under which name, and its digests.

    `folder` names a shelf folder, and `order` is its place among those given, from 0. `device` and
    `sheet` are set on a flash; `running` is whether the device runs it, `digest_at` when its
    digests were read. `signature` is that of the list in the catalog, or of a file on a shelf.
    """

    hop: Hop
    place: str
    name: str
    size: int | None
    digests: Digests
    folder: str | None = None
    order: int = 0
    device: str | None = None
    sheet: str | None = None
    running: bool = False
    digest_at: datetime | None = None
    signature: SignatureCheck | None = None

    @property
    def stored(self) -> bool:
        """Whether it lies in a shelf folder, or in an archive there."""
        return self.hop in ("archive", "shelf")


class CopyGroup(Struct, frozen=True, kw_only=True):
    """Copies with equal digests. `good` None: not in the catalog; no digests: not known."""

    label: str
    good: bool | None
    digests: tuple[tuple[str, str], ...]
    copies: tuple[Sighting, ...]


class Custody(Struct, frozen=True, kw_only=True):
    """One image followed. `first_bad` is the first hop with a wrong digest, if any.

    `bad_in` names the folder of that hop, where it is one of the shelf. `listed` is whether any
    source lists the image; else its copies are known by their bytes only. `odd` are the labels of
    groups that differ from most copies where nothing published tells which are good. `listed_by`
    is who has a digest of it: a publisher, only an own record, or none. `disputed` is whether that
    digest is in doubt: its publisher doubts it, or all copies on several hops agree on another.
    """

    image: str
    version: str | None
    groups: tuple[CopyGroup, ...]
    first_bad: Hop | None
    advice: tuple[str, ...]
    renamed: tuple[str, ...]
    restorable: bool | None
    bad_in: str | None = None
    listed: bool = True
    odd: tuple[str, ...] = ()
    listed_by: Literal["publisher", "own", "none"] = "publisher"
    disputed: bool = False

"""One image followed from where it was published to every flash (`ovek.custody/1`)."""

from datetime import datetime
from typing import Literal

from msgspec import Struct

from ovek.model.digest import Digests

Hop = Literal["catalog", "archive", "shelf", "flash"]
HOPS: tuple[Hop, ...] = ("catalog", "archive", "shelf", "flash")


class Sighting(Struct, frozen=True, kw_only=True):
    """One copy of an image: on which hop, where, under which name, and its digests.

    `device` is set on a flash; `runs` whether the device runs it, `measured_at` when its digests
    were measured.
    """

    hop: Hop
    place: str
    name: str
    size: int | None
    digests: Digests
    device: str | None = None
    runs: bool = False
    measured_at: datetime | None = None


class CopyGroup(Struct, frozen=True, kw_only=True):
    """Copies with equal digests. `right` None: nothing published tells; no digests: not known."""

    label: str
    right: bool | None
    digests: tuple[tuple[str, str], ...]
    copies: tuple[Sighting, ...]


class Custody(Struct, frozen=True, kw_only=True):
    """One image followed. `first_wrong` is the first hop with a wrong digest, if any."""

    image: str
    version: str | None
    groups: tuple[CopyGroup, ...]
    first_wrong: Hop | None
    told: tuple[str, ...]
    renamed: tuple[str, ...]
    restorable: bool | None

"""Where a result comes from: the network, the snapshots and when they were taken."""

from datetime import datetime

from msgspec import Struct


class SnapshotUsed(Struct, frozen=True, kw_only=True):
    """A snapshot of which lines were used: how many, the first and the last by when it was read."""

    file: str
    devices: int
    first: datetime
    last: datetime


class Context(Struct, frozen=True, kw_only=True):
    """What every result names: `site` is the network, `selected` which devices, empty for all.

    `as_of` is when the result was made, or the time that was asked about: then `knowing` is `then`
    or `now`, by which catalog, policy and waivers it was judged.
    """

    site: str
    as_of: datetime
    snapshots: tuple[SnapshotUsed, ...] = ()
    selected: str = ""
    knowing: str | None = None

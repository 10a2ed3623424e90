"""What the user's cache holds."""

from collections.abc import Sequence
from datetime import datetime

from msgspec import Struct

from ovek.model.result import Result


class CacheEntry(Struct, frozen=True, kw_only=True):
    """One entry of the cache: what it is, where, of which site, its bytes, and when it was used.

    `site_gone` is whether the site's folder is no longer there.
    """

    kind: str
    path: str
    site: str | None
    site_gone: bool
    size: int
    used: datetime


class CacheContent(Result, frozen=True, kw_only=True):
    """What the cache holds, and what was removed of it; sizes are in bytes."""

    FORMAT = "ovek.cache/1"
    LIST = "entries"

    folder: str
    entries: Sequence[CacheEntry]
    removed: Sequence[CacheEntry]
    most_bytes: int
    most_days: int

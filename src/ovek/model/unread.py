"""A device that was asked about and was not read."""

from datetime import datetime

from msgspec import Struct


class Unread(Struct, frozen=True, kw_only=True):
    """One device that was not read: why, what to do, and when it last was; None: never.

    `site`, `role` and `sheet` are what the fleet file says of it.
    """

    device: str
    site: str | None = None
    role: str | None = None
    sheet: str | None = None
    why: str
    do: str
    last_read: datetime | None

"""Where an image, a version or a digest is: on which devices and shelf folders (`ovek.where/1`)."""

from datetime import datetime

from msgspec import Struct

from ovek.model.digest import Digests
from ovek.model.verdict import Verdict


class Holding(Struct, frozen=True, kw_only=True):
    """One copy. `device` None: it lies on a shelf, whose folder and file `place` tells.

    `running` and `boots` are whether the device runs it, or starts from it next; None is not known.
    `known_at` is when its digests were measured, else when the device was read. `verdict` None: it
    is no image that is known.
    """

    device: str | None
    site: str | None = None
    role: str | None = None
    sheet: str | None = None
    model: str | None = None
    taken_at: datetime | None = None
    place: str
    version: str | None
    release: str | None
    verdict: Verdict | None
    size: int | None
    digests: Digests
    running: bool | None = None
    boots: bool | None = None
    known_at: datetime | None = None

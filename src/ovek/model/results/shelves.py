"""What lies on shelves."""

from collections.abc import Sequence
from datetime import datetime

from msgspec import Struct

from ovek.model.digest import Algorithm
from ovek.model.results import OfSite
from ovek.model.shelf import Look, Offer, ShelfVerdict
from ovek.model.signature import REFUSED


class ShelfSeen(Struct, frozen=True, kw_only=True):
    """One shelf that was looked at: where it is, how many files, and why it could not be read."""

    name: str
    at: str
    read_at: datetime | None
    files: int
    problem: str | None


class ShelfLook(OfSite, frozen=True, kw_only=True):
    """The files of some shelves, judged; a file inside an archive is `ARCHIVE!PATH`.

    Of several shelves each path has the name of its shelf in front. `offer` is what they have for
    one device. Beside what JSON tells, `looks` are the shelves one by one.
    """

    FORMAT = "ovek.shelf/1"
    LIST = "files"
    BESIDE = ("looks",)

    folder: str | None
    shelves: Sequence[ShelfSeen]
    files: Sequence[ShelfVerdict]
    offer: Offer | None
    looks: Sequence[Look]

    @property
    def wrong(self) -> bool:
        """Whether a file is not what it should be; of an offer, whether there is no good copy."""
        if self.offer is not None:
            return self.offer.good is None
        return any(
            one.verdict in ("altered", "truncated")
            or one.named is not None
            or (one.signature is not None and one.signature.state in REFUSED)
            or (one.structure is not None and not one.structure.sound and one.verdict != "proven")
            for one in self.files
        )

    @property
    def unread(self) -> bool:
        """Whether a shelf or a file could not be read."""
        some = any(look.problem is not None for look in self.looks)
        return some or any(one.problem is not None for one in self.files)


class Expectation(Struct, frozen=True, kw_only=True):
    """One file held against a digest that was pasted; `made` is what it has."""

    file: str
    algorithm: Algorithm
    wanted: str
    made: str

"""Places: where an image lies, as `volume:path`, `2/volume:path` or `bank:name`.

>>> parse_place("2/flash:ox40-full-7.4.2.img")
Place(volume='flash', path='ox40-full-7.4.2.img', member='2')
>>> str(Place("bank", "primary"))
'bank:primary'
"""

import re
from functools import lru_cache
from typing import NamedTuple

_PLACE = re.compile(r"(?:(?P<member>[^/:]+)/)?(?P<volume>[^/:]+):(?P<path>.+)", re.DOTALL)

BANK = "bank"


class PlaceError(ValueError):
    """A text that names no place."""


class Place(NamedTuple):
    """One place on a device. `member` is None where the place is on the member that names it."""

    volume: str
    path: str
    member: str | None = None

    @property
    def is_bank(self) -> bool:
        """Whether this names a bank, not a file."""
        return self.volume == BANK

    @property
    def is_folder(self) -> bool:
        """Whether this names a folder: it has a slash at the end."""
        return self.path.endswith("/")

    @property
    def name(self) -> str:
        """The last part of the path: the file's own name."""
        return self.path.rpartition("/")[2]

    def on(self, member: str | None) -> "Place":
        """Return the same place with the member in front (None: without)."""
        return self if self.member == member else Place(self.volume, self.path, member)

    def __str__(self) -> str:
        front = f"{self.member}/" if self.member is not None else ""
        return f"{front}{self.volume}:{self.path}"


@lru_cache(maxsize=4096)
def parse_place(text: str) -> Place:
    """Read a place. Slashes that lead the path are dropped; blanks count. Raises PlaceError."""
    match = _PLACE.fullmatch(text)
    path = match["path"].lstrip("/") if match else ""
    if match is None or not path:
        raise PlaceError(f"{text!r} is not a place; use volume:path or bank:name")
    return Place(match["volume"], path, match["member"])

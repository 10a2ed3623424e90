"""What a file's own format says of it."""

from msgspec import Struct


class Structure(Struct, frozen=True, kw_only=True):
    """A recognised format: sound, or broken at an offset in bytes.

    A sound structure proves nothing: it only shows no damage.
    """

    kind: str
    sound: bool
    why: str = ""
    offset: int | None = None

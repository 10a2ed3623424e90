"""What every result has in common."""

from collections.abc import Iterable, Iterator
from typing import ClassVar, Protocol, TypeVar

from msgspec import Struct

T_co = TypeVar("T_co", covariant=True)


class Result(Struct, frozen=True, kw_only=True):
    """What a use case gives. As JSON it is an object of its fields, but those of `BESIDE`.

    `FORMAT` is the format that it names, `LIST` the field whose values JSON Lines has a line each.
    The fields of `INLINE`, where that is told, stand in the object themselves.
    """

    FORMAT: ClassVar[str]
    LIST: ClassVar[str]
    BESIDE: ClassVar[tuple[str, ...]] = ()
    INLINE: ClassVar[str | None] = None


class Many(Protocol[T_co]):
    """Values that may be too many for memory: gone through again and again, or as lines of JSON."""

    number: int

    def __iter__(self) -> Iterator[T_co]:
        """Go through them."""

    def lines(self) -> Iterable[bytes]:
        """Go through them as JSON, keys sorted, without line ends."""

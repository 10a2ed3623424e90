"""Results kept in a temporary file, so that memory stays flat however large the fleet is."""

import tempfile
from collections.abc import Iterator
from typing import Generic, TypeVar

import msgspec

T = TypeVar("T", bound=msgspec.Struct)
_IN_MEMORY = 8 * 2**20


class Spool(Generic[T]):
    """Values of one kind, added once and read back as often as needed, in order."""

    def __init__(self, kind: type[T]) -> None:
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY)  # noqa: SIM115
        self._decoder = msgspec.json.Decoder(kind)
        self._encoder = msgspec.json.Encoder(order="sorted")
        self.number = 0

    def __del__(self) -> None:
        self._file.close()

    def add(self, value: T) -> None:
        """Keep one value."""
        self.add_line(self._encoder.encode(value))

    def add_line(self, line: bytes) -> None:
        """Keep one value that is JSON already, its keys sorted."""
        self._file.write(line + b"\n")
        self.number += 1

    def lines(self) -> Iterator[bytes]:
        """Go through the values as JSON, keys sorted, without line ends."""
        self._file.seek(0)
        for line in self._file:
            yield line[:-1]

    def __iter__(self) -> Iterator[T]:
        return map(self._decoder.decode, self.lines())

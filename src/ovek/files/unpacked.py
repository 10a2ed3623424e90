"""Reading what a compressed file holds, piece by piece: gzip (RFC 1952), xz and bzip2.

Several streams behind one another are one; other data behind a whole stream, a signature say, is
left out. However much a stream unpacks to, only a piece of it is held, and a stream that asks for
more memory than any that is made in earnest is refused.
"""

import bz2
import io
import lzma
import time
import zlib
from collections.abc import Callable
from typing import Any, BinaryIO

from ovek.model.size import show_size

_IN, _OUT = 2**17, 2**20
_MOST_MEMORY = 256 * 2**20  # bytes; `xz -9` takes 65 MiB to unpack


MOST_BYTES = 64 * 2**30
MOST_RATIO = 1_000
RATIO_COUNTS_FROM = 256 * 2**20  # bytes that are unpacked whatever the ratio
# How long a look may take: so many seconds, and one for so many bytes of the file.
SECONDS, SPEED = 30.0, 2**20


class TooMuchError(Exception):
    """A file that is looked into no further: it says why."""


class Bounds:
    """How much a file of a size may unpack to, and how long that may take: against bombs."""

    def __init__(self, packed: int) -> None:
        self._packed, self._unpacked = packed, 0
        self._ends = time.monotonic() + SECONDS + packed / SPEED

    def take(self, size: int) -> None:
        """Count bytes that were unpacked. Raises TooMuchError."""
        self._unpacked += size
        if self._unpacked > MOST_BYTES:
            raise TooMuchError(
                f"it unpacks to over {show_size(MOST_BYTES)}, so it was not looked into further"
            )
        if time.monotonic() > self._ends:
            raise TooMuchError("it takes too long to unpack, so it was not looked into further")
        far = self._unpacked > RATIO_COUNTS_FROM
        if far and self._unpacked > self._packed * MOST_RATIO:
            raise TooMuchError(
                f"it unpacks to over {MOST_RATIO} times its size, so it was not looked into further"
            )


class DamagedArchiveError(ValueError):
    """Data that does not unpack; or, where it asks for `memory`, is not unpacked."""

    def __init__(self, why: str, *, memory: bool = False) -> None:
        super().__init__(why)
        self.memory = memory


class _Zlib:
    """A gzip stream: `take` unpacks at most so much, and keeps the data that is left over."""

    def __init__(self) -> None:
        self._made = zlib.decompressobj(wbits=31)

    @property
    def eof(self) -> bool:
        return self._made.eof

    @property
    def unused_data(self) -> bytes:
        return self._made.unused_data

    def take(self, data: bytes, most: int) -> bytes:
        return self._made.decompress(self._made.unconsumed_tail + data, most)

    def hungry(self) -> bool:
        return not self._made.unconsumed_tail


class _Other:
    """An xz or bzip2 stream, likewise."""

    def __init__(self, made: Any) -> None:
        self._made = made

    @property
    def eof(self) -> bool:
        return bool(self._made.eof)

    @property
    def unused_data(self) -> bytes:
        return bytes(self._made.unused_data)

    def take(self, data: bytes, most: int) -> bytes:
        return bytes(self._made.decompress(data, most))

    def hungry(self) -> bool:
        return bool(self._made.needs_input)


_Stream = _Zlib | _Other
_MADE: dict[bytes, Callable[[], _Stream]] = {
    b"\x1f\x8b\x08": _Zlib,
    b"\xfd7zXZ\0": lambda: _Other(lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY)),
    b"BZh": lambda: _Other(bz2.BZ2Decompressor()),
}


def is_packed(head: bytes) -> bool:
    """Whether a file that starts so is compressed in a way that is known here."""
    return any(head.startswith(mark) for mark in _MADE)


def unpacked(
    stream: BinaryIO, count: Callable[[int], None] = lambda size: None
) -> io.BufferedReader:
    """What a compressed file holds, from its start; it can be read and gone on in, not back.

    `count` is told the bytes of each piece that is unpacked, also of one that is only gone over: a
    header that lies about a size makes no endless way. What it raises ends the reading. Reading
    raises DamagedError, EOFError where it ends too early, and OSError.
    """
    head = stream.read(8)
    stream.seek(0)
    made = next(made for mark, made in _MADE.items() if head.startswith(mark))
    return io.BufferedReader(_Raw(stream, made, count), _OUT)


class _Raw(io.RawIOBase):
    """The bytes that compressed streams hold, one after the other."""

    def __init__(
        self, packed: BinaryIO, made: Callable[[], _Stream], count: Callable[[int], None]
    ) -> None:
        self._packed, self._made, self._count = packed, made, count
        self._stream = made()
        self._at = 0
        self._first, self._any = True, False  # of the streams; whether this one gave anything

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go on to an offset, by reading what lies between."""
        target = offset if whence == io.SEEK_SET else self._at + offset
        if whence == io.SEEK_END or target < self._at:
            raise io.UnsupportedOperation("compressed data is read from its start to its end")
        while self._at < target and self._next(min(_OUT, target - self._at)):
            pass
        return self._at

    def readinto(self, buffer: Any) -> int:
        data = self._next(min(len(buffer), _OUT))
        buffer[: len(data)] = data
        return len(data)

    def _next(self, most: int) -> bytes:
        """The next piece; nothing at the end."""
        while True:
            if self._stream.eof:
                rest = self._stream.unused_data.lstrip(b"\0") or self._packed.read(_IN).lstrip(
                    b"\0"
                )
                if not rest:
                    return b""
                self._stream, self._first, self._any = self._made(), False, False
                data = rest
            else:
                data = self._packed.read(_IN) if self._stream.hungry() else b""
                if not data and self._stream.hungry():
                    if self._first or self._any:
                        raise EOFError("it ends in the middle of a stream")
                    return b""
            try:
                made = self._stream.take(data, most)
            except (zlib.error, lzma.LZMAError, OSError, ValueError) as error:
                if not self._first and not self._any:
                    return b""  # other data behind a whole stream
                memory = "usage limit" in str(error)
                raise DamagedArchiveError(str(error), memory=memory) from None
            if made:
                self._any = True
                self._at += len(made)
                self._count(len(made))
                return made

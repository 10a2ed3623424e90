"""Bytes as text, packed: gzip, then base64.

>>> unpacked(packed(b"go " * 99), most=1000) == b"go " * 99
True
"""

import base64
import zlib


class PackingError(ValueError):
    """A text that is nothing packed, or too much."""


def packed(data: bytes) -> str:
    """Bytes as text."""
    pack = zlib.compressobj(9, wbits=31)
    return base64.b64encode(pack.compress(data) + pack.flush()).decode()


def unpacked(text: bytes | str, most: int) -> bytes:
    """The bytes again, at most so many. Raises PackingError."""
    try:
        unpack = zlib.decompressobj(wbits=31)
        data = unpack.decompress(base64.b64decode(text), most)
    except (ValueError, zlib.error) as error:
        raise PackingError(str(error)) from None
    if not unpack.eof:
        raise PackingError(f"it ends early, or is over {most} bytes")
    return data

"""Digests: MD5 (RFC 1321), SHA-1 (RFC 3174), SHA-256 and SHA-512 (FIPS 180-4), lower-case hex."""

from collections.abc import Iterator
from typing import Annotated, Literal

from msgspec import Meta, Struct

Algorithm = Literal["sha512", "sha256", "sha1", "md5"]

STRONGEST_FIRST: tuple[Algorithm, ...] = ("sha512", "sha256", "sha1", "md5")
LENGTHS: dict[Algorithm, int] = {"sha512": 128, "sha256": 64, "sha1": 40, "md5": 32}
TITLES: dict[Algorithm, str] = {
    "sha512": "SHA-512",
    "sha256": "SHA-256",
    "sha1": "SHA-1",
    "md5": "MD5",
}

Md5 = Annotated[str, Meta(pattern=r"^[0-9a-f]{32}$", max_length=32)]
Sha1 = Annotated[str, Meta(pattern=r"^[0-9a-f]{40}$", max_length=40)]
Sha256 = Annotated[str, Meta(pattern=r"^[0-9a-f]{64}$", max_length=64)]
Sha512 = Annotated[str, Meta(pattern=r"^[0-9a-f]{128}$", max_length=128)]


class Digests(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, gc=False):
    """What is known of one file's digests; None is not known."""

    md5: Md5 | None = None
    sha1: Sha1 | None = None
    sha256: Sha256 | None = None
    sha512: Sha512 | None = None

    def __iter__(self) -> Iterator[tuple[Algorithm, str]]:
        """Go through the known digests, strongest algorithm first."""
        if self.sha512 is not None:
            yield "sha512", self.sha512
        if self.sha256 is not None:
            yield "sha256", self.sha256
        if self.sha1 is not None:
            yield "sha1", self.sha1
        if self.md5 is not None:
            yield "md5", self.md5


def algorithm_of(digest: str) -> Algorithm | None:
    """Tell the algorithm from a digest's length in hex characters.

    >>> algorithm_of("d41d8cd98f00b204e9800998ecf8427e")
    'md5'
    """
    return next((name for name, length in LENGTHS.items() if length == len(digest)), None)

"""What every store can do: list its files, and hand one out from any byte on.

A store raises ReadProblem where it as a whole cannot be read, and LookupError, ConnectionError or
TimeoutError of one file; who fetches decides what becomes of that.
"""

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Protocol

from msgspec import Struct, field

from ovek.model.digest import Algorithm, Digests
from ovek.model.fleet import Login
from ovek.sources.ssh import Limits
from ovek.sources.trust import HostKeys, Secrets

LONGEST_LOOK = 1_800.0  # seconds for all that a server says of its files


class ShelfAccess(Struct, frozen=True, kw_only=True):
    """How a store is reached: the log-in (over SSH), host keys, secrets and time limits."""

    keys: HostKeys
    secrets: Secrets
    login: Login | None = None
    limits: Limits = field(default_factory=Limits)


class Lying(Struct, frozen=True, kw_only=True):
    """One file as a store lists it. `sign` is what else tells that it is the same still.

    `at` is how the store itself knows it.
    """

    path: str
    at: str
    size: int | None = None
    modified: datetime | None = None
    sign: str | None = None


class Store(Protocol):
    """Files that lie somewhere else."""

    resumes: bool  # whether a file can be taken up in its middle

    def files(self) -> Sequence[Lying]:
        """All files, each by its path below the shelf. Raises ReadProblem."""

    def pieces(self, file: Lying, start: int) -> Iterator[bytes]:
        """The bytes of a file from `start` on, in pieces."""

    def word(self, file: Lying, algorithms: Sequence[Algorithm]) -> Digests | None:
        """The digests that the server itself works out; None: it does not."""

    def close(self) -> None:
        """Let go of every connection."""


def is_safe(path: str) -> bool:
    """Whether a path that a server tells stays below its shelf, and can be shown and kept.

    >>> is_safe("a/b.img"), is_safe("../b.img"), is_safe("/etc/b"), is_safe("a//b")
    (True, False, False, False)
    """
    parts = path.split("/")
    return bool(path) and "\0" not in path and all(part not in ("", ".", "..") for part in parts)

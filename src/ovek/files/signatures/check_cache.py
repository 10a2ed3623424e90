"""What signatures of images came to, kept in the user's own cache: a large image is read once.

A check counts for the same file, signature, keys, publishers and day. What could not be checked is
not kept: a package may be installed the next moment.
"""

import hashlib
import os
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

import msgspec

from ovek.files.atomic import write_whole
from ovek.files.cache import DISTRUST, cache_folder, distrusted
from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.files.signatures.check import check_image
from ovek.files.signatures.keyring import Keyring
from ovek.files.signatures.names import beside
from ovek.model.signature import SignatureCheck

NAME = "signed.json"
_MOST = 10_000  # checks that are kept
_WORTH_KEEPING = 2**20  # bytes of an image
_LARGEST = 2**20  # bytes of a key or a signature


class KeptChecks:
    """Checks of images of one site; `fresh` checks again what is known."""

    def __init__(self, keys: Keyring, now: datetime, *, fresh: bool = False) -> None:
        self._keys, self._now = keys, now
        self._file = cache_folder() / NAME
        self._known: dict[str, SignatureCheck] = {}
        self._new: dict[str, SignatureCheck] = {}
        self.problem: str | None = None
        if (why := distrusted(self._file)) is not None:
            self.problem = f"the cache of signatures is not used: {why}. {DISTRUST}."
        elif not fresh and self._file.exists():
            try:
                data = read_bytes(self._file)
                self._known = msgspec.json.decode(data, type=dict[str, SignatureCheck])
            except (InputError, msgspec.MsgspecError, RecursionError):
                self._known = {}

    def check(self, image: Path, publishers: Sequence[str]) -> SignatureCheck | None:
        """What the signatures beside an image come to. Raises InputError."""
        key = self._key(image, publishers)
        if key is not None and (known := self._known.get(key)) is not None:
            self._new[key] = known
            return known
        check = check_image(image, self._keys, self._now, publishers)
        if key is not None and check is not None and check.state != "unchecked":
            self._new[key] = check
        return check

    def save(self) -> None:
        """Keep what was asked for; where that cannot be done, it is checked again."""
        if self.problem is not None or not self._new:
            return
        kept = dict([*self._known.items(), *self._new.items()][-_MOST:])
        try:
            write_whole(self._file, [msgspec.json.encode(kept)])
        except InputError:
            return

    def _key(self, image: Path, publishers: Sequence[str]) -> str | None:
        """A digest of all that a check rests on; None where it is made as fast as it is kept."""
        try:
            info = image.stat()
        except OSError:
            return None
        if info.st_size < _WORTH_KEEPING:
            return None
        digest = hashlib.sha256(os.fsencode(image.resolve()))
        digest.update(
            f"{info.st_size} {info.st_mtime_ns} {info.st_ino} {info.st_ctime_ns} "
            f"{self._now.date()} {publishers}".encode()
        )
        try:
            for file in (*self._keys.files, *beside(image)):
                data = read_bytes(file, at_most=_LARGEST)
                name = file.name.encode("utf-8", "surrogateescape")
                digest.update(b"%d %s %d " % (len(name), name, len(data)) + data)
        except InputError:  # the check says what is wrong
            return None
        return digest.hexdigest()

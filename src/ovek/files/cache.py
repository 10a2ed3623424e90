"""Results that are kept from one command to the next, each with what it rests on.

They lie in the user's cache, a file for each site: a site that comes from elsewhere brings none
along. A result counts where its key is the same, which
is a digest of all that it was made of. What cannot be read, or was damaged, is no result; where
nothing can be kept, it is made again the next time.
"""

import hashlib
import os
import sqlite3
import zlib
from collections.abc import Collection, Iterable
from contextlib import closing, suppress
from pathlib import Path

from msgspec import Struct
from platformdirs import user_cache_path

from ovek.files.errors import InputError
from ovek.files.safe_open import check_regular, not_alone_own

_FORMAT = 3
_ROWS = 100  # that are read at once
_NEAR = (
    "SELECT device, key, sum, result FROM kept "
    "WHERE rowid >= (SELECT rowid FROM kept WHERE device = ?) ORDER BY rowid LIMIT ?"
)
_WAIT = 2.0  # seconds for another command that keeps its own results


class KeptRow(Struct, frozen=True):
    """The result for one device, with its key."""

    device: str
    key: bytes
    result: bytes


def cache_folder(*inside: str) -> Path:
    """A folder of the user's own cache, made where it is not there; nobody else may read it."""
    folder = user_cache_path("ovek")
    for name in ("", *inside):
        folder = folder / name
        with suppress(OSError):
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    return folder


# What to do about a file of the cache that is not used.
DISTRUST = "Delete it, or remove the write permission of others (chmod go-w)"


def distrusted(file: Path) -> str | None:
    """Why a file of the cache is not used; None where it is the user's own, and nobody else's."""
    try:
        check_regular(file)
    except InputError as error:
        return f"{file} {error.met}"
    return not_alone_own(file, user_cache_path("ovek"))


def kept_file(site: Path) -> Path | None:
    """Where the results of a site are kept; None where there is no such place."""
    cache = user_cache_path("ovek")
    name = hashlib.sha256(os.fsencode(site.resolve())).hexdigest()[:32]
    return cache / f"{name}.db" if cache.is_absolute() else None


class Kept:
    """The results in one file, to look them up."""

    def __init__(self, file: Path) -> None:
        self._near: dict[bytes, tuple[bytes, int, bytes]] = {}
        self._connection: sqlite3.Connection | None = None
        with suppress(OSError, sqlite3.Error):
            if distrusted(file) is None:
                self._connection = sqlite3.connect(f"{file.as_uri()}?mode=ro", uri=True)
                if _format_of(self._connection) != _FORMAT:
                    self._connection = None

    def find(self, device: str, key: bytes) -> bytes | None:
        """The result for a device, where it has this key."""
        name = _name(device)
        if name not in self._near:
            self._look(name)
        there, made, result = self._near.pop(name, (b"", 0, b""))
        return result if there == key and zlib.crc32(result) == made else None

    def _look(self, name: bytes) -> None:
        """Read the result for a device, and those that were kept behind it: they are asked next."""
        self._near.clear()
        if self._connection is None:
            return
        try:
            found = self._connection.execute(_NEAR, (name, _ROWS)).fetchall()
        except sqlite3.Error:
            return
        for near, key, made, result in found:
            if isinstance(result, bytes):
                self._near[near] = key, made, result


def keep(file: Path, site: Path, rows: Iterable[KeptRow], devices: Collection[str] | None) -> None:
    """Keep some results of a site; of other devices than these (None: of all) what was kept stays.

    Nothing is told where that cannot be done: it is no loss but of time.
    """
    try:
        cache_folder()
        if not _keep(file, site, rows, devices):
            file.unlink(missing_ok=True)
        else:
            os.utime(file)  # it was used now
    except (OSError, sqlite3.OperationalError):  # it is read-only, full, or another one keeps
        return
    except sqlite3.DatabaseError:
        with suppress(OSError):
            file.unlink(missing_ok=True)


def _keep(file: Path, site: Path, rows: Iterable[KeptRow], devices: Collection[str] | None) -> bool:
    """Keep them; False where the file is of another version."""
    with closing(sqlite3.connect(file, timeout=_WAIT, isolation_level=None)) as connection:
        file.chmod(0o600)
        connection.execute("BEGIN IMMEDIATE")
        if _format_of(connection) == 0:
            connection.execute(
                "CREATE TABLE kept (device BLOB PRIMARY KEY, key BLOB NOT NULL, "
                "sum INTEGER NOT NULL, result BLOB NOT NULL)"
            )
            connection.execute("CREATE TABLE about (site TEXT NOT NULL)")
            connection.execute("INSERT INTO about VALUES (?)", (_shown(site),))
            connection.execute(f"PRAGMA user_version = {_FORMAT}")
        elif _format_of(connection) != _FORMAT:
            return False
        connection.executemany(
            "INSERT INTO kept VALUES (?, ?, ?, ?) ON CONFLICT (device) DO UPDATE SET "
            "key = excluded.key, sum = excluded.sum, result = excluded.result",
            ((_name(row.device), row.key, zlib.crc32(row.result), row.result) for row in rows),
        )
        if devices is not None:
            stay = {_name(each) for each in devices}
            there = [name for (name,) in connection.execute("SELECT device FROM kept")]
            gone = [(name,) for name in there if name not in stay]
            connection.executemany("DELETE FROM kept WHERE device = ?", gone)
        connection.execute("COMMIT")
    return True


def _format_of(connection: sqlite3.Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def _shown(site: Path) -> str:
    """The site's folder as text that a database can hold."""
    return os.fsencode(site.resolve()).decode("utf-8", "backslashreplace")


def _name(device: str) -> bytes:
    return device.encode("utf-8", "surrogatepass")

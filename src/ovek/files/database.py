"""Databases that Ovek keeps beside what it reads, to look a few things up without reading all.

Each is written whole and only read from then on. One that is not as it was written (damaged, of
another version, or by somebody else's hand) is none: what it says can be made again.
"""

import json
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from pathlib import Path

from ovek.files.atomic import write_whole
from ovek.files.errors import InputError
from ovek.files.safe_open import check_regular

# What large fleet files came to, and which line of which snapshot is the newest of each device.
FLEET = ".fleet.db"
FLEET_TABLES = (
    "CREATE TABLE fleet (sha256 TEXT NOT NULL, head BLOB NOT NULL, used BLOB NOT NULL)",
    "CREATE TABLE device (at INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, "
    "content BLOB NOT NULL)",
)
INDEX = ".newest.db"
INDEX_TABLES = (
    "CREATE TABLE file (at INTEGER PRIMARY KEY, name TEXT NOT NULL, size INTEGER NOT NULL, "
    "changed INTEGER NOT NULL, named INTEGER NOT NULL, last INTEGER NOT NULL)",
    "CREATE TABLE line (name TEXT PRIMARY KEY, file INTEGER NOT NULL, number INTEGER NOT NULL, "
    "at INTEGER NOT NULL, length INTEGER NOT NULL, taken_at TEXT NOT NULL, digest BLOB NOT NULL, "
    "clock TEXT) WITHOUT ROWID",
    "CREATE TABLE failed (name TEXT PRIMARY KEY, file INTEGER NOT NULL, at TEXT NOT NULL, "
    "problem TEXT NOT NULL, do TEXT) WITHOUT ROWID",
)
_SCHEMA = "SELECT sql FROM sqlite_master WHERE sql IS NOT NULL ORDER BY rowid"


@contextmanager
def opened_database(file: Path, schema: Sequence[str]) -> Iterator[sqlite3.Connection | None]:
    """A database to read, for a while; None where there is none with exactly these tables.

    A question to it may still raise sqlite3.Error.
    """
    connection = None
    with suppress(OSError, InputError, ValueError, sqlite3.Error):
        check_regular(file)
        if file.is_file():
            connection = sqlite3.connect(
                f"{file.absolute().as_uri()}?mode=ro&immutable=1", uri=True
            )
    if connection is None:
        yield None
        return
    with closing(connection):
        yield connection if _is(connection, schema) else None


def _is(connection: sqlite3.Connection, schema: Sequence[str]) -> bool:
    """Whether it has these tables and nothing else: no view, no trigger that does something."""
    with suppress(sqlite3.Error, ValueError):
        connection.execute("PRAGMA trusted_schema = OFF")
        connection.execute("PRAGMA cell_size_check = ON")
        return [sql for (sql,) in connection.execute(_SCHEMA)] == list(schema)
    return False


def names_in_fleet(site: Path, beginning: str) -> list[str] | None:
    """The devices that the fleet's files list, by what their names begin with, in order.

    None where what they came to is not kept, or one of them was changed since.
    """
    file, wrong = site / FLEET, (sqlite3.Error, OSError, ValueError, TypeError, LookupError)
    with opened_database(file, FLEET_TABLES) as kept, suppress(*wrong):
        if kept is not None:
            ((head,),) = kept.execute("SELECT head FROM fleet")
            sources = [site / "fleet.toml", *(site / one for one in json.loads(head)["lists"])]
            written = file.stat().st_mtime_ns
            if all(source.stat().st_mtime_ns < written for source in sources):
                return _names(kept, "device", beginning)
    return None


def names_in_index(folder: Path, beginning: str) -> list[str]:
    """The devices of which a folder has snapshots, by what their names begin with, in order."""
    with opened_database(folder / INDEX, INDEX_TABLES) as kept, suppress(sqlite3.Error, ValueError):
        return _names(kept, "line", beginning) if kept is not None else []
    return []


def _names(kept: sqlite3.Connection, table: str, beginning: str) -> list[str]:
    question = f"SELECT name FROM {table} WHERE name >= ? AND name < ? ORDER BY name"  # noqa: S608
    rows = kept.execute(question, (beginning, beginning + chr(0x10FFFF)))
    return [name for (name,) in rows if isinstance(name, str)]


def write_database(
    file: Path, schema: Sequence[str], fill: Callable[[sqlite3.Connection], None]
) -> None:
    """Write a database whole or not at all. Raises InputError where it cannot be written."""
    with closing(sqlite3.connect(":memory:", isolation_level=None)) as connection:
        connection.execute("BEGIN")
        for table in schema:
            connection.execute(table)
        fill(connection)
        connection.execute("COMMIT")
        whole = connection.serialize()
    write_whole(file, [whole])

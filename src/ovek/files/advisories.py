"""The advisories of a site: `advisories/*.json`, each a CSAF document, and `products.toml`.

What each document came to is kept beside them, told by its size and time, so that only new ones are
parsed; where that cannot be kept, they are parsed again.
"""

import os
import sqlite3
from contextlib import suppress
from pathlib import Path

import msgspec

from ovek.files.database import opened_database, write_database
from ovek.files.decode import cannot_read, read_toml_parts
from ovek.files.errors import InputError
from ovek.files.names import file_name
from ovek.model.advisory import ALIASES_FORMAT, Advisory, ProductAlias, ProductAliases

FOLDER, ALIASES, KEPT = "advisories", "products.toml", ".kept.db"
_TABLES = (
    "CREATE TABLE document (name TEXT PRIMARY KEY, size INTEGER NOT NULL, "
    "changed INTEGER NOT NULL, content BLOB NOT NULL) WITHOUT ROWID",
)
_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(Advisory).decode
_Known = dict[str, tuple[int, int, Advisory]]


def advisory_stamps(site: Path) -> list[tuple[str, int, int]]:
    """The documents of a site: the name, size and time of each, by name. Raises InputError."""
    folder, stamps = site / FOLDER, list[tuple[str, int, int]]()
    try:
        with os.scandir(folder) as entries:
            for entry in entries:
                if entry.name.endswith(".json") and not entry.name.startswith("."):
                    info = entry.stat()
                    stamps.append((entry.name, info.st_size, info.st_mtime_ns))
    except FileNotFoundError:
        return []
    except OSError as error:
        raise cannot_read(folder, error) from None
    return sorted(stamps)


def read_advisories(site: Path, stamps: list[tuple[str, int, int]]) -> tuple[Advisory, ...]:
    """All advisories of a site, by the names of their files. Raises InputError."""
    folder = site / FOLDER
    if not stamps:
        return ()
    from ovek.files.csaf import read_csaf

    known, new = _known(folder), False
    read: _Known = {}
    for name, size, changed in stamps:
        before = known.get(name)
        if before is not None and before[:2] == (size, changed):
            read[name] = before
        else:
            read[name], new = (size, changed, read_csaf(folder / name)), True
    if new or read.keys() != known.keys():
        _keep(folder, read)
    return tuple(advisory for _, _, advisory in read.values())


def _known(folder: Path) -> _Known:
    wrong = (sqlite3.Error, msgspec.MsgspecError, ValueError, TypeError)
    with opened_database(folder / KEPT, _TABLES) as kept, suppress(*wrong):
        if kept is not None:
            rows = kept.execute("SELECT name, size, changed, content FROM document").fetchall()
            return {
                name: (size, changed, _decode(content)) for name, size, changed, content in rows
            }
    return {}


def _keep(folder: Path, read: _Known) -> None:
    def fill(database: sqlite3.Connection) -> None:
        rows = ((name, *known[:2], _encode(known[2])) for name, known in read.items())
        database.executemany("INSERT INTO document VALUES (?, ?, ?, ?)", rows)

    with suppress(InputError):
        write_database(folder / KEPT, _TABLES, fill)


def read_aliases(site: Path) -> tuple[ProductAlias, ...]:
    """What the site says of names of products. Raises ManyInputError."""
    file = site / FOLDER / ALIASES
    if not file.exists():
        return ()
    return read_toml_parts(file, ProductAliases, ALIASES_FORMAT).product


def advisory_file(site: Path, advisory: Advisory) -> Path:
    """Where the document of an advisory lies in a site, by its id."""
    return site / FOLDER / f"{file_name(advisory.id.casefold())}.json"

"""The index of the newest lines (`.newest.db`): which line of which snapshot, device by device.

It keeps of every snapshot its size and time, so that only new ones are read, and of every line its
fingerprint, so that a device that was read again and is as it was need not be read. It is worth
nothing by itself: where it is missing or damaged, it is made anew.
"""

import sqlite3
from collections.abc import Collection
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
from msgspec import Struct

from ovek.files.database import INDEX, INDEX_TABLES, opened_database, write_database
from ovek.files.errors import InputError
from ovek.model.snapshot import Time

_LINES = "SELECT name, file, number, at, length, taken_at, digest, clock FROM line"
_FAILED = "SELECT name, file, at, problem, do FROM failed"


class SnapshotLine(NamedTuple):
    """Where the line of a device stands: in which file, its number from 1, byte and length.

    `digest` is of what it says beside its times and its source, empty where that is not known;
    `clock` is that of the device.
    """

    file: int
    number: int
    at: int
    length: int
    taken_at: Time
    digest: bytes = b""
    clock: Time | None = None


class Failed(NamedTuple):
    """A survey that could not read a device: its file, when it began, what was met, what to do."""

    file: int
    at: Time
    problem: str
    do: str | None


class IndexedFile(NamedTuple):
    """A file of the index as it was when it was read: its size in bytes and time in ns."""

    name: str
    size: int
    changed: int


class Newest(Struct, frozen=True):
    """The newest lines, and the failures since; `files` are what they point into.

    `last` is the file with the line that was read last of all, whether it is here or not.
    """

    files: list[IndexedFile] = []
    lines: dict[str, SnapshotLine] = {}
    failed: dict[str, Failed] = {}
    last: int | None = None


def last_of(lines: dict[str, SnapshotLine]) -> int | None:
    """The file with the line that was read last; of two of one time the later file."""
    return max(((line.taken_at, line.file) for line in lines.values()), default=(None, None))[1]


def newest_in(
    folder: Path, there: dict[str, IndexedFile], only: Collection[str] | None = None
) -> Newest:
    """What the index still knows, of some devices only where it is whole.

    It knows nothing where a file that it points into was changed or is gone. Files that are gone
    and hold no newest line are dropped.
    """
    nothing = Newest()
    with opened_database(folder / INDEX, INDEX_TABLES) as index:
        if index is None:
            return nothing
        with suppress(sqlite3.Error, msgspec.MsgspecError, ValueError, TypeError):
            rows = index.execute("SELECT * FROM file ORDER BY at").fetchall()
            files = [IndexedFile(*row[1:4]) for row in rows]
            stays = [there.get(file.name) == file for file in files]
            gone = [file.name not in there for file in files]
            if [row[0] for row in rows] != list(range(len(rows))) or not all(
                same or (away and not row[4])
                for same, away, row in zip(stays, gone, rows, strict=True)
            ):
                return nothing
            last = next((at for at, row in enumerate(rows) if row[5]), None)
            whole = all(stays) and len(files) == len(there)
            known = _read(index, files, last, only if whole else None)
            return known if all(stays) else _without(known, stays)
    return nothing


def _read(
    index: sqlite3.Connection, files: list[IndexedFile], last: int | None,
    only: Collection[str] | None,
) -> Newest:  # fmt: skip
    """Read the lines; raises ValueError where one points to where no line can be."""
    lines = _rows(index, _LINES, SnapshotLine, only)
    failed = _rows(index, _FAILED, Failed, only)
    size = len(files)
    if not all(
        0 <= line.file < size and 0 <= line.at < line.at + line.length <= files[line.file].size
        for line in lines.values()
    ) or not all(0 <= one.file < size for one in failed.values()):
        raise ValueError("a line that is not in its file")
    return Newest(files, lines, failed, last)


def _rows(
    index: sqlite3.Connection, question: str, kind: Any, only: Collection[str] | None
) -> dict[str, Any]:
    """The rows of a table by their devices."""
    if only is None:
        rows = index.execute(question).fetchall()
    else:
        question += " WHERE name = ?"
        rows = [row for name in only for row in index.execute(question, (name,))]
    names = msgspec.convert([row[0] for row in rows], list[str])
    values = msgspec.convert([row[1:] for row in rows], list[kind])
    return dict(zip(names, values, strict=True))


def _without(known: Newest, stays: list[bool]) -> Newest:
    """The same without files that nothing points into."""
    places = {old: new for new, old in enumerate(at for at, same in enumerate(stays) if same)}
    return Newest(
        [file for file, same in zip(known.files, stays, strict=True) if same],
        {name: line._replace(file=places[line.file]) for name, line in known.lines.items()},
        {name: each._replace(file=places[each.file]) for name, each in known.failed.items()},
        None if known.last is None else places.get(known.last),
    )


def keep_newest(folder: Path, newest: Newest) -> None:
    """Keep the index for the next time; where the folder cannot be written, it is made again."""
    named = {line.file for line in newest.lines.values()}
    named |= {one.file for one in newest.failed.values()}

    def fill(index: sqlite3.Connection) -> None:
        index.executemany(
            "INSERT INTO file VALUES (?, ?, ?, ?, ?, ?)",
            ((at, *file, at in named, at == newest.last) for at, file in enumerate(newest.files)),
        )
        index.executemany(
            "INSERT INTO line VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (
                (name, *line[:4], line.taken_at.isoformat(), line.digest, _iso(line.clock))
                for name, line in sorted(newest.lines.items())
            ),
        )
        index.executemany(
            "INSERT INTO failed VALUES (?, ?, ?, ?, ?)",
            (
                (name, one.file, one.at.isoformat(), one.problem, one.do)
                for name, one in newest.failed.items()
            ),
        )

    with suppress(InputError):
        write_database(folder / INDEX, INDEX_TABLES, fill)


def forget(folder: Path) -> None:
    """Remove the index of snapshots that are not what it says, so that it is made anew."""
    with suppress(OSError):
        (folder / INDEX).unlink(missing_ok=True)


def _iso(time: datetime | None) -> str | None:
    return time.isoformat() if time is not None else None

"""What shelves elsewhere held when they were last read: `shelves/NAME.json` of the site.

So commands that ask nobody, such as an audit, speak of servers, too, by name and with the time.
"""

from collections.abc import Iterator, Sequence
from pathlib import Path
from urllib.parse import quote

import msgspec

from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.model.fleet import Shelf
from ovek.model.shelf import ShelfRecord

FOLDER = "shelves"


def _file(site: Path, shelf: Shelf) -> Path:
    return site / FOLDER / f"{quote(shelf.name, safe=' ')}.json"


def read_record(site: Path, shelf: Shelf) -> ShelfRecord | None:
    """What a shelf held; None where it was never read, or lies elsewhere now. Raises InputError."""
    file = _file(site, shelf)
    if not file.exists():
        return None
    try:
        found = msgspec.json.decode(read_bytes(file), type=ShelfRecord)
    except (ValueError, RecursionError) as error:
        do = "Delete it, and read that shelf again: ovek shelf NAME"
        raise InputError(file, f"is not a record of a shelf ({error})", do) from None
    return found if found.at == shelf.at else None


def write_record(site: Path, shelf: Shelf, record: ShelfRecord) -> None:
    """Keep what a shelf held, whole or not at all. Raises InputError."""
    data = msgspec.json.format(msgspec.json.encode(record, order="sorted"), indent=1)
    write_whole(_file(site, shelf), [data])


def records(site: Path, shelves: Sequence[Shelf]) -> Iterator[ShelfRecord]:
    """Go through what is known of shelves elsewhere. Raises InputError."""
    for shelf in shelves:
        found = None if shelf.is_local else read_record(site, shelf)
        if found is not None:
            yield found

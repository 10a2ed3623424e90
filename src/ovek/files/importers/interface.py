"""What every way of telling releases has in common: one module a format, found by one list."""

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from msgspec import Struct

from ovek.files.errors import InputError
from ovek.model.catalog import Published

# Which column of a table means what, as a person says it: `file` to a column's title.
Hints = Mapping[str, str]


class Bad(Struct, frozen=True):
    """A line that could not be read: it costs itself, and is told."""

    error: InputError


class Importer(Struct, frozen=True, kw_only=True):
    """One format.

    `claims` tells by a file's name and text whether it is of this format; `read` goes through its
    `Published` entries in the file's order, each with the line it stands on; a line that cannot be
    read is `Bad`. It raises InputError where the file as a whole is none.
    `guessed` formats are looked over by a person before they are taken. A file with one of the
    endings `stands` may lie in catalog/ as it is. `understood` tells in words how it is read.
    """

    kind: str
    claims: Callable[[Path, str], bool]
    read: Callable[[Path, Hints], Iterator[Published | Bad]]
    guessed: bool = False
    stands: frozenset[str] = frozenset()
    understood: Callable[[Path, Hints], str] = lambda file, said: ""

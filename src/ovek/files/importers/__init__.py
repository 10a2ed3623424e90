"""Where releases are told of: one module a format, each a function from a file to its releases.

Every module has `read(file)`, which goes through `Published` entries in the file's order, each with
the line it stands on, and raises InputError. `kind_of` tells by name and content which one it is.
"""

import re
from collections.abc import Callable, Iterator
from pathlib import Path

from ovek.files.importers import digestlist, metalink, pasted, sidefile, table
from ovek.files.typed import read_bytes, text_of
from ovek.model.catalog import Published

Reader = Callable[[Path], Iterator[Published]]

READERS: dict[str, Reader] = {
    "digest list": digestlist.read,
    "side file": sidefile.read,
    "Metalink": metalink.read,
    "table": table.read,
    "pasted text": pasted.read,
}
# What a person has to look over before it is taken: its meaning was guessed.
GUESSED = frozenset({"table", "pasted text"})


def kind_of(file: Path) -> str:
    """Tell the kind of a file that lists releases, by its name and then its content."""
    text = text_of(file, read_bytes(file))
    suffix = file.suffix.lower()
    if suffix in (".meta4", ".metalink") or re.match(r"\s*(<\?xml|<metalink)", text):
        return "Metalink"
    if suffix in sidefile.SUFFIXES and sidefile.is_bare(text):
        return "side file"
    lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
    if lines and all(digestlist.is_line(line) for line in lines):
        return "digest list"
    if suffix in (".csv", ".tsv"):
        return "table"
    return "digest list" if suffix in sidefile.SUFFIXES else "pasted text"

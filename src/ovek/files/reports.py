"""What a report remembers for the next one: a block within its page, packed.

A page comes from outside as every file does: it is read within bounds, and counts for no more than
what it says was told before.
"""

import re
from pathlib import Path

import msgspec

from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.model.packing import packed, unpacked
from ovek.model.report import FORMAT, Remembered

_BLOCK = re.compile(rb'<script type="text/plain" id="remembered">([A-Za-z0-9+/=\s]*)</script>')
_MOST = 2**28  # bytes, unpacked


def remembering(remembered: Remembered) -> str:
    """What a report remembers, as its page holds it."""
    return packed(msgspec.json.encode(remembered))


def remembered_in(page: Path) -> Remembered:
    """What a page remembers. Raises InputError where it is no report."""
    match = _BLOCK.search(read_bytes(page))
    if match is None:
        raise InputError(page, "is not an Ovek report", "Give a page that ovek report wrote")
    try:
        found = msgspec.json.decode(unpacked(match[1], _MOST), type=Remembered)
    except (ValueError, RecursionError) as error:
        text = f"is a damaged report ({error})"
        raise InputError(page, text, "Choose another name, or delete it") from None
    if found.format != FORMAT:
        text = f"is a report of format {found.format!r}; this Ovek reads {FORMAT}"
        raise InputError(page, text, "Choose another name, or delete it")
    return found

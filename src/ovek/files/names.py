"""File names that Ovek makes of names from outside, such as a device's."""

import os
from hashlib import sha256
from pathlib import Path
from urllib.parse import quote

_LONGEST = 180  # bytes, which leaves room for an ending below the 255 of a file system


def file_name(name: str) -> str:
    """A name as one part of a path: whatever is not plain as %XX, and never too long.

    >>> file_name("arle-core"), file_name("../a b"), file_name(".")
    ('arle-core', '..%2Fa%20b', '%2E')
    >>> len(file_name("x" * 1000))
    180
    """
    made = quote(name, safe="", errors="surrogatepass")
    if made.startswith(".") and not made.strip("."):
        made = made.replace(".", "%2E")
    if len(made) <= _LONGEST:
        return made
    told = sha256(name.encode("utf-8", "surrogatepass")).hexdigest()[:16]
    return f"{made[: _LONGEST - len(told) - 1]}-{told}"


def shown_name(file: Path) -> str:
    """A file's own name as text; bytes that are not UTF-8 as escapes."""
    return os.fsencode(file.name).decode("utf-8", "backslashreplace")

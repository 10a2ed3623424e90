"""Opening a file that is a file: a pipe or a device would be waited for, or never end."""

import os
import stat
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO

from ovek.files.errors import InputError

_KINDS = (
    (stat.S_ISFIFO, "a pipe"),
    (stat.S_ISCHR, "a device"),
    (stat.S_ISBLK, "a device"),
    (stat.S_ISSOCK, "a socket"),
)


def opened(file: Path, *, buffering: int = -1) -> BinaryIO:
    """Open a regular file to read its bytes; `buffering` is that of `open`.

    Raises InputError where it is a pipe or device, else OSError.
    """
    try:
        return open(file, "rb", buffering, opener=_regular)
    except ValueError:  # a NUL in it
        raise InputError(file, "is no name of a file", "Mend the name") from None


def _regular(file: str, flags: int) -> int:
    handle = os.open(file, flags | getattr(os, "O_NONBLOCK", 0))
    if (kind := special(os.fstat(handle).st_mode)) is not None:
        os.close(handle)
        raise InputError(file, f"is {kind}, no file", "Name a file")
    return handle


def check_regular(file: Path) -> None:
    """Raise InputError where something other than a file is there; it may be not there yet."""
    with suppress(OSError):
        if (kind := special(file.stat().st_mode)) is not None:
            raise InputError(file, f"is {kind}, no file", "Name a file")


def special(mode: int) -> str | None:
    """What a file of this mode is where it is neither file, folder nor link."""
    return next((told for fits, told in _KINDS if fits(mode)), None)

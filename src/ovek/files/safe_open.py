"""Opening a file that is a file: a pipe or a device would be waited for, or never end.

All that Ovek reads of a disk it opens here, so that nothing else is opened by chance, and nothing
that a link in a site leads to outside.
"""

import os
import stat
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import BinaryIO, cast

from ovek.files.errors import InputError

_KINDS = (
    (stat.S_ISFIFO, "a pipe"),
    (stat.S_ISCHR, "a device"),
    (stat.S_ISBLK, "a device"),
    (stat.S_ISSOCK, "a socket"),
)


def opened(file: Path, *, buffering: int = -1) -> BinaryIO:
    """Open a regular file to read its bytes; `buffering` is that of `open`.

    Raises InputError where it is a pipe or device, or a link that leaves its site, else OSError.
    """
    refuse_leaving(file)
    try:
        return open(file, "rb", buffering, opener=_regular)
    except ValueError:  # a NUL in it
        raise InputError(file, "is not a file name", "Fix the name") from None


def opened_to_add(file: Path) -> BinaryIO:
    """Open a regular file to read and to write at its end, without a buffer; as `opened` else."""
    refuse_leaving(file)
    try:
        return cast("BinaryIO", open(file, "a+b", 0, opener=_regular))
    except ValueError:
        raise InputError(file, "is not a file name", "Fix the name") from None


def bytes_of(file: Path) -> bytes:
    """The bytes of a file; raises as `opened` does."""
    with opened(file) as stream:
        return stream.read()


def _regular(file: str, flags: int) -> int:
    handle = os.open(file, flags | getattr(os, "O_NONBLOCK", 0), 0o666)
    if (kind := special(os.fstat(handle).st_mode)) is not None:
        os.close(handle)
        raise InputError(file, f"is {kind}, not a file", "Give a file")
    return handle


def refuse_leaving(file: Path) -> None:
    """Raise InputError where a path in a site leads out of it: a site brings only what is in it."""
    try:
        path = os.path.abspath(file)  # noqa: PTH100 - links are not followed yet
        root = _root_of(os.path.dirname(path))  # noqa: PTH120
        if root is None:
            return
        inside, real = os.path.realpath(root), os.path.realpath(path)
    except (OSError, ValueError):  # who opens it tells
        return
    if real != inside and not real.startswith(inside.rstrip("/") + "/"):
        do = "Replace it with its target; for images elsewhere add a [[shelf]] to fleet.toml"
        raise InputError(file, "is a link to a place outside the site folder", do)


@lru_cache(maxsize=1024)
def _root_of(folder: str) -> str | None:
    """The site that a folder lies in, as it is written: the nearest with a fleet file."""
    while True:
        if os.path.lexists(os.path.join(folder, "fleet.toml")):  # noqa: PTH118
            return folder
        above = os.path.dirname(folder)  # noqa: PTH120
        if above == folder:
            return None
        folder = above


def not_alone_own(file: Path, root: Path) -> str | None:
    """Why a file is not to be trusted as one's own; None where nobody else can have made it.

    It and every folder above up to the root have to be one's own, no links, and nobody else's to
    write. Where the system knows no owners, nothing is checked.
    """
    if not hasattr(os, "geteuid"):
        return None
    for path in (file, *file.parents):
        try:
            info = path.lstat()
        except OSError:
            return None  # it is not there
        if stat.S_ISLNK(info.st_mode):
            return f"{path} is a link"
        if info.st_uid != os.geteuid():
            return f"{path} belongs to another user"
        if info.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
            return f"{path} can be written by others"
        if path == root:
            return None
    return f"{file} is not in {root}"


def check_regular(file: Path) -> None:
    """Raise InputError where something other than a file is there; it may be not there yet."""
    refuse_leaving(file)
    with suppress(OSError):
        if (kind := special(file.stat().st_mode)) is not None:
            raise InputError(file, f"is {kind}, not a file", "Give a file")


def special(mode: int) -> str | None:
    """What a file of this mode is where it is neither file, folder nor link."""
    return next((told for fits, told in _KINDS if fits(mode)), None)

"""Where sheets lie: a site's own, folders that it names, those of Ovek, and installed packages.

The first that has a sheet of a name counts, in this order: `sheets/` of the site; the folders of
`sheets` in `fleet.toml`, which may be a checkout that is shared; those that ship with Ovek; and
Python packages that name a module with the entry point `ovek.sheets`, whose `.toml` files are it.
"""

import os
import re
import tomllib
from collections.abc import Iterator
from functools import lru_cache
from importlib import resources
from pathlib import Path

from ovek.files.errors import InputError
from ovek.files.packages import SHEETS, brought
from ovek.files.safe_open import bytes_of

SESSIONS = ".sessions"  # what the folder with a sheet's kept sessions ends in
_KEY = re.compile(rb"(?m)^\s*sheets\s*=")


def _shipped() -> Path:
    return Path(str(resources.files("ovek.files") / "sheets"))


def _shared(folder: Path) -> tuple[Path, ...]:
    """The folders of sheets that `fleet.toml` names, itself or one called sheets in it."""
    file = folder / "fleet.toml"
    try:
        told = file.stat()
        names = _named_in(file, told.st_mtime_ns, told.st_size)
    except (OSError, InputError, ValueError):
        return ()
    places = (folder / Path(name).expanduser() for name in names)
    return tuple(each / "sheets" if (each / "sheets").is_dir() else each for each in places)


@lru_cache(maxsize=8)
def _named_in(file: Path, changed: int, size: int) -> tuple[str, ...]:
    """What a fleet file names; it may be large, and is looked at once while it stays the same."""
    data = bytes_of(file)
    if b"sheets" not in data or _KEY.search(data) is None:  # which most have not
        return ()
    try:
        named = tomllib.loads(data.decode()).get("sheets", [])
    except (ValueError, RecursionError):
        return ()  # who reads the fleet tells what is wrong
    return tuple(map(str, named)) if isinstance(named, list) else ()


def _installed() -> Iterator[Path]:
    """The folders of sheets of installed packages. Raises InputError where one is broken.

    It is done last, and for names that nothing else has.
    """
    for package in brought(SHEETS):
        try:
            folder = Path(str(resources.files(package.module)))
        except (Exception, SystemExit) as error:  # what a package does when it is imported
            raise package.wrong(f"cannot be imported ({type(error).__name__}: {error})") from None
        if folder.is_dir():
            yield folder


def find_sheet(folder: Path, name: str) -> Path | None:
    """The file of a sheet by its name, wherever it lies first; None: there is none."""
    if Path(name).name != name or name.startswith("."):
        return None
    for place in _places(folder):
        file = place / f"{name}.toml"
        if os.path.lexists(file):
            return file
    return None


def _places(folder: Path) -> Iterator[Path]:
    yield from _folders(folder)
    yield from _installed()


def _folders(folder: Path) -> Iterator[Path]:
    yield folder / "sheets"
    for place in _shared(folder):
        if not place.is_dir():
            do = "Fix `sheets` in fleet.toml, or get that folder"
            raise InputError(place, "is not a folder of sheets", do)
        yield place
    yield _shipped()


def is_shipped(file: Path) -> bool:
    """Whether a sheet is one of Ovek's own."""
    return file.parent == _shipped()


def sheet_names(folder: Path, *, installed: bool = True) -> list[str]:
    """The names of all sheets, wherever they lie, or of all that no package brings."""
    places = _places(folder) if installed else _folders(folder)
    return sorted({file.stem for place in places for file in place.glob("*.toml")})


def kept_sessions(sheet: Path) -> list[Path]:
    """The sessions that are kept beside a sheet, which are its tests."""
    folder = sheet.with_suffix(SESSIONS)
    return sorted(file for file in folder.glob("*.txt") if file.is_file())

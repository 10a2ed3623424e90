"""What a file's name says by the sheet: its role, and the version of an image.

A glob without a slash fits the file's own name in any folder; one with a slash fits the whole
path. `*` stands for any characters, slashes too. Case counts, except on a case-blind volume.
"""

import re
from fnmatch import translate
from functools import lru_cache

from msgspec import Struct

from ovek.model.sheet import Role, Sheet


class Named(Struct, frozen=True, gc=False):
    """What a name says. `image` is whether it looks like an image; None facts are not told."""

    role: Role
    image: bool
    version: str | None = None
    variant: str | None = None


IMAGE_ROLES: frozenset[Role] = frozenset({"system-image", "package", "part-image"})
_UNKNOWN = Named("unknown", False)
_MOST = 100_000


class Naming:
    """The names of one kind of device. Answers are remembered by path, up to a bound."""

    def __init__(self, sheet: Sheet) -> None:
        self._rules = {
            blind: [(role, glob_pattern(globs, blind)) for role, globs in sheet.roles.items()]
            for blind in (False, True)
        }
        self._images = {
            blind: [re.compile(name, re.IGNORECASE if blind else 0) for name in sheet.images.names]
            for blind in (False, True)
        }
        self._known: dict[bool, dict[str, Named]] = {False: {}, True: {}}

    def of(self, path: str, *, case_blind: bool) -> Named:
        """Tell what the name of a file says."""
        known = self._known[case_blind]
        named = known.get(path)
        if named is None:
            if len(known) >= _MOST:
                known.clear()
            named = known[path] = self._read(path, case_blind)
        return named

    def _read(self, path: str, blind: bool) -> Named:
        role = next((role for role, fits in self._rules[blind] if fits.match(path)), None)
        if role is not None and role not in IMAGE_ROLES and role != "set-file":
            return Named(role, False)
        name = path.rpartition("/")[2]
        for pattern in self._images[blind]:
            if match := pattern.fullmatch(name):
                told = match.groupdict()
                return Named(role or "system-image", True, told.get("version"), told.get("variant"))
        return Named(role, role in IMAGE_ROLES) if role else _UNKNOWN


@lru_cache(maxsize=1024)
def glob_pattern(globs: tuple[str, ...], case_blind: bool = False) -> re.Pattern[str]:
    """Compile globs into one pattern; no glob fits nothing.

    >>> bool(glob_pattern(("*.log",)).match("old/boot.log"))
    True
    """
    parts = [("" if "/" in glob else r"(?:.*/)?") + translate(glob) for glob in globs]
    flags = re.IGNORECASE if case_blind else re.NOFLAG
    return re.compile("|".join(f"(?s:{part})" for part in parts) or r"(?!)", flags)

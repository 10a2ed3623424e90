"""What installed packages bring by entry points: rules, importers, sheets, access, renderers.

Looking for them takes as long as a small command does. What was found is kept in the user's cache
while the folders of Python's path stay as they are.
"""

import sys
from collections.abc import Iterator
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from ovek.files.errors import InputError
from ovek.files.safe_open import bytes_of

RULES, IMPORTERS, SHEETS = "ovek.rules", "ovek.importers", "ovek.sheets"
ACCESS, RENDERERS = "ovek.access", "ovek.renderers"
_GROUPS = (RULES, IMPORTERS, SHEETS, ACCESS, RENDERERS)
_FILE = "packages.json"


class Brought(NamedTuple):
    """One thing that a package brings: its name, the module and what of it, and which package."""

    group: str
    name: str
    module: str
    attribute: str
    package: str
    version: str

    def load(self) -> Any:
        """The thing itself. Raises InputError where the package is broken."""
        from importlib import import_module

        try:
            loaded = import_module(self.module)
            return getattr(loaded, self.attribute) if self.attribute else loaded
        except (Exception, SystemExit) as error:  # whatever a package does when it is imported
            raise self.wrong(f"cannot be imported ({type(error).__name__}: {error})") from None

    def wrong(self, text: str) -> InputError:
        """The error that something is wrong with it."""
        do = f"Update {self.package}, or remove it: pip uninstall {self.package}"
        return InputError(f"{self.group} {self.name!r} of {self.package} {self.version}", text, do)


def brought(group: str) -> list[Brought]:
    """What the packages bring in one group, by name."""
    return [one for one in _all() if one.group == group]


@lru_cache(maxsize=1)
def _all() -> tuple[Brought, ...]:
    key = _folders()
    known = _known(key)
    if known is None:
        known = tuple(sorted(_looked_for()))
        _keep(key, known)
    return known


def _places() -> list[str]:
    """The folders of Python's path but the one that Ovek runs in: a site brings no package."""
    here = Path.cwd()
    return [folder for folder in sys.path if folder and Path(folder) != here]


def _folders() -> list[list[Any]]:
    """Where packages may be, and when each folder was changed."""
    folders: list[list[Any]] = [[sys.version]]
    for folder in _places():
        with suppress(OSError, ValueError):
            folders.append([folder, Path(folder).stat().st_mtime_ns])
    return folders


def _looked_for() -> Iterator[Brought]:
    from importlib import metadata

    seen = set[str]()
    for dist in metadata.distributions(path=_places()):
        points = [point for point in dist.entry_points if point.group in _GROUPS]
        if points and (name := dist.name) not in seen:  # of one name the first is imported
            seen.add(name)
            for point in points:
                attribute = point.attr or ""
                yield Brought(point.group, point.name, point.module, attribute, name, dist.version)


def _known(key: list[list[Any]]) -> tuple[Brought, ...] | None:
    """What was found the last time; None where it is not known, or may be another's word."""
    import json

    from ovek.files.cache import cache_folder, distrusted

    file = cache_folder() / _FILE
    with suppress(OSError, InputError, ValueError, KeyError, TypeError):
        if distrusted(file) is None:
            kept = json.loads(bytes_of(file))
            if kept["key"] == key:
                return tuple(Brought(*map(str, row)) for row in kept["found"])
    return None


def _keep(key: list[list[Any]], found: tuple[Brought, ...]) -> None:
    import json

    from ovek.files.atomic import write_whole
    from ovek.files.cache import cache_folder

    with suppress(InputError):
        write_whole(cache_folder() / _FILE, [json.dumps({"key": key, "found": found}).encode()])


def stamp() -> str:
    """What tells the packages that are here from any others that might answer otherwise."""
    parts = []
    for brought_ in _all():
        module = sys.modules.get(brought_.module)
        changed = 0
        with suppress(OSError, TypeError):
            changed = Path(getattr(module, "__file__", None) or "").stat().st_mtime_ns
        parts.append(f"{brought_} {changed}")
    return "\n".join(parts)

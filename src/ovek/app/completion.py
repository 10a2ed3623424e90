"""Words that a person may mean: devices, shelves, sheets, snapshots, images, places.

Nothing is parsed that need not be: names of devices come from the index of the newest lines and
from a glance at the fleet's files, so that the answer is there at once for very many devices. What
cannot be read gives nothing.
"""

import re
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from ovek.files.errors import InputError, ManyInputError
from ovek.files.safe_open import bytes_of

_NAME = re.compile(rb"""^\s*name\s*=\s*["']([^"'\\]{1,255})["']""", re.MULTILINE)
_LISTS = re.compile(rb"^\s*lists\s*=\s*\[([^\]]*)\]", re.MULTILINE)
_QUOTED = re.compile(rb"""["']([^"'\\]+)["']""")
_DEVICE = re.compile(rb"^\s*\[\[\s*device\s*\]\]", re.MULTILINE)


def shelf_names(folder: Path) -> list[str]:
    """Names of the shelves of a site."""
    from ovek.files.fleet import FleetFile

    try:
        return [shelf.name for shelf in FleetFile(folder).head.shelf]
    except InputError:
        return []


def advisory_ids(folder: Path) -> list[str]:
    """Ids of the security advisories of a site, as their files are called."""
    from ovek.files.advisories import advisory_stamps

    try:
        return [name.removesuffix(".json") for name, _, _ in advisory_stamps(folder)]
    except InputError:
        return []


def device_names(folder: Path, beginning: str = "") -> set[str]:
    """The names of the devices of a site that begin so, as far as they can be seen at once."""
    from ovek.files.database import names_in_fleet, names_in_index

    names = set(names_in_index(folder / "snapshots", beginning))
    listed = names_in_fleet(folder, beginning)
    return names | (_glanced(folder) if listed is None else set(listed))


def _glanced(folder: Path) -> set[str]:
    """The names in the fleet's files, without parsing them."""
    names = set[str]()
    with suppress(OSError, InputError):
        fleet = bytes_of(folder / "fleet.toml")
        first = _DEVICE.search(fleet)
        inside = fleet[first.start() :] if first is not None else b""
        names |= {name.decode("utf-8", "replace") for name in _NAME.findall(inside)}
        lists = _LISTS.search(fleet)
        for quoted in _QUOTED.findall(lists[1]) if lists else ():
            names |= _listed(folder / quoted.decode("utf-8", "replace"))
    return names


def _listed(file: Path) -> set[str]:
    """The names in a list of devices: its column of that title, or the first."""
    import csv

    with suppress(OSError, InputError, UnicodeDecodeError, csv.Error):
        rows = csv.reader(bytes_of(file).decode().splitlines())
        titles = [title.strip().lower() for title in next(rows, [])]
        at = titles.index("name") if "name" in titles else 0
        return {row[at] for row in rows if len(row) > at}
    return set()


def sheet_names(folder: Path) -> list[str]:
    """Names of sheets: those of the site, and those that ship with Ovek."""
    from ovek.files.sheets import sheet_names as names

    with suppress(OSError):
        return list(names(folder))
    return []


def snapshot_names(folder: Path) -> list[str]:
    """Names of baselines and of snapshots."""
    folders = [folder / "baselines", folder / "snapshots"]
    with suppress(OSError):
        return [file.stem for each in folders for file in each.glob("*.jsonl")]
    return []


def image_words(folder: Path) -> list[str]:
    """File names and versions of the releases in the site's catalog; `target`, first."""
    from ovek.files.site import Site

    with suppress(InputError, ManyInputError, OSError):
        found = [one.release for one in Site(folder).releases]
        return ["target", *(word for one in found for word in (one.file, one.version) if word)]
    return []


def places(folder: Path, names: Iterable[str]) -> list[str]:
    """Places on devices, as far as they are known; of names those that are devices count."""
    from ovek.files.site import Site

    found = list[str]()
    with suppress(InputError, ManyInputError, OSError):
        state = Site(folder).state()
        for name in names:
            device = state.read(name) if name in state.lines else None
            for member in (device.members if device is not None else None) or ():
                for volume in member.volumes or ():
                    found += [f"{volume.name}:{file.path}" for file in volume.files or ()]
                found += [f"bank:{bank.name}" for bank in member.banks or ()]
    return found


def values_of(folder: Path, key: str) -> set[str]:
    """What the devices of the fleet's file say under a key."""
    found = set[str]()
    with suppress(OSError, InputError):
        told = re.compile(rb"^\s*" + key.encode() + rb"""\s*=\s*["']([^"'\\]{1,255})["']""", re.M)
        for table in _DEVICE.split(bytes_of(folder / "fleet.toml"))[1:]:
            match = told.search(table)
            found |= {match[1].decode("utf-8", "replace")} if match else set()
    return found

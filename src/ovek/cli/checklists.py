"""Checklists, one file a device, into a folder."""

from collections.abc import Mapping
from pathlib import Path

from ovek.cli.say import say
from ovek.files.errors import InputError
from ovek.files.whole import write_whole


def write_checklists(folder: Path, of: Mapping[str, bytes]) -> None:
    """Write the checklist of each device, by its name. Raises InputError."""
    if folder.exists() and not folder.is_dir():
        raise InputError(folder, "is no folder", "Name a folder for the checklists")
    folder.mkdir(parents=True, exist_ok=True)
    names: dict[str, str] = {}
    for device in of:
        name = "".join(each if each.isalnum() or each in "._-" else "_" for each in device)
        while not name.strip(".") or name in names:
            name += "_"
        names[name] = device
    for name, device in names.items():
        write_whole(folder / f"{name}.md", [of[device]])
    say(f"{len(names)} checklist{'s' if len(names) != 1 else ''} in {folder}", err=True)

"""What is written for whoever asked: a file whole or not at all, a checklist for each device."""

from collections.abc import Iterable, Mapping
from pathlib import Path

from ovek.files.atomic import write_whole
from ovek.files.errors import InputError


def write_file(file: Path, chunks: Iterable[bytes]) -> None:
    """Write a file whole, or leave what was there. Raises InputError."""
    write_whole(file, chunks)


def write_checklists(folder: Path, of: Mapping[str, bytes]) -> int:
    """Write the checklist of each device, by its name; how many they are. Raises InputError."""
    if folder.exists() and not folder.is_dir():
        raise InputError(folder, "is not a folder", "Give a folder for the checklists")
    folder.mkdir(parents=True, exist_ok=True)
    names: dict[str, str] = {}
    for device in of:
        name = "".join(each if each.isalnum() or each in "._-" else "_" for each in device)
        while not name.strip(".") or name in names:
            name += "_"
        names[name] = device
    for name, device in names.items():
        write_whole(folder / f"{name}.md", [of[device]])
    return len(names)

"""Where sheets lie: a site's own, and those that ship with Ovek."""

import os
from importlib import resources
from pathlib import Path


def _shipped() -> Path:
    return Path(str(resources.files("ovek.files") / "sheets"))


def find_sheet(folder: Path, name: str) -> Path | None:
    """The file of a sheet: the site's own, else the one that ships with Ovek, else None."""
    if Path(name).name != name or name.startswith("."):
        return None
    candidates = (folder / "sheets" / f"{name}.toml", _shipped() / f"{name}.toml")
    return next((file for file in candidates if os.path.lexists(file)), None)


def sheet_names(folder: Path) -> list[str]:
    """The names of all sheets: those of the site, and those that ship with Ovek."""
    return sorted(
        {file.stem for each in (folder / "sheets", _shipped()) for file in each.glob("*.toml")}
    )

"""What options are where nobody typed them: the user's `defaults.toml`, and a site's `[defaults]`.

Keys are the names of options without their dashes. Those of every command stand at the top, those
of one command in the table of its name:

    color = "never"

    [audit]
    fail-on = "warning"
"""

import re
from pathlib import Path
from typing import Any, NamedTuple

from platformdirs import user_config_path

from ovek.files.errors import InputError
from ovek.files.safe_open import bytes_of

_KEY = re.compile(rb"(?m)^\s*(\[\s*)?defaults\b")


class Defaults(NamedTuple):
    """The defaults of one file; `prefix` is what their keys begin with there."""

    file: Path
    prefix: str
    values: dict[str, Any]

    def key(self, *names: str) -> str:
        """A key as the file has it."""
        return ".".join(name for name in (self.prefix, *names) if name)


def user_file() -> Path:
    """Where the user's own defaults lie, whether they are there or not."""
    return user_config_path("ovek") / "defaults.toml"


def user_defaults() -> Defaults:
    """The user's own defaults. Raises InputError."""
    file = user_file()
    if not file.is_absolute() or not file.exists():
        return Defaults(file, "", {})
    from ovek.files.decode import untyped_toml

    return Defaults(file, "", untyped_toml(file, "ovek.defaults/1"))


def site_defaults(folder: Path) -> Defaults:
    """The defaults of a site; none where it is no site. Raises InputError.

    A fleet file that has none is only looked through.
    """
    file = folder / "fleet.toml"
    try:
        data = bytes_of(file)
    except (OSError, InputError):  # who reads the fleet tells what is wrong
        return Defaults(file, "defaults", {})
    if b"defaults" not in data or _KEY.search(data) is None:
        return Defaults(file, "defaults", {})
    from ovek.files.fleet import FleetFile

    return Defaults(file, "defaults", dict(FleetFile(folder).head.defaults))

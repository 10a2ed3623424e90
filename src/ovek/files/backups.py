"""Copies of configurations that lie on the shelf, by the device that each is of.

A pattern is a glob with `{device}` where the name of a device stands: `configs/{device}-*.cfg`. A
file that fits for several devices (`core-1` and `core-10`) is of the one with the longest name.
"""

import os
import re
import stat
from collections.abc import Collection
from datetime import UTC, datetime
from fnmatch import translate
from pathlib import Path

_NEVER = datetime.min.replace(tzinfo=UTC)
_LONGEST = 255  # bytes of a file's name


def newest_backups(folder: Path, pattern: str, devices: Collection[str]) -> dict[str, datetime]:
    """When the newest copy of each device's configuration was written; no key: there is none.

    Links are not followed. A folder that cannot be read holds nothing that is known.
    """
    before, _, behind = pattern.partition("{device}")
    found: dict[str, datetime] = {}
    for path, _dirs, names in os.walk(folder):
        for name in names:
            file = Path(path) / name
            shown = file.relative_to(folder).as_posix()
            device = _device_of(shown, before, behind, devices)
            if device is None:
                continue
            try:
                info = file.lstat()
            except OSError:
                continue
            written = datetime.fromtimestamp(int(info.st_mtime), UTC)
            if stat.S_ISREG(info.st_mode) and written > found.get(device, _NEVER):
                found[device] = written
    return found


def _device_of(shown: str, before: str, behind: str, devices: Collection[str]) -> str | None:
    """The device whose name makes the pattern fit a path: the longest such name."""
    front, back = re.compile(translate(before)), re.compile(translate(behind))
    starts = [at for at in range(len(shown)) if front.match(shown[:at])]
    fitting = [
        shown[at:end]
        for at in starts
        for end in range(min(len(shown), at + _LONGEST), at, -1)
        if shown[at:end] in devices and back.match(shown[end:])
    ]
    return max(fitting, key=len, default=None)

"""Copies of configurations that lie on the shelf, by the device that each is of.

A pattern is a glob with `{device}` where the name of a device stands: `configs/{device}-*.cfg`. A
file that fits for several devices (`core-1` and `core-10`) is of the one with the longest name.
Only the folder that the pattern names without a wildcard is looked through.
"""

import os
import re
import stat
from collections.abc import Collection, Iterable
from datetime import UTC, datetime
from fnmatch import translate
from pathlib import Path

from ovek.model.shelf import Backups

_NEVER = datetime.min.replace(tzinfo=UTC)
_LONGEST = 255  # bytes of a file's name


def backups_in(shelf: Path, pattern: str, devices: Collection[str]) -> Backups:
    """When the newest copy of each device's configuration was written. Links are not followed.

    Where a folder or file cannot be read, the copies that were not found are not known.
    """
    before, _, behind = pattern.partition("{device}")
    front, back = re.compile(translate(before)), re.compile(translate(behind))
    start = shelf / re.split(r"[*?[]", before)[0].rpartition("/")[0]
    newest: dict[str, datetime] = {}
    failed: list[OSError] = []
    for path, _dirs, names in os.walk(start, onerror=failed.append):
        for name in names:
            file = Path(path) / name
            device = _device_of(file.relative_to(shelf).as_posix(), front, back, devices)
            if device is None:
                continue
            try:
                info = file.lstat()
            except OSError as error:
                failed.append(error)
                continue
            written = datetime.fromtimestamp(int(info.st_mtime), UTC)
            if stat.S_ISREG(info.st_mode) and written > newest.get(device, _NEVER):
                newest[device] = written
    whole = all(isinstance(error, FileNotFoundError) for error in failed)
    return Backups(newest=newest, whole=whole)


def backups_among(
    files: Iterable[tuple[str, datetime | None]], pattern: str, devices: Collection[str]
) -> Backups:
    """The same of a listing: paths, and when each was written."""
    before, _, behind = pattern.partition("{device}")
    front, back = re.compile(translate(before)), re.compile(translate(behind))
    newest: dict[str, datetime] = {}
    whole = True
    for path, written in files:
        device = _device_of(path, front, back, devices)
        if device is None:
            continue
        if written is None:
            whole = False  # it is there, and nothing tells of when
        elif written > newest.get(device, _NEVER):
            newest[device] = written
    return Backups(newest=newest, whole=whole)


def together(backups: Backups | None, other: Backups) -> Backups:
    """The newest copies of two places."""
    if backups is None:
        return other
    newest = dict(backups.newest)
    for device, written in other.newest.items():
        newest[device] = max(written, newest.get(device, _NEVER))
    return Backups(newest=newest, whole=backups.whole and other.whole)


def _device_of(
    shown: str, front: re.Pattern[str], back: re.Pattern[str], devices: Collection[str]
) -> str | None:
    """The device whose name makes the pattern fit a path: the longest such name."""
    boots = [at for at in range(len(shown)) if front.match(shown[:at])]
    fitting = [
        shown[at:end]
        for at in boots
        for end in range(min(len(shown), at + _LONGEST), at, -1)
        if shown[at:end] in devices and back.match(shown[end:])
    ]
    return max(fitting, key=len, default=None)

"""File systems by the names that devices and hosts give them.

>>> is_fat("vfat"), is_fat("MS-DOS"), is_fat("FAT32"), is_fat("ntfs")
(True, True, True, False)
"""

from collections.abc import Iterable
from functools import lru_cache

_OTHER_NAMES = {"dos": "fat", "pcfs": "fat", "vfat": "fat", "msdos": "fat", "msdosfs": "fat"}
_FAT = ("fat12", "fat16", "fat32")


@lru_cache(maxsize=256)
def _plain(name: str) -> str:
    """A name without marks and case, one for all the names of one thing.

    >>> _plain("MS-DOS"), _plain("MS-DOS FAT16"), _plain("FAT-32"), _plain("ext4")
    ('fat', 'fat16', 'fat32', 'ext4')
    """
    plain = "".join(char for char in name.casefold() if char.isalnum())
    for kind in ("exfat", *_FAT):
        if kind in plain:
            return kind
    return _OTHER_NAMES.get(plain, "fat" if "msdos" in plain or "vfat" in plain else plain)


@lru_cache(maxsize=256)
def is_fat(name: str) -> bool:
    """Whether a file system is of the FAT family, where case makes no difference."""
    return _plain(name).startswith(("fat", "exfat"))


def can_read(reads: Iterable[str], name: str) -> bool:
    """Whether a device that reads these file systems may read this one.

    A name that does not say which FAT it is may be any of them.

    >>> can_read(["fat16", "fat32"], "vfat"), can_read(["fat16", "fat32"], "NTFS")
    (True, False)
    >>> can_read(["fat32"], "exfat"), can_read(["fat"], "fat16"), can_read(["fat16"], "fat32")
    (False, True, False)
    """
    there = _plain(name)
    for each in map(_plain, reads):
        either = {each, there}
        if each == there or ("fat" in either and either <= {"fat", *_FAT}):
            return True
    return False

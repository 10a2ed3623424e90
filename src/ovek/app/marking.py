"""What is known now, kept in the history whenever a command finds that it changed.

What it was when it was last kept is told by a digest in the user's cache, so that a command whose
site did not change opens no database.
"""

import hashlib
from contextlib import suppress

from ovek.files.advisories import advisory_stamps
from ovek.files.atomic import write_whole
from ovek.files.cache import kept_file
from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.files.site import Site

_SQLITE = "history.db"


def has_history(site: Site) -> bool:
    """Whether a site has a history, told without opening it."""
    return site.head.history is not None or (site.folder / _SQLITE).exists()


def mark_changes(site: Site) -> None:
    """Keep what is known now, where the site has a history that does not have it yet."""
    if site.until is not None or not has_history(site):
        return
    beside = kept_file(site.folder)
    stamp = beside.with_suffix(".marked") if beside is not None else None
    told = _digest(site)
    if stamp is not None:
        with suppress(InputError):
            if read_bytes(stamp) == told:
                return
    from ovek.app.history import mark

    if mark(site) and stamp is not None:
        with suppress(InputError):
            write_whole(stamp, [told])


def _digest(site: Site) -> bytes:
    """What is known, and where it is kept."""
    made = hashlib.sha256(f"{site.head.history}\n".encode())
    for name, data in sorted(site.known_files(advisories=False).items()):
        made.update(f"{name}\0{len(data)}\0".encode() + data)
    for name, size, changed in advisory_stamps(site.folder):
        made.update(f"{name}\0{size}\0{changed}\0".encode())
    store = site.folder / _SQLITE
    if site.head.history is None:
        made.update(str(store.stat().st_ino).encode())  # a store that is made anew lacks all
    return made.hexdigest().encode()

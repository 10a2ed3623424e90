"""What lies in the user's cache, and keeping it small: results, digests and half of downloads.

All of it can be made again. What was not used for long goes first; an entry is a file with what
belongs to it, or the folder of a shelf's downloads.
"""

import os
import shutil
import sqlite3
import time
from collections.abc import Iterable, Iterator
from contextlib import closing, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

from platformdirs import user_cache_path

from ovek.files.cache import distrusted
from ovek.model.results.cached import CacheEntry

MOST_BYTES, MOST_AGE = 2**30, timedelta(days=90)  # what is kept where nobody says otherwise
_TIDIED = ".tidied"  # when that was looked at last
_BETWEEN = 86_400  # seconds between looks


def cached(folder: Path | None = None) -> list[CacheEntry]:
    """What the cache holds, what was used last first; none where there is no cache."""
    folder = folder or user_cache_path("ovek")
    entries = [*_files(folder), *_downloads(folder / "shelves")]
    return sorted(entries, key=lambda entry: entry.used, reverse=True)


def _files(folder: Path) -> Iterator[CacheEntry]:
    with suppress(OSError):
        for file in sorted(folder.iterdir()):
            if file.suffix == ".db":
                beside = [file, *(each for each in folder.glob(f"{file.stem}.*") if each != file)]
                site = _site_of(file)
                yield _entry("audit results", file, beside, site, gone=_is_gone(site))
            elif file.suffix == ".marked" and not file.with_suffix(".db").exists():
                yield _entry("history stamp", file, [file])
            elif file.name == "shelf.json":
                yield _entry("shelf digests", file, [file])
            elif file.name == "signed.json":
                yield _entry("image signatures", file, [file])


def _downloads(folder: Path) -> Iterator[CacheEntry]:
    with suppress(OSError):
        for shelf in sorted(folder.iterdir()):
            inside = [file for file in shelf.rglob("*") if file.is_file()]
            yield _entry("unfinished downloads", shelf, inside or [shelf])


def _entry(
    kind: str, path: Path, files: Iterable[Path], site: str | None = None, *, gone: bool = False
) -> CacheEntry:
    size, used = 0, 0.0
    for file in files:
        with suppress(OSError):
            info = file.lstat()
            size, used = size + info.st_size, max(used, info.st_mtime)
    return CacheEntry(
        kind=kind,
        path=str(path),
        site=site,
        site_gone=gone,
        size=size,
        used=datetime.fromtimestamp(int(used), UTC),
    )


def _site_of(file: Path) -> str | None:
    """The site that results are of; None where that is unknown."""
    with suppress(sqlite3.Error, OSError, ValueError):
        if distrusted(file) is None:
            with closing(sqlite3.connect(f"{file.as_uri()}?mode=ro", uri=True)) as database:
                ((site,),) = database.execute("SELECT site FROM about")
                return site if isinstance(site, str) else None
    return None


def _is_gone(site: str | None) -> bool:
    return site is not None and not os.path.lexists(site)


def removable(entries: Iterable[CacheEntry], older: timedelta, most: int) -> list[CacheEntry]:
    """What has to go: what was not used for so long, or has no site; then what was used first.

    `most` is the bytes that may stay.
    """
    limit = datetime.now(UTC) - older
    stay = sorted(entries, key=lambda entry: entry.used)
    gone = [entry for entry in stay if entry.used < limit or entry.site_gone]
    stay = [entry for entry in stay if entry not in gone]
    size = sum(entry.size for entry in stay)
    while stay and size > most:
        gone.append(stay.pop(0))
        size -= gone[-1].size
    return gone


def remove(entries: Iterable[CacheEntry]) -> list[CacheEntry]:
    """Remove entries; those that could be removed."""
    removed = []
    for entry in entries:
        path = Path(entry.path)
        with suppress(OSError):
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path)
            else:
                path.unlink()
                for ending in (".marked", ".db-journal"):
                    path.with_suffix(ending).unlink(missing_ok=True)
            removed.append(entry)
    return removed


def tidy() -> None:
    """Keep the cache small; looked at once a day, and never told: it is no loss but of time."""
    folder = user_cache_path("ovek")
    stamp = folder / _TIDIED
    with suppress(OSError):
        if stamp.exists() and time.time() - stamp.stat().st_mtime < _BETWEEN:
            return
        stamp.touch()
        remove(removable(cached(folder), MOST_AGE, MOST_BYTES))

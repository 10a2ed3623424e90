"""A mounted stick or an unpacked backup, read as a volume; and digests of local files.

What the file system has to be asked for is asked in a thread that nobody has to wait for: a mount
may hang.
"""

import hashlib
import os
import shutil
import stat
from collections.abc import Iterator
from datetime import UTC, datetime
from functools import lru_cache, partial
from pathlib import Path
from typing import Any

from ovek.files.errors import InputError
from ovek.files.safe_open import opened
from ovek.model.digest import Algorithm
from ovek.sources.away import StopSignal, away
from ovek.sources.device_session import Interview
from ovek.sources.problem import ReadProblem

_CHUNK = 2**20
_DEEPEST = 16
_MOST_FILES = 500_000


async def read_folder(interview: Interview, folder: Path, member: str, volume: str) -> None:
    """Take a folder in as a volume: sizes, times, digests, and space where it is a mount."""
    names = {"member": member, "volume": volume}
    odd: dict[str, str] = {}
    row, files = await away(
        lambda stop: (_volume(folder), [{**names, **file} for file in _files(folder, stop, odd)])
    )
    interview.rows("folder", "volume", [{**names, "state": "ok", **row}])
    interview.rows("folder files", "file", files)
    held = interview.draft.volume(member, volume)
    held.setdefault("files", [])
    for file, algorithms in interview.images(
        member, held, ("md5", "sha1", "sha256", "sha512"), carry=False
    ):
        path, algorithm = folder / odd.get(file["path"], file["path"]), algorithms[0]
        try:
            made = await away(partial(digest_file, path, algorithm))
        except InputError as error:
            interview.draft.problems.append(f"{file['path']}: it {error.met}")
            continue
        except OSError as error:
            interview.draft.problems.append(f"{file['path']}: {error.strerror or error}")
            continue
        row = {**names, "path": file["path"], algorithm: made}
        interview.rows("folder digest", "digest", [row])


def digest_file(file: Path, algorithm: Algorithm, stop: StopSignal) -> str:
    """Digest a file; lower-case hex.

    Raises OSError, InputError where it is no file, and what `stop` raises.
    """
    made = hashlib.new(algorithm, usedforsecurity=False)
    with opened(file, buffering=0) as stream:
        while chunk := stream.read(_CHUNK):
            stop.check()
            made.update(chunk)
    return made.hexdigest()


def _volume(folder: Path) -> dict[str, Any]:
    """What is known of the whole: its room and file system where it is a mount."""
    if not folder.is_dir():
        raise ReadProblem(f"reading {folder}", "it is not a folder", "Fix `folder` in fleet.toml")
    if not folder.is_mount():
        return {}
    usage = shutil.disk_usage(folder)
    return {"capacity": usage.total, "free": usage.free, "filesystem": _filesystem(folder)}


def _files(
    folder: Path, stop: StopSignal, odd: dict[str, str], under: str = "", depth: int = 0
) -> Iterator[dict[str, Any]]:
    """The regular files below a folder in directory order; links are not followed.

    A name that is not UTF-8 is told with its bytes as escapes; `odd` gets it as it is there.
    """
    with os.scandir(folder / under) as entries:
        for number, entry in enumerate(entries):
            stop.check()
            if number > _MOST_FILES:
                text = f"a folder in it has over {_MOST_FILES} files"
                raise ReadProblem(f"reading {folder}", text, "Check that it is the right folder")
            name = f"{under}{entry.name}"
            try:
                info = entry.stat(follow_symlinks=False)
            except FileNotFoundError:
                continue  # it went meanwhile
            if stat.S_ISDIR(info.st_mode) and depth < _DEEPEST:
                yield from _files(folder, stop, odd, f"{name}/", depth + 1)
            elif stat.S_ISREG(info.st_mode):
                path = os.fsencode(name).decode("utf-8", "backslashreplace")
                if path != name:
                    odd[path] = name
                modified = _time(int(info.st_mtime))
                yield {"path": path, "size": info.st_size, "modified": modified}


@lru_cache(maxsize=1024)
def _time(seconds: int) -> str | None:
    """A file's time, to the second; None where it is none that a calendar knows."""
    try:
        return datetime.fromtimestamp(seconds, UTC).isoformat()
    except (ValueError, OverflowError, OSError):
        return None


def _filesystem(folder: Path) -> str | None:
    """The file system of a mount, as Linux names it in /proc/mounts; None elsewhere."""
    try:
        lines = Path("/proc/mounts").read_text(errors="replace").splitlines()
    except OSError:
        return None
    mounts = {fields[1]: fields[2] for line in lines if len(fields := line.split(" ")) > 2}
    return mounts.get(str(folder.resolve()))

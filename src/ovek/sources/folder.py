"""A mounted stick or an unpacked backup, read as a volume; and digests of local files."""

import hashlib
import os
import shutil
import stat
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ovek.files.regular import opened
from ovek.model.digest import Algorithm
from ovek.sources.interview import Interview
from ovek.sources.problem import ReadProblem

_CHUNK = 2**20
_DEEPEST = 16


def read_folder(interview: Interview, folder: Path, member: str, volume: str) -> None:
    """Take a folder in as a volume: sizes, times, digests, and space where it is a mount."""
    if not folder.is_dir():
        raise ReadProblem(f"reading {folder}", "it is no folder", "Mend folder in fleet.toml")
    names = {"member": member, "volume": volume}
    row: dict[str, Any] = {**names, "state": "ok"}
    if folder.is_mount():
        usage = shutil.disk_usage(folder)
        row.update(capacity=usage.total, free=usage.free, filesystem=_filesystem(folder))
    interview.rows("folder", "volume", [row])
    files = list(_files(folder))
    interview.rows("folder files", "file", [{**names, **file} for file in files])
    if not files:
        interview.draft.volume(member, volume).setdefault("files", [])
    held = interview.draft.volume(member, volume)
    for file, algorithms in interview.images(member, held, ("md5", "sha1", "sha256", "sha512")):
        algorithm = algorithms[0]
        try:
            made = digest_file(folder / file["path"], algorithm)
        except OSError as error:
            interview.draft.problems.append(f"{file['path']}: {error.strerror or error}")
            continue
        row = {**names, "path": file["path"], algorithm: made[algorithm]}
        interview.rows("folder digest", "digest", [row])


def digest_file(file: Path, *algorithms: Algorithm) -> dict[Algorithm, str]:
    """Digest a file with several algorithms in one read; lower-case hex. Raises OSError."""
    hashes = {name: hashlib.new(name, usedforsecurity=False) for name in algorithms}
    with opened(file) as stream:
        while chunk := stream.read(_CHUNK):
            for each in hashes.values():
                each.update(chunk)
    return {name: each.hexdigest() for name, each in hashes.items()}


def _files(folder: Path, under: str = "", depth: int = 0) -> Iterator[dict[str, Any]]:
    """The regular files below a folder in directory order; links are not followed."""
    with os.scandir(folder) as entries:
        for entry in entries:
            path = f"{under}{entry.name}"
            info = entry.stat(follow_symlinks=False)
            if stat.S_ISDIR(info.st_mode) and depth < _DEEPEST:
                yield from _files(Path(entry.path), f"{path}/", depth + 1)
            elif stat.S_ISREG(info.st_mode):
                modified = datetime.fromtimestamp(int(info.st_mtime), UTC).isoformat()
                yield {"path": path, "size": info.st_size, "modified": modified}


def _filesystem(folder: Path) -> str | None:
    """The file system of a mount, as Linux names it in /proc/mounts; None elsewhere."""
    try:
        lines = Path("/proc/mounts").read_text(errors="replace").splitlines()
    except OSError:
        return None
    mounts = {fields[1]: fields[2] for line in lines if len(fields := line.split(" ")) > 2}
    return mounts.get(str(folder.resolve()))

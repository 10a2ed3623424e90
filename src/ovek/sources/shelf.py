"""Digesting a folder of image files: several algorithms in one read, files in parallel.

Archives are looked into without unpacking to disk, within limits of size, ratio and number. Links
are not followed, pipes and devices are passed over. A file that cannot be read, vanishes or grows
meanwhile costs its own line only.
"""

import hashlib
import lzma
import os
import stat
import struct
import tarfile
import zipfile
import zlib
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import IO, Any, Protocol, cast

import msgspec
from msgspec import Struct

from ovek.files.atomic import write_whole
from ovek.files.cache import DISTRUST, distrusted
from ovek.files.errors import InputError
from ovek.files.safe_open import opened
from ovek.files.structure import MOST_DIRECTORY, directory_size, structure_of
from ovek.files.unpacked import Bounds, TooMuchError, is_packed, unpacked
from ovek.model.digest import Algorithm, Digests
from ovek.model.shelf import ShelfFile, ShelfMember
from ovek.model.size import show_size

_CHUNK = 2**20
_WORTH_KEEPING = 2**18  # bytes of a file; a smaller one is read as fast as it is looked up
_WAITING = 1_000  # files that wait for their turn
_MOST_MEMBERS = 10_000
_MOST_ENTRIES = 100_000  # folders and links among them
_MOST_PIECE = 16 * 2**20


class Submit(Protocol):
    """Has a function called elsewhere; what it gives has `result(ShelfFile)`."""

    def __call__(self, function: Callable[..., ShelfFile], *args: Any) -> Any:
        """Have it called."""


class Cached(Struct, frozen=True):
    """What was made of a file before, and the signs by which it is the same still."""

    signs: tuple[int, int, int, int]
    algorithms: tuple[Algorithm, ...]
    file: ShelfFile


class Cache:
    """Digests of files by path, size, times and inode, kept from run to run."""

    def __init__(self, file: Path, *, fresh: bool) -> None:
        self.file = file
        self._known: dict[str, Cached] = {}
        self._problem: str | None = None
        self._ours = True
        if (why := distrusted(file)) is not None:
            self._problem = f"the digest cache is not used: {why}. {DISTRUST}."
            self._ours = False
        if fresh or not self._ours:
            return
        try:
            with opened(file) as stream:
                self._known = msgspec.json.decode(stream.read(), type=dict[str, Cached])
        except FileNotFoundError:
            pass
        except (OSError, InputError, ValueError, RecursionError):
            self._problem = f"the cache {file} could not be read, so every file was digested"

    def get(
        self, path: Path, info: os.stat_result, wanted: Iterable[Algorithm]
    ) -> ShelfFile | None:
        """What is known of a file that has not changed since."""
        known = self._known.get(_text(path))
        if known is None or known.signs != _signs(info) or set(wanted) - set(known.algorithms):
            return None
        return known.file

    def put(
        self, path: Path, info: os.stat_result, algorithms: tuple[Algorithm, ...], file: ShelfFile
    ) -> None:
        """Keep what was made of a file."""
        if info.st_size >= _WORTH_KEEPING or file.structure is not None or file.members:
            self._known[_text(path)] = Cached(_signs(info), algorithms, file)

    def save(self) -> str | None:
        """Write the cache, whole or not at all; say what was wrong with it, None for nothing."""
        if not self._ours:
            return self._problem
        try:
            write_whole(self.file, [msgspec.json.encode(self._known)])
        except InputError as error:
            return f"the cache {error.file} {error.met}; the next run takes as long"
        return self._problem


def _text(path: Path | str) -> str:
    """A path as text; bytes that are not UTF-8 as escapes."""
    return os.fsencode(path).decode("utf-8", "backslashreplace")


def _signs(info: os.stat_result) -> tuple[int, int, int, int]:
    """By what a file is the same still; the change time tells of a byte put in silently."""
    return info.st_size, info.st_mtime_ns, info.st_ino, info.st_ctime_ns


def names_in(folder: Path) -> dict[str, str]:
    """The names of a folder's files as the system has them, by how they are shown."""
    found = (str(file.relative_to(folder)) for file in files_of(folder))
    return {_text(name): name for name in found}


def files_of(folder: Path) -> Iterator[Path]:
    """The regular files below a folder, by name; links, pipes and devices are passed over."""
    for root, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            file = Path(root, name)
            try:
                regular = stat.S_ISREG(file.lstat().st_mode)
            except OSError:
                continue
            if regular and not name.startswith("."):
                yield file


def read_shelf(
    folder: Path,
    algorithms: tuple[Algorithm, ...],
    cache: Cache,
    advance: Callable[[int], None],
    workers: int | None = None,
    elsewhere: Submit | None = None,
) -> list[ShelfFile]:
    """Read every file of a folder, several at a time; `advance` is told of bytes as they go.

    With `elsewhere`, whoever takes calls there reads them, from the same path; what nobody can read
    there is read here.
    """

    def one(file: Path) -> ShelfFile:
        name = _text(file.relative_to(folder))
        known = _known(file, name, algorithms, cache, advance)
        if known is not None:
            return known
        if elsewhere is not None:
            found = _read_elsewhere(file, name, algorithms, cache, elsewhere)
            if found is not None:
                advance(found.size or 0)
                return found
        return read_file(file, name, algorithms, cache, advance)

    with ThreadPoolExecutor(workers or os.cpu_count() or 1) as pool:
        waiting: deque[Future[ShelfFile]] = deque()
        found = []
        for file in files_of(folder):
            waiting.append(pool.submit(one, file))
            if len(waiting) >= _WAITING:
                found.append(waiting.popleft().result())
        return [*found, *(each.result() for each in waiting)]


def _known(
    file: Path,
    name: str,
    algorithms: tuple[Algorithm, ...],
    cache: Cache,
    advance: Callable[[int], None],
) -> ShelfFile | None:
    """What is known of a file from before; or that it is not there any more."""
    try:
        info = file.stat()
    except OSError as error:
        return _unreadable(name, error)
    known = cache.get(file, info, algorithms)
    if known is None:
        return None
    advance(info.st_size)
    return msgspec.structs.replace(known, path=name)


def _read_elsewhere(
    file: Path, name: str, algorithms: tuple[Algorithm, ...], cache: Cache, elsewhere: Submit
) -> ShelfFile | None:
    """What is made of a file elsewhere; None where it is not the one that lies here."""
    try:
        before = file.stat()
        found: ShelfFile = elsewhere(digested, file, name, algorithms).result(ShelfFile)
        same = _signs(file.stat()) == _signs(before)
    except OSError:
        return None
    if found.problem is not None or found.size != before.st_size or not same:
        return None
    cache.put(file, before, algorithms, found)
    return found


def _unreadable(name: str, error: OSError) -> ShelfFile:
    reason = (error.strerror or str(error)).lower()
    return ShelfFile(path=name, size=None, problem=f"it cannot be read ({reason})")


def digested(file: Path, name: str, algorithms: tuple[Algorithm, ...]) -> ShelfFile:
    """One file read through, wherever this runs."""
    return read_file(file, name, algorithms, None, lambda size: None)


def read_file(
    file: Path,
    name: str,
    algorithms: tuple[Algorithm, ...],
    cache: Cache | None,
    advance: Callable[[int], None],
) -> ShelfFile:
    """One file digested, held against its own format, and looked into."""
    try:
        info = file.stat()
        with opened(file, buffering=0) as stream:
            size, digests = digest_stream(stream, algorithms, advance)
        after = file.stat()
        if _signs(after) != _signs(info) or size != info.st_size:
            return ShelfFile(path=name, size=size, problem="it changed while it was read")
        if not size:
            return ShelfFile(path=name, size=0, digests=digests)
        structure = structure_of(file)
        members, note = _inside(file, algorithms)
    except InputError as error:
        return ShelfFile(path=name, size=None, problem=f"it {error.met}")
    except OSError as error:
        return _unreadable(name, error)
    found = ShelfFile(
        path=name, size=size, digests=digests, structure=structure, members=members, note=note
    )
    if cache is not None:
        cache.put(file, info, algorithms, found)
    return found


def digest_stream(
    stream: IO[bytes], algorithms: Iterable[Algorithm], advance: Callable[[int], None]
) -> tuple[int, Digests]:
    """Digest a stream with several algorithms in one read; return its length and the digests."""
    hashes = {name: hashlib.new(name, usedforsecurity=False) for name in algorithms}
    size, buffer = 0, memoryview(bytearray(_CHUNK))  # used again: no memory is asked for a chunk
    while length := stream.readinto(buffer):  # type: ignore[attr-defined]
        for each in hashes.values():
            each.update(buffer[:length])
        size += length
        advance(length)
    return size, Digests(**{name: each.hexdigest() for name, each in hashes.items()})


def _inside(
    file: Path, algorithms: tuple[Algorithm, ...]
) -> tuple[tuple[ShelfMember, ...], str | None]:
    """The files inside an archive; and a note where it was not looked into to its end."""
    limit = Bounds(file.stat().st_size)
    members: list[ShelfMember] = []
    try:
        for path, stream in _members(file, Bounds(file.stat().st_size).take):
            if len(members) >= _MOST_MEMBERS:
                return tuple(members), f"only its first {_MOST_MEMBERS} files were looked at"
            size, digests = digest_stream(stream, algorithms, limit.take)
            members.append(ShelfMember(path=_text(path), size=size, digests=digests))
    except TooMuchError as much:
        return tuple(members), str(much)
    except (
        OSError,
        EOFError,
        RuntimeError,
        NotImplementedError,
        zlib.error,
        lzma.LZMAError,
        zipfile.BadZipFile,
        tarfile.TarError,
        # What headers that lie make of the readers: it costs this file's look, and no other's.
        ValueError,
        OverflowError,
        LookupError,
        MemoryError,
        struct.error,
    ) as error:
        why = str(error) or type(error).__name__
        return tuple(members), f"it could not be looked into completely ({why})"
    return tuple(members), None


def _members(file: Path, count: Callable[[int], None]) -> Iterator[tuple[str, IO[bytes]]]:
    """Open what is inside an archive, one file at a time, without unpacking to disk.

    `count` is told what is unpacked, also on the way over a file that nobody reads.
    """
    with opened(file) as stream:
        head = stream.read(512)
        stream.seek(0)
        if head.startswith(b"PK\x03\x04"):
            if directory_size(stream, file.stat().st_size) > MOST_DIRECTORY:
                raise TooMuchError(
                    f"its directory is over {show_size(MOST_DIRECTORY)}, so it was not looked into"
                )
            with zipfile.ZipFile(stream) as archive:
                for entry in archive.infolist():
                    if not entry.is_dir():
                        with archive.open(entry) as inside:
                            yield entry.filename, inside
        elif is_packed(head):
            with unpacked(stream, count) as inside:
                if inside.peek(512)[257:262] == b"ustar":
                    yield from _in_tar(inside)
                else:
                    yield file.stem, inside
        elif head[257:262] == b"ustar":
            yield from _in_tar(stream)


def _in_tar(stream: IO[bytes]) -> Iterator[tuple[str, IO[bytes]]]:
    with tarfile.open(fileobj=cast("IO[bytes]", _Measured(stream)), mode="r:") as tar:
        for number, member in enumerate(tar):
            if number >= _MOST_ENTRIES:
                raise TooMuchError(f"only its first {_MOST_ENTRIES} entries were looked at")
            vars(tar)["members"] = []  # else it keeps every header
            inside = tar.extractfile(member) if member.isreg() else None
            if inside is not None:
                with inside:
                    yield member.name, inside


class _Measured:
    """A stream that gives no piece that is larger than any header of an archive is."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream

    def read(self, size: int = -1) -> bytes:
        if not 0 <= size <= _MOST_PIECE:
            raise tarfile.ReadError(f"a header asks for {size} bytes")
        return self._stream.read(size)

    def seek(self, offset: int, whence: int = 0) -> int:
        return self._stream.seek(offset, whence)

    def tell(self) -> int:
        return self._stream.tell()

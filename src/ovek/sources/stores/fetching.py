"""The files of a store digested: by its own word, or read through, taken up where it was cut off.

1. What is as it was the last time (size and time, or the server's own sign) is not read again.
2. Where policy trusts the server, digests are those that it works out, said as its own word.
3. Else a file is fetched to the user's cache, digested, looked into, and removed. What was fetched
   of it stays there where the connection is cut, and the next try, or the next run, goes on.
"""

import hashlib
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec.structs import replace

from ovek.files.atomic import write_whole
from ovek.files.cache import distrusted
from ovek.files.errors import InputError
from ovek.files.safe_open import bytes_of
from ovek.model.digest import Algorithm
from ovek.model.shelf import ShelfFile
from ovek.model.size import show_size
from ovek.sources.problem import ReadProblem
from ovek.sources.shelf import digested
from ovek.sources.stores.interface import Lying, Store

_TRIES = 4
_FINISHED = "finished.json"
_LEAST_FREE = 2**28  # bytes that the cache's disk keeps
LARGEST_UNTOLD = 8 * 2**30  # bytes of a file whose size neither server nor publisher tells
_OLD = 7 * 86_400  # seconds after which what was left half is given up


def read_store(
    store: Store,
    files: Sequence[Lying],
    algorithms: tuple[Algorithm, ...],
    spool: Path,
    *,
    known: Mapping[str, ShelfFile] = {},
    by_word: bool = False,
    rate: int | None = None,
    most: Callable[[Lying], int] = lambda file: LARGEST_UNTOLD,
    advance: Callable[[int], None] = lambda size: None,
    wait: float = 0.5,
) -> Iterator[ShelfFile]:
    """Go through the files of a store; one that cannot be read costs its own line.

    `known` are the files by path as they were last time, `rate` in bytes a second, `most` the bytes
    that are fetched of a file whose size the server does not tell, `wait` in seconds to the first
    retry.
    """
    _forget_old(spool)
    for file in files:
        before = known.get(file.path)
        trusted = before is not None and (by_word or not before.by_word)
        if before is not None and trusted and _same(before, file, algorithms):
            advance(file.size or 0)
            yield before
            continue
        found = _by_word(store, file, algorithms) if by_word else None
        if found is not None:
            advance(file.size or 0)
        else:
            limit = file.size if file.size is not None else most(file)
            try:
                found = _fetched(store, file, limit, algorithms, spool, rate, advance, wait)
            except ReadProblem:
                raise
            except Exception as defect:
                problem = f"a defect of Ovek: {type(defect).__name__}: {defect}. Please report it"
                found = ShelfFile(path=file.path, size=None, problem=problem)
        yield replace(found, path=file.path, modified=file.modified, sign=file.sign)


def finished_in(spool: Path) -> tuple[ShelfFile, ...]:
    """The files that a look which was cut off had read."""
    if distrusted(spool / _FINISHED) is not None:
        return ()
    try:
        return msgspec.json.decode(bytes_of(spool / _FINISHED), type=tuple[ShelfFile, ...])
    except (OSError, InputError, ValueError, RecursionError):
        return ()


def keep_finished(spool: Path, files: Sequence[ShelfFile]) -> None:
    """Keep what was read, where the look is cut off."""
    if files:
        with suppress(InputError):
            write_whole(spool / _FINISHED, [msgspec.json.encode(files)])


def forget_finished(spool: Path) -> None:
    """Forget it, once a look came to its end."""
    with suppress(OSError):
        (spool / _FINISHED).unlink()


def _same(before: ShelfFile, file: Lying, algorithms: Sequence[Algorithm]) -> bool:
    """Whether a file is what it was, by what the store tells of it."""
    if before.problem is not None or before.size is None or before.size != file.size:
        return False
    signs = (before.modified, before.sign)
    told = (file.modified, file.sign)
    have = {name for name, _ in before.digests}
    return signs == told and any(told) and set(algorithms) <= have


def _by_word(store: Store, file: Lying, algorithms: Sequence[Algorithm]) -> ShelfFile | None:
    try:
        digests = store.word(file, algorithms)
    except (LookupError, ConnectionError, TimeoutError):
        return None
    if digests is None:
        return None
    return ShelfFile(path=file.path, size=file.size, digests=digests, by_word=True)


def _fetched(
    store: Store,
    file: Lying,
    limit: int,
    algorithms: tuple[Algorithm, ...],
    spool: Path,
    rate: int | None,
    advance: Callable[[int], None],
    wait: float,
) -> ShelfFile:
    half = _half_of(spool, file)
    problem = "it was not read"
    for tried in range(_TRIES):
        if tried:
            time.sleep(wait * 2 ** (tried - 1))
        try:
            _fetch(store, file, limit, half, rate, advance)
            size = half.stat().st_size
            if file.size is not None and size != file.size:
                raise ConnectionError(f"it ended at {size} of {file.size} bytes")
            break
        except LookupError as error:
            shutil.rmtree(half.parent, ignore_errors=True)
            return ShelfFile(
                path=file.path, size=None, problem=f"it cannot be read: {error.args[0]}"
            )
        except ReadProblem as error:
            if not error.passing:
                raise
            problem = f"it cannot be read: {error.met}"
        except (ConnectionError, TimeoutError) as error:
            problem = f"it cannot be read: {error}"
        except OSError as error:
            shutil.rmtree(half.parent, ignore_errors=True)
            why = (error.strerror or str(error)).lower()
            return ShelfFile(path=file.path, size=None, problem=f"it cannot be kept here: {why}")
    else:
        held = half.stat().st_size if half.exists() else 0
        if held and _is_taken_up(store, file):
            problem += f"; {show_size(held)} of it are here, the next run continues"
        else:
            shutil.rmtree(half.parent, ignore_errors=True)
        return ShelfFile(path=file.path, size=None, problem=problem)
    found = digested(half, half.name, algorithms)
    shutil.rmtree(half.parent, ignore_errors=True)
    return found


def _half_of(spool: Path, file: Lying) -> Path:
    """Where a file is put: told by all that tells it from others, under its own name."""
    text = "|".join(map(str, (file.at, file.size, file.modified, file.sign)))
    name = hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:32]
    last = file.path.rpartition("/")[2].encode("utf-8", "replace")[-120:].decode("utf-8", "ignore")
    return spool / name / "".join(c if c.isprintable() and c != "/" else "_" for c in last)


def _is_taken_up(store: Store, file: Lying) -> bool:
    """Whether what is here of a file can be gone on with.

    Without a size, a time or a sign nothing tells that it is the start of the same.
    """
    known = file.size is not None and (file.modified is not None or file.sign is not None)
    return store.resumes and known


def _fetch(
    store: Store,
    file: Lying,
    limit: int,
    half: Path,
    rate: int | None,
    advance: Callable[[int], None],
) -> None:
    """Fetch what is left of a file, up to a limit in bytes.

    Raises LookupError, ConnectionError, TimeoutError, OSError.
    """
    half.parent.mkdir(parents=True, exist_ok=True)
    start = half.stat().st_size if half.exists() and _is_taken_up(store, file) else 0
    if file.size is not None and start > file.size:
        start = 0
    advance(start)
    if file.size == start and start:
        return
    _has_space(half.parent, file.size - start if file.size is not None else 0)
    began, read = time.monotonic(), 0
    with half.open("ab" if start else "wb") as stream:
        for piece in store.pieces(file, start):
            read += len(piece)
            if start + read > limit:
                if file.size is not None:
                    raise LookupError(f"it goes on beyond its {file.size} bytes")
                raise LookupError(
                    f"the server gives no size, and the file is longer than {show_size(limit)} "
                    "(the published size plus a tenth, else largest in fleet.toml)"
                )
            _has_space(half.parent, len(piece))
            stream.write(piece)
            advance(len(piece))
            if rate is not None:
                time.sleep(max(0.0, began + read / rate - time.monotonic()))


def _has_space(folder: Path, needed: int) -> None:
    """Raise LookupError where a disk has not the space for so many bytes, beside what it keeps."""
    free = shutil.disk_usage(folder).free
    if free < needed + _LEAST_FREE:
        raise LookupError(
            f"{show_size(needed)} needed in the cache folder, {show_size(free)} available, "
            f"of which {show_size(_LEAST_FREE)} are kept free"
        )


def _forget_old(spool: Path) -> None:
    """Give up what was left half long ago."""
    if not spool.is_dir():
        return
    for folder in spool.iterdir():
        try:
            newest = max((one.stat().st_mtime for one in folder.iterdir()), default=0.0)
        except OSError:
            continue
        if time.time() - newest > _OLD:
            shutil.rmtree(folder, ignore_errors=True)

"""SFTP (draft-ietf-secsh-filexfer-02, with OpenSSH's statvfs extension): files and space.

Digests come from a checksum program over an exec channel where the sheet names one, else from
reading the file through: at a limited rate, and taken up again where the connection broke.
"""

import asyncio
import hashlib
import re
import shlex
import stat
from collections.abc import AsyncIterator
from datetime import UTC, datetime
from typing import Any

import asyncssh

from ovek.model.digest import LENGTHS, Algorithm
from ovek.model.sheet import SftpVolume
from ovek.model.size import LARGEST
from ovek.sources.clean import plain
from ovek.sources.device_session import Interview
from ovek.sources.problem import NoAnswerError
from ovek.sources.ssh import Limits, ran

_CHUNK = 2**18
_DEEPEST = 16
_MOST_FILES = 100_000
_MOST_FOLDERS = 1_000  # within one folder
_SAFE = re.compile(r"[^\x00-\x1f\x7f\ud800-\udfff]+")


async def read_sftp(
    connection: asyncssh.SSHClientConnection,
    interview: Interview,
    limits: Limits,
    rate: int | None,
    partial: dict[str, tuple[Any, int]],
) -> None:
    """Take in every volume that the sheet lists for SFTP.

    `rate` limits reading files through, in bytes a second. `partial` keeps how far the reading of
    a file came, by path, over a connection that breaks.
    """
    try:
        async with asyncio.timeout(limits.login):
            # Names that are not UTF-8 come with their bytes, so that they can be asked for again.
            client = await connection.start_sftp_client(path_errors="surrogateescape")
    except TimeoutError:
        interview.draft.problems.append(f"SFTP: no answer in {limits.login:g} s")
        return
    except asyncssh.Error as error:
        interview.draft.problems.append(f"SFTP: {plain(str(error))}")
        return
    for place in interview.reading.sftp:
        names = await _volume(client, interview, place)
        await _digests(connection, client, interview, place, names, limits, rate, partial)
    client.exit()  # nobody waits for the other side to agree


async def _volume(
    client: asyncssh.SFTPClient, interview: Interview, place: SftpVolume
) -> dict[str, str]:
    """List one volume; the names as the server has them, by how they are told."""
    await interview.seat.work()
    names = {"member": place.member, "volume": place.volume}
    told: dict[str, str] = {}
    files = []
    try:
        async for name, file in files_below(client, place.path):
            told[file["path"]] = name
            files.append({**names, **file})
            if len(files) > _MOST_FILES:
                raise NoAnswerError(f"it lists over {_MOST_FILES} files, so none is taken")
    except asyncssh.SFTPNoSuchFile:
        interview.rows("sftp volume", "volume", [{**names, "state": "absent"}])
        return {}
    except (asyncssh.SFTPError, NoAnswerError) as error:
        interview.draft.problems.append(f"SFTP of {place.path}: {plain(str(error))}")
        return {}
    row: dict[str, Any] = {**names, "state": "ok"}
    try:
        space = await client.statvfs(place.path)
        unit = space.frsize or space.bsize
        row.update(capacity=space.blocks * unit, free=space.bavail * unit, cluster=space.bsize)
    except asyncssh.SFTPError as error:
        interview.draft.problems.append(f"free space of {place.path}: {plain(str(error))}")
    interview.rows("sftp volume", "volume", [row])
    interview.rows("sftp files", "file", files)
    interview.draft.volume(place.member, place.volume).setdefault("files", [])
    return told


async def files_below(
    client: asyncssh.SFTPClient, folder: str, under: str = "", depth: int = 0
) -> AsyncIterator[tuple[str, dict[str, Any]]]:
    """The regular files below a folder, in the order in which the server lists them.

    Each with its path as the server has it; in what is told, bytes that are not UTF-8 are escapes.
    """
    inner = []
    entries = 0
    async for entry in client.scandir(f"{folder}/{under}" if under else folder):
        entries += 1
        if entries > _MOST_FILES:
            raise NoAnswerError(f"a folder lists over {_MOST_FILES} names, so none is taken")
        name = str(entry.filename)
        kind = stat.S_IFMT(entry.attrs.permissions or 0)
        if name in ("", ".", "..") or "/" in name or "\0" in name:
            continue
        path = f"{under}{name}"
        if kind == stat.S_IFDIR and depth < _DEEPEST:
            inner.append(path)
            if len(inner) > _MOST_FOLDERS:
                raise NoAnswerError(f"it lists over {_MOST_FOLDERS} folders, so none is taken")
            async for file in files_below(client, folder, f"{path}/", depth + 1):
                yield file
        elif kind == stat.S_IFREG:
            told = path.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
            modified = datetime.fromtimestamp(entry.attrs.mtime or 0, UTC).isoformat()
            size = entry.attrs.size
            if size is not None and size > LARGEST:  # no file is so large: it is not known
                size = None
            yield path, {"path": told, "size": size, "modified": modified}


class RefusedError(Exception):
    """The account may run no program."""


async def _digests(
    connection: asyncssh.SSHClientConnection,
    client: asyncssh.SFTPClient,
    interview: Interview,
    place: SftpVolume,
    names: dict[str, str],
    limits: Limits,
    rate: int | None,
    partial: dict[str, tuple[Any, int]],
) -> None:
    """Take the digests of a volume: by a program where that may be run, else by reading files."""
    program = interview.reading.digest_program
    volume = interview.draft.volume(place.member, place.volume)

    def wanted(able: list[Algorithm]) -> list[tuple[dict[str, Any], str, Algorithm]]:
        found = interview.images(place.member, volume, able)
        return [
            (file, f"{place.path}/{names.get(file['path'], file['path'])}", algorithms[0])
            for file, algorithms in found
        ]

    def measured(file: dict[str, Any], algorithm: Algorithm, digest: str) -> None:
        row = {"member": place.member, "volume": place.volume, "path": file["path"]}
        interview.rows("sftp digest", "digest", [{**row, algorithm: digest}])

    unread = list[str]()
    for file, path, algorithm in wanted(list(program)) if program else ():
        expected = interview.expected_seconds({"path": path, "size": str(file.get("size") or 0)})
        await interview.seat.work(expected)
        try:
            digest = await by_program(
                connection, program[algorithm], path, algorithm, limits, expected
            )
            measured(file, algorithm, digest)
        except RefusedError as refused:
            text = f"no program may be run ({refused}), so files are read through for their digests"
            interview.draft.problems.append(text)
            program = {}
            break
        except NoAnswerError as error:
            unread.append(file["path"])
            interview.draft.problems.append(f"digest of {file['path']}: {plain(str(error))}")
    if program:
        return
    left = [each for each in wanted(list(LENGTHS)) if each[0]["path"] not in unread]
    interview.tell_rate([int(file.get("size") or 0) for file, _, _ in left], rate)
    for file, path, algorithm in left:
        try:
            size = file.get("size", LARGEST)
            measured(
                file,
                algorithm,
                await _by_reading(client, path, size, algorithm, rate, partial, interview),
            )
        except (NoAnswerError, asyncssh.SFTPError) as error:
            interview.draft.problems.append(f"digest of {file['path']}: {plain(str(error))}")
        interview.progress.digested(interview.name)


async def by_program(
    connection: asyncssh.SSHClientConnection,
    program: str,
    path: str,
    algorithm: Algorithm,
    limits: Limits,
    expected: float,
) -> str:
    """The digest that a program makes of a file. Raises NoAnswerError, RefusedError."""
    if not _SAFE.fullmatch(path):
        raise NoAnswerError("the name holds control characters or is not UTF-8, so it is not sent")
    command = program.replace("{path}", shlex.quote(path))
    limit = limits.answer + 3 * expected
    try:
        status, output, told = await ran(connection, command, limits, limit)
    except TimeoutError:
        raise NoAnswerError(f"no digest in {limit:.0f} s") from None
    except asyncssh.ChannelOpenError as error:
        raise RefusedError(plain(str(error)) or "the server refuses it") from None
    length, text = LENGTHS[algorithm], output.decode("utf-8", "replace")
    found = re.search(rf"(?<![0-9A-Fa-f])[0-9A-Fa-f]{{{length}}}(?![0-9A-Fa-f])", text)
    if status == 0 and found is not None:
        return found[0].lower()
    name = program.split()[0]
    if status == 1 and name in told:  # it ran, and says what is wrong with the file
        raise NoAnswerError(f"{command!r} ended with 1 ({told})")
    why = told or plain(text).strip()[:60] or "it gives no digest"
    raise RefusedError(f"{name} ended with {status}: {why}")


async def _by_reading(
    client: asyncssh.SFTPClient,
    path: str,
    size: int,
    algorithm: Algorithm,
    rate: int | None,
    partial: dict[str, tuple[Any, int]],
    interview: Interview,
) -> str:
    """Read a file through from where an earlier connection left it."""
    made, at = partial.pop(path, (hashlib.new(algorithm, usedforsecurity=False), 0))
    loop = asyncio.get_running_loop()
    began, read = loop.time(), 0
    stream = await client.open(path, "rb")
    while True:
        partial[path] = (made, at)
        await interview.seat.work(0.0 if rate is None else _CHUNK / rate)
        piece = await stream.read(_CHUNK, at)
        if not piece:
            break
        if at + len(piece) > size:
            raise NoAnswerError(f"it goes on beyond its {size} bytes, so it is not read")
        made.update(piece)
        at, read = at + len(piece), read + len(piece)
        interview.progress.transferred(interview.name, len(piece))
        if rate is not None:
            await asyncio.sleep(max(0.0, began + read / rate - loop.time()))
    del partial[path]
    await stream.close()
    return str(made.hexdigest())

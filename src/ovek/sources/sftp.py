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
from ovek.sources.clean import plain
from ovek.sources.interview import Interview
from ovek.sources.problem import NoAnswerError
from ovek.sources.ssh import Limits

_CHUNK = 2**18
_DEEPEST = 16
_MOST_FILES = 100_000
_SAFE = re.compile(r"[^\x00-\x1f\x7f]+")


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
        client = await connection.start_sftp_client()
    except asyncssh.Error as error:
        interview.draft.problems.append(f"SFTP: {plain(str(error))}")
        return
    async with client:
        for place in interview.sheet.reading.sftp:
            async with asyncio.timeout(limits.device):
                await _volume(client, interview, place)
                await _digests(connection, client, interview, place, limits, rate, partial)


async def _volume(client: asyncssh.SFTPClient, interview: Interview, place: SftpVolume) -> None:
    names = {"member": place.member, "volume": place.volume}
    try:
        files = [file async for file in _files(client, place.path)]
    except asyncssh.SFTPNoSuchFile:
        interview.rows("sftp volume", "volume", [{**names, "state": "absent"}])
        return
    except asyncssh.SFTPError as error:
        interview.draft.problems.append(f"SFTP of {place.path}: {plain(str(error))}")
        return
    row: dict[str, Any] = {**names, "state": "ok"}
    try:
        space = await client.statvfs(place.path)
        unit = space.frsize or space.bsize
        row.update(capacity=space.blocks * unit, free=space.bavail * unit, cluster=space.bsize)
    except asyncssh.SFTPError as error:
        interview.draft.problems.append(f"free space of {place.path}: {plain(str(error))}")
    interview.rows("sftp volume", "volume", [row])
    interview.rows("sftp files", "file", [{**names, **file} for file in files])
    interview.draft.volume(place.member, place.volume).setdefault("files", [])


async def _files(
    client: asyncssh.SFTPClient, folder: str, under: str = "", depth: int = 0
) -> AsyncIterator[dict[str, Any]]:
    """The regular files below a folder, in the order in which the server lists them."""
    async for entry in client.scandir(f"{folder}/{under}" if under else folder):
        name = _text(entry.filename)
        kind = stat.S_IFMT(entry.attrs.permissions or 0)
        if name in (".", ".."):
            continue
        if kind == stat.S_IFDIR and depth < _DEEPEST:
            async for file in _files(client, folder, f"{under}{name}/", depth + 1):
                yield file
        elif kind == stat.S_IFREG:
            modified = datetime.fromtimestamp(entry.attrs.mtime or 0, UTC).isoformat()
            yield {"path": f"{under}{name}", "size": entry.attrs.size, "modified": modified}


def _text(name: str | bytes) -> str:
    return name.decode("utf-8", "backslashreplace") if isinstance(name, bytes) else name


async def _digests(
    connection: asyncssh.SSHClientConnection,
    client: asyncssh.SFTPClient,
    interview: Interview,
    place: SftpVolume,
    limits: Limits,
    rate: int | None,
    partial: dict[str, tuple[Any, int]],
) -> None:
    program = interview.sheet.reading.digest_program
    able: list[Algorithm] = list(program) if program else list(LENGTHS)
    volume = interview.draft.volume(place.member, place.volume)
    for file, algorithms in interview.images(place.member, volume, able):
        path, algorithm = f"{place.path}/{file['path']}", algorithms[0]
        expected = interview.expected_seconds({"path": path, "size": str(file.get("size") or 0)})
        try:
            if program:
                digest = await _by_program(
                    connection, program[algorithm], path, algorithm, limits.answer + 3 * expected
                )
            else:
                digest = await _by_reading(client, path, algorithm, rate, partial)
        except (NoAnswerError, asyncssh.SFTPError) as error:
            interview.draft.problems.append(f"digest of {path}: {plain(str(error))}")
            continue
        row = {"member": place.member, "volume": place.volume, "path": file["path"]}
        interview.rows("sftp digest", "digest", [{**row, algorithm: digest}])


async def _by_program(
    connection: asyncssh.SSHClientConnection,
    program: str,
    path: str,
    algorithm: Algorithm,
    limit: float,
) -> str:
    if not _SAFE.fullmatch(path):
        raise NoAnswerError("the name holds control characters, so it is not sent")
    command = program.replace("{path}", shlex.quote(path))
    try:
        async with asyncio.timeout(limit):
            done = await connection.run(command, encoding="utf-8", errors="replace")
    except TimeoutError:
        raise NoAnswerError(f"no digest in {limit:.0f} s") from None
    length = LENGTHS[algorithm]
    found = re.search(rf"(?<![0-9A-Fa-f])[0-9A-Fa-f]{{{length}}}(?![0-9A-Fa-f])", str(done.stdout))
    if done.exit_status != 0 or found is None:
        raise NoAnswerError(f"{command!r} ended with {done.exit_status} and gave no digest")
    return found[0].lower()


async def _by_reading(
    client: asyncssh.SFTPClient,
    path: str,
    algorithm: Algorithm,
    rate: int | None,
    partial: dict[str, tuple[Any, int]],
) -> str:
    """Read a file through from where an earlier connection left it."""
    made, at = partial.pop(path, (hashlib.new(algorithm, usedforsecurity=False), 0))
    loop = asyncio.get_running_loop()
    began, read = loop.time(), 0
    async with client.open(path, "rb") as stream:
        while True:
            partial[path] = (made, at)
            piece = await stream.read(_CHUNK, at)
            if not piece:
                break
            made.update(piece)
            at, read = at + len(piece), read + len(piece)
            if rate is not None:
                await asyncio.sleep(max(0.0, began + read / rate - loop.time()))
    del partial[path]
    return str(made.hexdigest())

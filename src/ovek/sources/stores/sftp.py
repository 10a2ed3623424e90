"""A folder on a server, over SFTP; where policy trusts it, digests by the server's own programs."""

import asyncio
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AsyncExitStack, suppress
from datetime import datetime
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote, urlsplit

import asyncssh

from ovek.model.digest import Algorithm, Digests
from ovek.model.fleet import Shelf
from ovek.sources.away import hush
from ovek.sources.clean import plain
from ovek.sources.problem import NoAnswerError, ReadProblem
from ovek.sources.sftp import RefusedError, by_program, files_below
from ovek.sources.ssh import Gates, connected
from ovek.sources.stores.interface import LONGEST_LOOK, Lying, ShelfAccess, is_safe

_PIECE = 2**18
_AHEAD = 16  # pieces asked for at once
_CLOSING = 1.0  # seconds for a connection that was cut to be gone
_MOST_FILES = 100_000
_RATE = 2**22  # bytes a second that a server digests at least
T = TypeVar("T")


class Sftp:
    """One connection for all files, made anew where it was cut."""

    resumes = True

    def __init__(self, shelf: Shelf, access: ShelfAccess) -> None:
        assert access.login is not None
        path = unquote(urlsplit(shelf.at).path) or "/"
        self._folder = path if len(path) < 2 else path.rstrip("/")
        if self._folder.startswith("/~/"):
            self._folder = self._folder[3:]
        self._access, self._login = access, access.login
        self._runner = asyncio.Runner()
        hush(self._runner.get_loop())
        self._stack = AsyncExitStack()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._client: asyncssh.SFTPClient | None = None
        self._programs = True

    def _run(
        self, work: Any, limit: float | None = None, heard: Callable[[], int] = lambda: 0
    ) -> Any:
        """Wait for something; what goes on beyond its limit in seconds is left, not waited for.

        As long as more is `heard`, it has its limit again. Raises LookupError, ConnectionError,
        TimeoutError.
        """
        try:
            return self._runner.run(self._bounded(work, limit, heard))
        except asyncssh.SFTPConnectionLost:
            self._forget()
            raise ConnectionError("the connection was cut") from None
        except (asyncssh.ConnectionLost, ConnectionError, asyncssh.ChannelOpenError) as error:
            self._forget()
            raise ConnectionError(plain(str(error)) or "the connection was cut") from None
        except asyncssh.SFTPError as error:
            raise LookupError(plain(str(error)) or type(error).__name__) from None
        except TimeoutError:
            self._forget()
            raise TimeoutError("no answer in time") from None

    async def _bounded(self, work: Any, limit: float | None, heard: Callable[[], int]) -> Any:
        doing, ends = asyncio.ensure_future(work), time.monotonic() + LONGEST_LOOK
        while not doing.done():
            before = heard()
            await asyncio.wait({doing}, timeout=limit)
            if not doing.done() and (heard() == before or time.monotonic() > ends):
                # To be told to end it waits for the other side, which is what does not answer.
                doing.cancel()
                if self._connection is not None:
                    self._connection.abort()
                await asyncio.wait({doing}, timeout=_CLOSING)
                raise TimeoutError
        return doing.result()

    def _forget(self) -> None:
        with suppress(Exception):
            self._runner.run(self._stack.aclose())
        self._stack, self._connection, self._client = AsyncExitStack(), None, None

    async def _sftp(self) -> asyncssh.SFTPClient:
        if self._client is None:
            access = self._access
            self._connection = await self._stack.enter_async_context(
                connected(self._login, access.limits, access.keys, access.secrets, Gates())
            )
            try:
                async with asyncio.timeout(access.limits.login):
                    start = self._connection.start_sftp_client
                    self._client = await start(path_errors="surrogateescape")
            except TimeoutError:
                text = f"no SFTP within {access.limits.login:g} s"
                raise ReadProblem("reading", text, "Check that the account may use SFTP") from None
            except asyncssh.Error as error:
                text = f"no SFTP: {plain(str(error))}"
                raise ReadProblem("reading", text, "Check that the account may use SFTP") from None
        return self._client

    def files(self) -> list[Lying]:
        """All files below the folder."""

        async def listed() -> list[Lying]:
            client, found = await self._sftp(), list[Lying]()
            async for name, told in files_below(client, self._folder):
                heard[0] += 1
                if is_safe(name) and not name.rpartition("/")[2].startswith("."):
                    modified = datetime.fromisoformat(told["modified"])
                    size = told["size"]
                    found.append(Lying(path=told["path"], at=name, size=size, modified=modified))
                if len(found) > _MOST_FILES:
                    raise NoAnswerError(f"it lists over {_MOST_FILES} files")
            return sorted(found, key=lambda file: file.path)

        heard = [0]
        doing = f"listing {self._folder}"
        try:
            limit = self._access.limits.answer
            result: list[Lying] = self._run(listed(), limit, lambda: heard[0])
            return result
        except NoAnswerError as error:
            raise ReadProblem(doing, str(error), "Use a folder inside it") from None
        except LookupError as error:
            raise ReadProblem(doing, str(error), "Fix `at` in fleet.toml") from None
        except (TimeoutError, ConnectionError) as error:
            raise ReadProblem(
                doing, str(error), "Check that the server is up", passing=True
            ) from None

    def pieces(self, file: Lying, start: int) -> Iterator[bytes]:
        """Read on from a byte, several pieces asked for at once."""
        path, at, limit = f"{self._folder}/{file.at}", start, self._access.limits.answer

        heard = [0]

        async def one(stream: Any, at: int) -> bytes:
            piece = await stream.read(_PIECE, at)
            heard[0] += 1
            return piece if isinstance(piece, bytes) else piece.encode()

        async def read(at: int) -> list[bytes]:
            client = await self._sftp()
            async with client.open(path, "rb") as stream:
                asked = [one(stream, at + n * _PIECE) for n in range(_AHEAD)]
                return await asyncio.gather(*asked)

        while True:
            for piece in self._run(read(at), limit, lambda: heard[0]):
                if piece:
                    yield piece
                at += len(piece)
                if len(piece) < _PIECE:  # a short one is the last, or is followed by what is asked
                    break
            else:
                continue
            if not piece:
                return

    def word(self, file: Lying, algorithms: Sequence[Algorithm]) -> Digests | None:
        """What `sha512sum` and its like say on the server, where the account may run them."""
        path, limits = f"{self._folder}/{file.at}", self._access.limits

        async def made(algorithm: Algorithm) -> str:
            await self._sftp()
            assert self._connection is not None
            program, expected = f"{algorithm}sum -- {{path}}", (file.size or 0) / _RATE
            return await by_program(self._connection, program, path, algorithm, limits, expected)

        if not self._programs:
            return None
        try:
            return Digests(**{name: self._run(made(name)) for name in algorithms})
        except RefusedError:
            self._programs = False
        except NoAnswerError:
            pass  # of this file: it is read through
        return None

    def close(self) -> None:
        """Let go of the connection."""
        self._forget()
        self._runner.close()


def opened(shelf: Shelf, site: Path, access: ShelfAccess) -> Sftp:
    """A folder over SFTP."""
    return Sftp(shelf, access)

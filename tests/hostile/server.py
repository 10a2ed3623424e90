"""SSH and SFTP servers on loopback that stop, flood, close or lie, each at one stage.

`HOSTILE` names them all; `serving` serves one of each and gives their ports and the host key.
"""

import asyncio
import itertools
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import AsyncExitStack, asynccontextmanager, suppress

import asyncssh
from asyncssh.sftp import SFTPAttrs, SFTPName

LOOPBACK = "127.0.0.1"
Streams = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]
Program = Callable[[asyncssh.SSHServerProcess], Awaitable[None]]


# Before there is any SSH -------------------------------------------------------------------------


async def _for_ever() -> None:
    with suppress(asyncio.CancelledError):
        await asyncio.sleep(3600)


async def _silent(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await _for_ever()


async def _closes(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.close()


async def _garbage(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.write(bytes(range(256)) * 40)
    await _for_ever()


async def _banner_without_end(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with suppress(ConnectionError):
        while not writer.is_closing():
            writer.write(b"a banner that goes on\r\n" * 100)
            await writer.drain()
            await asyncio.sleep(0.01)


async def _version_and_nothing(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.write(b"SSH-2.0-x\r\n")
    await _for_ever()


async def _version_and_noise(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with suppress(ConnectionError):
        writer.write(b"SSH-2.0-x\r\n")
        while not writer.is_closing():
            writer.write(b"\0\0\x0f\xfc\x04\x14" + b"\xff" * 4096)
            await writer.drain()
            await asyncio.sleep(0.01)


async def _huge_packet(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    writer.write(b"SSH-2.0-x\r\n\xff\xff\xff\xff" + b"\0" * 4096)
    await _for_ever()


BEFORE_SSH: dict[str, Streams] = {
    "accepts and says nothing": _silent,
    "accepts and closes": _closes,
    "sends garbage for a version": _garbage,
    "sends a banner without end": _banner_without_end,
    "stops after its version": _version_and_nothing,
    "sends noise for a key exchange": _version_and_noise,
    "tells of a packet of 4 GiB": _huge_packet,
}


# The log-in --------------------------------------------------------------------------------------


class _Open(asyncssh.SSHServer):
    """Lets anybody in."""

    def begin_auth(self, username: str) -> bool:
        return False


class _StopsAtLogin(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    async def validate_password(self, username: str, password: str) -> bool:
        await asyncio.sleep(3600)
        return False


class _AsksForEver(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return True

    def kbdint_auth_supported(self) -> bool:
        return True

    def get_kbdint_challenge(self, username: str, lang: str, submethods: str) -> object:
        return ("", "", "", [("Password: ", False)])

    def validate_kbdint_response(self, username: str, responses: object) -> object:
        return ("", "", "", [("Once more: " + "x" * 1000, False)])


class _NoMethod(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return True


AT_LOGIN: dict[str, Callable[[], asyncssh.SSHServer]] = {
    "stops at the password": _StopsAtLogin,
    "asks for ever at log-in": _AsksForEver,
    "knows no way to log in": _NoMethod,
}


# A shell or a program ----------------------------------------------------------------------------


def _writes(*pieces: str, then: str = "stops") -> Program:
    """Writes pieces, again and again where the last is an ellipsis."""

    async def run(process: asyncssh.SSHServerProcess) -> None:
        with suppress(ConnectionError, asyncssh.Error):
            for piece in pieces:
                process.stdout.write(piece)
                await process.stdout.drain()
            if then == "stops":
                await asyncio.sleep(3600)
            elif then == "floods":
                while True:
                    process.stdout.write(pieces[-1])
                    await process.stdout.drain()
            elif then == "complains":
                while True:
                    process.stderr.write("no " * 10_000)
                    await process.stderr.drain()
            elif then == "closes":
                process.close()
            else:
                process.exit(int(then))

    return run


async def _byte_by_byte(process: asyncssh.SSHServerProcess) -> None:
    with suppress(ConnectionError, asyncssh.Error):
        while True:
            process.stdout.write("\b")
            await asyncio.sleep(0)


async def _refuses(process: asyncssh.SSHServerProcess) -> None:
    process.exit_with_signal("KILL")


PROGRAMS: dict[str, Program] = {
    "shows no prompt": _writes("welcome\r\n"),
    "shows a prompt and stops": _writes("box> "),
    "floods for an answer": _writes("box> ", "x" * 60_000, then="floods"),
    "floods with backspaces": _writes("box> ", "\b" * 60_000, then="floods"),
    "floods with returns": _writes("box> ", "a" * 999 + "\rb" * 30_000, then="floods"),
    "floods with escapes": _writes("box> ", "\x1b[" * 30_000, then="floods"),
    "floods with prompts": _writes("box> " * 10_000, then="floods"),
    "floods its standard error": _writes("box> ", then="complains"),
    "closes after its prompt": _writes("box> ", then="closes"),
    "closes before its prompt": _writes(then="closes"),
    "ends with a status that is none": _writes("box> ", then="255"),
    "sends backspaces one by one": _byte_by_byte,
    "is killed": _refuses,
}


# SFTP --------------------------------------------------------------------------------------------


class _Sftp(asyncssh.SFTPServer):
    """A volume with one file; the rest is what each makes of it."""

    async def stat(self, path: bytes) -> SFTPAttrs:
        return SFTPAttrs(size=100, permissions=0o40755)

    async def listdir(self, path: bytes) -> list[bytes]:
        return [b"sw-1.0.img"]

    def scandir(self, path: bytes) -> AsyncIterator[SFTPName]:
        return self._entries(path)

    async def _entries(self, path: bytes) -> AsyncIterator[SFTPName]:
        yield entry(b"sw-1.0.img")


def entry(name: bytes, kind: int = 0o100644, **more: object) -> SFTPName:
    """A line of a listing."""
    told = {"size": 5, "mtime": 1_700_000_000, "permissions": kind, **more}
    return SFTPName(name, b"", SFTPAttrs(**told))


class _StopsAtListing(_Sftp):
    async def _entries(self, path: bytes) -> AsyncIterator[SFTPName]:
        await asyncio.sleep(3600)
        yield entry(b"x")


class _ListsForEver(_Sftp):
    async def _entries(self, path: bytes) -> AsyncIterator[SFTPName]:
        for number in itertools.count():
            yield entry(b"%d.img" % number)
            if number % 100 == 0:
                await asyncio.sleep(0)


class _FoldersForEver(_Sftp):
    async def _entries(self, path: bytes) -> AsyncIterator[SFTPName]:
        for number in itertools.count():
            yield entry(b"d%d" % number, 0o40755)


class _OddNames(_Sftp):
    async def _entries(self, path: bytes) -> AsyncIterator[SFTPName]:
        for name in (
            b"",
            b".",
            b"..",
            b"../up",
            b"a\0b",
            b"\xff\xfe.img",
            b"\x1b[31m.img",
            b"a\nb",
        ):
            yield entry(name)
        yield entry(b"big.img", size=2**64 - 1)
        yield entry(b"late.img", mtime=2**32 - 1)
        yield entry(b"sw-1.0.img")


class _StopsAtOpen(_Sftp):
    async def open(self, path: bytes, pflags: int, attrs: SFTPAttrs) -> object:
        await asyncio.sleep(3600)
        return None


class _File:
    """A file that never ends."""


class _FileForEver(_Sftp):
    def open(self, path: bytes, pflags: int, attrs: SFTPAttrs) -> object:
        return _File()

    def read(self, file_obj: object, offset: int, size: int) -> bytes:
        return b"x" * size

    def close(self, file_obj: object) -> None:
        return None


class _StopsAtRead(_FileForEver):
    async def read(self, file_obj: object, offset: int, size: int) -> bytes:
        await asyncio.sleep(3600)
        return b""


class _StopsAtClose(_FileForEver):
    def read(self, file_obj: object, offset: int, size: int) -> bytes:
        return b"12345"[offset : offset + size]

    async def close(self, file_obj: object) -> None:
        await asyncio.sleep(3600)


class _StopsAtSpace(_Sftp):
    async def statvfs(self, path: bytes) -> object:
        await asyncio.sleep(3600)
        return None


SFTP: dict[str, type[_Sftp]] = {
    "stops at an SFTP listing": _StopsAtListing,
    "lists files for ever": _ListsForEver,
    "lists folders for ever": _FoldersForEver,
    "lists odd names": _OddNames,
    "stops at opening a file": _StopsAtOpen,
    "has a file without end": _FileForEver,
    "stops in a file": _StopsAtRead,
    "stops at closing a file": _StopsAtClose,
    "stops at free space": _StopsAtSpace,
}

HOSTILE = [*BEFORE_SSH, *AT_LOGIN, *PROGRAMS, *SFTP]


@asynccontextmanager
async def serving(
    *names: str, more: dict[str, Program] | None = None
) -> AsyncIterator[tuple[dict[str, int], asyncssh.SSHKey]]:
    """Serve these; gives the port of each and the key that all show."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    programs = PROGRAMS | (more or {})
    ports: dict[str, int] = {}
    async with AsyncExitStack() as stack:
        for name in names:
            if name in BEFORE_SSH:
                server = await asyncio.start_server(BEFORE_SSH[name], LOOPBACK, 0)
                stack.callback(server.close)
                ports[name] = server.sockets[0].getsockname()[1]
                continue
            acceptor = await asyncssh.listen(
                LOOPBACK,
                0,
                server_host_keys=[key],
                server_factory=AT_LOGIN.get(name, _Open),
                process_factory=programs.get(name),
                sftp_factory=SFTP.get(name),
                login_timeout=3600,
                line_editor=False,
                encoding="utf-8",
            )
            stack.callback(acceptor.close)
            ports[name] = acceptor.get_port()
        yield ports, key

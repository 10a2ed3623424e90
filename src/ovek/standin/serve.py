"""Serving stand-ins: an SSH server on loopback for each, one port each.

What a stand-in receives can be recorded, byte for byte. Faults are on demand, by the state file.
"""

import asyncio
import random
import socket
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from itertools import count
from pathlib import Path
from types import ModuleType

import asyncssh
from msgspec import Struct

from ovek.model.snapshot import Device
from ovek.standin import merrowby, oxwick, pellard, tolvane
from ovek.standin.hands import Hands, ServerImage
from ovek.standin.obey import RELOADS, hands_of, obeyed
from ovek.standin.state import Standin

LANGUAGES: dict[str, ModuleType] = {
    "oxwick": oxwick,
    "tolvane": tolvane,
    "merrowby": merrowby,
    "pellard": pellard,
}
LOOPBACK = "127.0.0.1"
Record = Callable[[str, str], None]


class Serving(Struct, frozen=True):
    """A stand-in that is being served, its port, and the line of `known_hosts` for it."""

    standin: Standin
    port: int
    known_host: str


class Obeying(Struct, frozen=True):
    """A fleet that does what is typed: what its server has, and which change the power fails in."""

    server: dict[str, ServerImage]
    cut_after: int | None = None


class _Server(asyncssh.SSHServer):
    """Log-in: a password, or what the fault makes of it."""

    def __init__(self, standin: Standin) -> None:
        self.standin = standin

    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return self.standin.fault != "second-factor"

    def validate_password(self, username: str, password: str) -> bool:
        one = self.standin
        return one.fault != "refuse" and (username, password) == (one.user, one.password)

    def kbdint_auth_supported(self) -> bool:
        return self.standin.fault == "second-factor"

    def get_kbdint_challenge(
        self, username: str, lang: str, submethods: str
    ) -> tuple[str, str, str, Sequence[tuple[str, bool]]]:
        return ("Log-in", "", "", [("Number on your card: ", True)])

    def validate_kbdint_response(self, username: str, responses: Sequence[str]) -> bool:
        return False


async def serve(
    standins: Iterable[Standin],
    folder: Path,
    record: Record | None = None,
    obeying: Obeying | None = None,
) -> tuple[list[Serving], list[asyncssh.SSHAcceptor | socket.socket]]:
    """Serve each stand-in on a free port of loopback; `folder` is where its SFTP folder lies.

    Returns what is served, and what has to be closed in the end.
    """
    serving: list[Serving] = []
    closing: list[asyncssh.SSHAcceptor | socket.socket] = []
    for standin in standins:
        key = asyncssh.generate_private_key("ssh-ed25519")
        if standin.fault == "closed":
            # Bound and not listening: the port refuses, and nobody else is given it.
            taken = socket.socket()
            taken.bind((LOOPBACK, 0))
            closing.append(taken)
            port = taken.getsockname()[1]
        else:
            acceptor = await asyncssh.listen(
                LOOPBACK,
                0,
                server_host_keys=[key],
                server_factory=lambda one=standin: _Server(one),
                process_factory=_terminal(standin, record, obeying),
                sftp_factory=_sftp(standin, folder),
                line_editor=False,
                encoding="utf-8",
                errors="replace",
            )
            closing.append(acceptor)
            port = acceptor.get_port()
        shown = asyncssh.generate_private_key("ssh-ed25519")
        shown = shown if standin.fault == "changed-key" else key
        public = shown.export_public_key("openssh").decode().strip()
        serving.append(Serving(standin, port, f"[{LOOPBACK}]:{port} {public}"))
    return serving, closing


def _sftp(standin: Standin, folder: Path) -> Callable[..., asyncssh.SFTPServer] | None:
    if standin.sftp is None:
        return None
    root = str(folder / standin.sftp)
    return lambda channel: asyncssh.SFTPServer(channel, chroot=root.encode())


def _terminal(
    standin: Standin, record: Record | None, obeying: Obeying | None
) -> Callable[[asyncssh.SSHServerProcess[str]], object]:
    hands = None if obeying is None else hands_of(standin, obeying.server)
    # What is typed over all log-ins counts.
    changes = count(1)

    async def run(process: asyncssh.SSHServerProcess[str]) -> None:
        terminal = _Terminal(standin, process, record)
        if hands is not None and obeying is not None:
            terminal.hands, terminal.changes = hands, changes
            terminal.cut_after = obeying.cut_after
        with suppress(asyncssh.Error, ConnectionError, asyncio.IncompleteReadError):
            await terminal.run()
        with suppress(OSError):
            process.exit(0)

    return run


class _Terminal:
    """One log-in at a stand-in: echo, prompt, pager, and the fault if there is one."""

    def __init__(
        self, standin: Standin, process: asyncssh.SSHServerProcess[str], record: Record | None
    ) -> None:
        self.standin, self.process, self.record = standin, process, record
        self.language = LANGUAGES[standin.language]
        self._waiting = ""
        self.hands: Hands | None = None
        self.changes: Iterator[int] = count(1)
        self.cut_after: int | None = None
        self._dark = False

    @property
    def device(self) -> Device:
        """The device as it is now."""
        return self.standin.device if self.hands is None else self.hands.device

    async def run(self) -> None:
        if self.standin.fault == "hang-login":
            await asyncio.sleep(3600)
        self._write(self.language.BANNER + self.language.prompt(self.device))
        asked = 0
        while (line := await self._line()) is not None:
            words = line.split()
            if words:
                asked += 1
                if words in (["goodbye"], ["leave"], ["end"], ["bye"]):
                    return
                if asked >= 2 and await self._misbehaves():
                    return
                if not self._obey(words):
                    await self._print(words)
                elif self._dark:  # it starts anew, and every log-in ends
                    return
            self._write(self.language.prompt(self.device))

    def _obey(self, words: list[str]) -> bool:
        """Do what was typed, where it changes the device; tell whether it was such a line."""
        if self.hands is None:
            return False
        before = self.hands.device
        self.hands.cut = False
        probe = Hands(before, self.hands.server, lambda device, _: device)
        if obeyed(self.standin.language, probe, words) is None:
            return False
        number = next(self.changes)
        self.hands.cut = number == self.cut_after
        cut = self.hands.cut
        said = obeyed(self.standin.language, self.hands, words) or ""
        self._dark = cut or words in RELOADS
        self._write("" if cut else said)
        return True

    def _write(self, text: str) -> None:
        self.process.stdout.write(text.replace("\n", "\r\n"))

    async def _key(self) -> str:
        """One key as typed; empty where the line is closed."""
        if not self._waiting:
            self._waiting = await self.process.stdin.read(4096)
            if self.record is not None:
                self.record(self.device.device, self._waiting)
        key, self._waiting = self._waiting[:1], self._waiting[1:]
        return key

    async def _line(self) -> str | None:
        """One line as typed, echoed."""
        typed = ""
        while (key := await self._key()) not in ("\r", "\n"):
            if not key:
                return None
            typed += key
            self.process.stdout.write(key)
        self._write("\n")
        return typed

    async def _print(self, words: list[str]) -> None:
        """Print an answer a screenful at a time."""
        lines = 0
        for piece in self.language.answer(self.device, words, self.standin.digest_rate):
            if isinstance(piece, float):
                await asyncio.sleep(piece)
                continue
            for line in piece.splitlines(keepends=True):
                if lines and lines % self.language.PAGE == 0:
                    self.process.stdout.write(self.language.PAGER)
                    if await self._key() != " ":
                        self._write("\n")
                        return
                    gone = len(self.language.PAGER)
                    self.process.stdout.write("\b" * gone + " " * gone + "\b" * gone)
                self._write(line)
                lines += line.endswith("\n")
        await self.process.stdout.drain()

    async def _misbehaves(self) -> bool:
        """Do what the fault says in the middle of things; tell whether that was the end."""
        chance = random.Random(self.device.device)  # noqa: S311
        match self.standin.fault:
            case "drop":
                self._write("Half an ans")
                await self.process.stdout.drain()
                self.process.channel.get_connection().abort()
                return True
            case "hang":
                await asyncio.sleep(3600)
            case "garbage":
                letters = [chr(chance.randrange(33, 126)) for _ in range(4000)]
                self._write("\n".join("".join(letters[at : at + 79]) for at in range(0, 4000, 79)))
                self._write("\n")
            case "flood" | "escapes":
                line = (
                    "\x1b[31;1m\x1b[2J" * 90 if self.standin.fault == "escapes" else "noise " * 170
                )
                for _ in range(11_000):
                    self._write(f"{line}\n")
                    await self.process.stdout.drain()
        return False

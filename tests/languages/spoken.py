"""A device that answers lines, a session that is saved of it, and a door over SSH."""

import asyncio
import hashlib
import threading
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Protocol

import asyncssh


@dataclass(frozen=True)
class Held:
    """A file of a volume: its name, its size in bytes, and its modification time."""

    path: str
    size: int
    modified: str

    def digest(self, algorithm: str) -> str:
        return hashlib.new(algorithm, self.path.encode()).hexdigest()


class Speaker(Protocol):
    """A device: what it shows at the start, its prompt of the moment, and its answers."""

    banner: str
    prompt: str

    def answer(self, typed: str) -> str | None:
        """What it prints; None: it hangs up."""


def session(device: Speaker, typed: Iterable[str]) -> str:
    """What a person's terminal shows."""
    text = device.banner + device.prompt
    for line in typed:
        text += f"{line}\n"
        told = device.answer(line)
        if told is None:
            return text
        text += told + device.prompt
    return text


class _Server(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return True

    def password_auth_supported(self) -> bool:
        return True

    def validate_password(self, username: str, password: str) -> bool:
        return password == "a secret"


async def serve(make, port: int = 0) -> tuple[asyncssh.SSHAcceptor, list[str]]:
    """Answer over SSH on loopback; what was typed is kept."""
    typed: list[str] = []

    async def talk(process: asyncssh.SSHServerProcess[str]) -> None:
        device = make()
        process.stdout.write((device.banner + device.prompt).replace("\n", "\r\n"))
        async for line in process.stdin:
            if not line:
                break
            typed.append(line.strip())
            process.stdout.write(f"{line.strip()}\r\n")
            told = device.answer(line.strip())
            if told is None:
                break
            process.stdout.write((told + device.prompt).replace("\n", "\r\n"))
        process.exit(0)

    key = asyncssh.generate_private_key("ssh-ed25519")
    acceptor = await asyncssh.listen(
        "127.0.0.1",
        port,
        server_factory=_Server,
        server_host_keys=[key],
        process_factory=talk,
        line_editor=False,
    )
    return acceptor, typed


class Served:
    """A device that answers over SSH on a thread of its own; `typed` is what it was sent."""

    def __init__(self, make):
        self.ready, self.make = threading.Event(), make
        threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True).start()
        assert self.ready.wait(20)

    async def _serve(self):
        acceptor, self.typed = await serve(self.make)
        self.port = acceptor.get_port()
        self.ready.set()
        await asyncio.sleep(600)

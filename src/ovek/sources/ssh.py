"""SSH (RFC 4251 to 4254) by AsyncSSH: connecting, the terminal dialogue, programs, and SFTP."""

import asyncio
import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

import asyncssh
from msgspec import Struct

from ovek.model.fleet import FleetDevice
from ovek.model.pattern import compiled
from ovek.model.sheet import Question, Reading
from ovek.sources.clean import plain
from ovek.sources.interview import Ask
from ovek.sources.problem import NoAnswerError, ReadProblem
from ovek.sources.trust import HostKeys, Secrets

_MOST = 8 * 2**20  # characters of one answer
_TAIL = 1024


class Limits(Struct, frozen=True, kw_only=True):
    """Time limits in seconds; a digest may take its expected time three times over as well."""

    connect: float = 15.0
    login: float = 20.0
    answer: float = 60.0
    device: float = 3600.0


class _Client(asyncssh.SSHClient):
    """The client's side of trust: host keys by the site's file, no second factor."""

    def __init__(self, device: FleetDevice, keys: HostKeys, password: str | None) -> None:
        self.device, self.keys, self.secret = device, keys, password
        self.problem: ReadProblem | None = None
        self._asked = False

    def validate_host_public_key(
        self, host: str, addr: str, port: int, key: asyncssh.SSHKey
    ) -> bool:
        try:
            self.keys.check(host, port, key)
        except ReadProblem as problem:
            self.problem = problem
            return False
        return True

    def password_auth_requested(self) -> str | None:
        secret, self.secret = self.secret, None
        return secret

    def kbdint_auth_requested(self) -> str:
        return ""

    def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: object
    ) -> list[str] | None:
        asked = [text for text, _ in prompts]  # type: ignore[attr-defined]
        if not asked:
            return []
        if len(asked) == 1 and "password" in asked[0].lower() and self.secret is not None:
            secret, self.secret = self.secret, None
            return [secret]
        if not (len(asked) == 1 and "password" in asked[0].lower()):
            told = plain(" ".join(asked)).strip()[:60]
            self.problem = ReadProblem(
                "logging in",
                f"it asks for a second factor ({told!r})",
                "Read it with an account that needs none, or from a saved session",
            )
        return None


@asynccontextmanager
async def connected(
    device: FleetDevice, limits: Limits, keys: HostKeys, secrets: Secrets
) -> AsyncIterator[asyncssh.SSHClientConnection]:
    """A connection to a device, logged in. Raises ReadProblem."""
    assert device.host is not None
    client = _Client(device, keys, secrets.password(device.user, device.host))
    where = f"{device.host} port {device.port}"
    options: dict[str, Any] = {"username": device.user} if device.user is not None else {}
    if algorithms := keys.algorithms(device.host, device.port):
        options["server_host_key_algs"] = algorithms
    try:
        async with asyncio.timeout(limits.connect + limits.login):
            connection = await asyncssh.connect(
                device.host,
                device.port,
                known_hosts=b"",
                config=None,  # no command, forwarding or environment of the user's own settings
                client_factory=lambda: client,
                connect_timeout=limits.connect,
                login_timeout=limits.login,
                **options,
            )
    except TimeoutError:
        doing = f"connecting to {where}"
        raise ReadProblem(doing, "no answer in time", "See if it is up", passing=True) from None
    except OSError as error:
        met = os.strerror(error.errno).lower() if error.errno else str(error)
        do = "See if it is up and the address is right"
        raise ReadProblem(f"connecting to {where}", met, do, passing=True) from None
    except asyncssh.HostKeyNotVerifiable as error:
        if client.problem is not None:
            raise client.problem from None
        raise ReadProblem("checking the host key", str(error), "Mend known_hosts") from None
    except asyncssh.PermissionDenied:
        if client.problem is not None:
            raise client.problem from None
        met = f"it refuses {device.user or 'the user'}: neither key nor password was taken"
        do = "Check user and OVEK_PASSWORD, the keyring or the agent"
        raise ReadProblem("logging in", met, do) from None
    except (asyncssh.Error, ValueError) as error:
        do = "Try again; if it stays, log in by hand and see"
        raise ReadProblem(f"connecting to {where}", plain(str(error)), do, passing=True) from None
    try:
        yield connection
    except asyncssh.ConnectionLost:
        raise ReadProblem("reading", "it hung up", "Try again", passing=True) from None
    except (asyncssh.Error, OSError) as error:
        met = f"the connection broke: {plain(str(error)) or type(error).__name__}"
        raise ReadProblem("reading", met, "Try again", passing=True) from None
    finally:
        connection.abort()


@asynccontextmanager
async def terminal(
    connection: asyncssh.SSHClientConnection, reading: Reading, limits: Limits
) -> AsyncIterator[Ask]:
    """A terminal dialogue as the sheet tells it. Raises ReadProblem."""
    async with connection.create_process(
        term_type="vt100", term_size=(512, 0), encoding="utf-8", errors="replace"
    ) as process:
        dialogue = _Dialogue(process, reading)
        try:
            async with asyncio.timeout(limits.login):
                await dialogue.first_prompt()
        except TimeoutError:
            met = f"no prompt in {limits.login:g} s"
            do = "Check prompt in the sheet, and what the device shows after login"
            raise ReadProblem("waiting for the prompt", met, do, passing=True) from None

        async def ask(question: Question, asked: str, expected: float) -> str:
            limit = limits.answer + 3 * expected
            try:
                async with asyncio.timeout(limit):
                    return await dialogue.ask(asked)
            except TimeoutError:
                met = f"no answer to {asked!r} in {limit:g} s"
                raise ReadProblem("reading", met, "Try again", passing=True) from None

        yield ask
        if reading.leave is not None:
            process.stdin.write(f"{reading.leave}\n")


class _Dialogue:
    """Question and answer at a prompt, with the pager answered on the way."""

    def __init__(self, process: asyncssh.SSHClientProcess[str], reading: Reading) -> None:
        self.process = process
        self._any_prompt = compiled(rf"(?:^|\n)(?P<prompt>{reading.prompt})\z")
        self._prompt: str | None = None
        pager = reading.pager
        self._pager = compiled(rf"(?:{pager.shows})\s*\z") if pager is not None else None
        self._goes_on = pager.answer if pager is not None else ""

    async def first_prompt(self) -> None:
        await self._until_prompt()

    async def ask(self, asked: str) -> str:
        self.process.stdin.write(f"{asked}\n")
        return await self._until_prompt()

    async def _until_prompt(self) -> str:
        """Read up to the next prompt; return the raw text before it."""
        pieces: list[str] = []
        size, tail = 0, ""
        while True:
            piece = await self.process.stdout.read(2**16)
            if not piece:
                raise ReadProblem("reading", "it hung up", "Try again", passing=True)
            pieces.append(piece)
            size += len(piece)
            if size > _MOST:
                met = f"one answer is longer than {_MOST} characters"
                raise ReadProblem("reading", met, "Log in by hand and see what it prints")
            tail = (tail + piece)[-_TAIL:]
            shown = plain(tail)
            if self._prompt is None:
                if match := self._any_prompt.search(shown):
                    self._prompt = match["prompt"]
                    return "".join(pieces)
            elif shown.endswith(self._prompt) and shown[-len(self._prompt) - 1 :][:1] in (
                "\n",
                self._prompt[:1],
            ):
                text = "".join(pieces)
                at = text.rfind(self._prompt)
                return text[:at] if at >= 0 else text
            if self._pager is not None and self._pager.search(shown):
                tail = ""
                self.process.stdin.write(self._goes_on)


def programs(connection: asyncssh.SSHClientConnection, limits: Limits) -> Ask:
    """Ask by running a program a question over an exec channel."""

    async def ask(question: Question, asked: str, expected: float) -> str:
        limit = limits.answer + 3 * expected
        try:
            async with asyncio.timeout(limit):
                done = await connection.run(asked, encoding=None)
        except TimeoutError:
            met = f"no answer to {asked!r} in {limit:g} s"
            raise ReadProblem("reading", met, "Try again", passing=True) from None
        if done.exit_status != 0:
            told = plain(_bytes(done.stderr).decode("utf-8", "replace")).strip()[:80]
            raise NoAnswerError(f"{asked!r} ended with {done.exit_status} ({told})")
        output = _bytes(done.stdout)
        if len(output) > _MOST:
            raise ReadProblem("reading", "one answer is too long", "Run it by hand and see")
        return output.decode("latin-1" if question.parse is not None else "utf-8", "replace")

    return ask


def _bytes(output: bytes | str | None) -> bytes:
    return output.encode() if isinstance(output, str) else output or b""

"""SSH (RFC 4251 to 4254) by AsyncSSH: connecting, the terminal dialogue, programs, and SFTP."""

import asyncio
import getpass
import os
from collections.abc import AsyncIterator, Callable
from contextlib import AsyncExitStack, asynccontextmanager, nullcontext, suppress
from typing import Any

import asyncssh
from msgspec import Struct

from ovek.model.fleet import Login
from ovek.model.pattern import compiled
from ovek.model.sheet import Question, Reading
from ovek.sources.clean import plain, without_echo
from ovek.sources.device_session import Ask
from ovek.sources.flow import Flow
from ovek.sources.problem import NoAnswerError, ReadProblem
from ovek.sources.trust import HostKeys, Secrets

_MOST = 8 * 2**20  # characters of one answer
_TAIL = 1024
_SHOWN = 60  # characters of what came instead of a prompt
_AT_ONCE = 8  # log-ins to one jump host
# AES-GCM first, where the other side has it: it is the fastest here. Any other is still taken.
CIPHERS = "^aes256-gcm@openssh.com,aes128-gcm@openssh.com"
_GOODBYE = 1.0  # seconds for the other side to close a terminal


class Limits(Struct, frozen=True, kw_only=True):
    """Time limits in seconds; a digest may take its expected time three times over as well."""

    connect: float = 15.0
    login: float = 20.0
    answer: float = 60.0
    device: float = 3600.0


class _Client(asyncssh.SSHClient):
    """The client's side of trust: host keys by the site's file, no second factor."""

    def __init__(
        self,
        login: Login,
        keys: HostKeys,
        password: str | None,
        flow: Flow,
        logs_in: Callable[[], None],
    ) -> None:
        self.login, self.keys, self.secret = login, keys, password
        self.had_secret = password is not None
        self._flow, self._logs_in = flow, logs_in
        self.problem: ReadProblem | None = None
        self.offered: dict[str, None] = {}  # by which ways it lets anybody in
        self._asked = False

    def connection_made(self, conn: asyncssh.SSHClientConnection) -> None:
        self._flow.watch(conn)

    def validate_host_public_key(
        self, host: str, addr: str, port: int, key: asyncssh.SSHKey
    ) -> bool:
        try:
            self.keys.check(self.login.host, self.login.port, key)
        except ReadProblem as problem:
            self.problem = problem
            return False
        self._logs_in()
        return True

    def public_key_auth_requested(self) -> None:
        self.offered["a key"] = None

    def password_auth_requested(self) -> str | None:
        self.offered["a password"] = None
        secret, self.secret = self.secret, None
        return secret

    def kbdint_auth_requested(self) -> str:
        self.offered["a password at its own question"] = None
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
                f"the device asks for a second authentication factor ({told!r})",
                "Use an account without one, or read the device from a saved session",
            )
        return None


@asynccontextmanager
async def connected(
    login: Login,
    limits: Limits,
    keys: HostKeys,
    secrets: Secrets,
    gates: "Gates",
    logs_in: Callable[[], None] = lambda: None,
) -> AsyncIterator[asyncssh.SSHClientConnection]:
    """A connection to a device, logged in. Raises ReadProblem.

    Where it goes through other hosts, each is connected to and its key checked in its turn.
    `logs_in` is called as a log-in begins.
    """
    async with AsyncExitStack() as stack:
        through = None
        for hop in _hops(login):
            async with gates.of(hop) if hop is not login else nullcontext():
                where = f"{hop.host} port {hop.port}"
                if hop is not login:
                    where = f"the jump host {hop.name} ({where})"
                connection = await _connect(
                    hop, where, through, limits, keys, secrets, gates.flow, logs_in
                )
            # Nobody waits for the other side to agree that it is over.
            stack.callback(connection.abort)
            through = connection
        assert through is not None
        yield through


class Gates:
    """What all connections of one run share: how fast they are read, and whom they wait for.

    So many log in to one jump host at a time: servers drop those who come in a crowd.
    """

    def __init__(self) -> None:
        self.flow = Flow()
        self._known: dict[tuple[str, int], asyncio.Semaphore] = {}

    def of(self, login: Login) -> asyncio.Semaphore:
        """What a log-in has to wait for."""
        return self._known.setdefault((login.host, login.port), asyncio.Semaphore(_AT_ONCE))


def _hops(login: Login) -> list[Login]:
    """The log-ins on the way to a device, itself the last."""
    return [*(_hops(login.through) if login.through is not None else ()), login]


async def _connect(
    login: Login,
    where: str,
    through: asyncssh.SSHClientConnection | None,
    limits: Limits,
    keys: HostKeys,
    secrets: Secrets,
    flow: Flow,
    logs_in: Callable[[], None],
) -> asyncssh.SSHClientConnection:
    client = _Client(login, keys, secrets.password(login.user, login.host), flow, logs_in)
    options: dict[str, Any] = {"username": login.user} if login.user is not None else {}
    options |= await secrets.identity(login.key)
    if algorithms := keys.algorithms(login.host, login.port):
        options["server_host_key_algs"] = algorithms
    try:
        async with asyncio.timeout(limits.connect + limits.login):
            return await asyncssh.connect(
                login.host,
                login.port,
                known_hosts=b"",
                config=None,  # no command, forwarding or environment of the user's own settings
                client_factory=lambda: client,
                connect_timeout=limits.connect,
                login_timeout=limits.login,
                tunnel=through or (),
                encryption_algs=CIPHERS,
                **options,
            )
    except TimeoutError:
        doing = f"connecting to {where}"
        raise ReadProblem(
            doing, "no answer in time", "Check that the device is up", passing=True
        ) from None
    except OSError as error:
        met = os.strerror(error.errno).lower() if error.errno else str(error)
        do = "Check that the device is up and that host and port in fleet.toml are right"
        raise ReadProblem(f"connecting to {where}", met, do, passing=True) from None
    except asyncssh.HostKeyNotVerifiable as error:
        if client.problem is not None:
            raise client.problem from None
        raise ReadProblem("checking the host key", str(error), "Fix known_hosts") from None
    except asyncssh.PermissionDenied:
        if client.problem is not None:
            raise client.problem from None
        raise _refused(login, where, client) from None
    except (asyncssh.Error, ValueError) as error:
        do = "Try again; if it fails again, log in by hand"
        raise ReadProblem(f"connecting to {where}", plain(str(error)), do, passing=True) from None


def _refused(login: Login, where: str, client: _Client) -> ReadProblem:
    """That nobody is let in: who asked, by whose word, and by what the device lets anybody in."""
    source = "user in fleet.toml" if login.user is not None else "your user name on this machine"
    user = login.user if login.user is not None else getpass.getuser()
    problem = f"{where} rejected user {user!r} ({source})"
    if client.offered:
        problem += f"; it accepts {' or '.join(client.offered)}"
    asks_password = any("password" in each for each in client.offered)
    if asks_password and not client.had_secret:
        do = "No password was given: set OVEK_PASSWORD, or add --ask-password"
    else:
        do = "Check user and key in fleet.toml, OVEK_PASSWORD, the keyring or the agent"
    return ReadProblem("logging in", problem, do)


@asynccontextmanager
async def terminal(
    connection: asyncssh.SSHClientConnection, reading: Reading, limits: Limits
) -> AsyncIterator[Ask]:
    """A terminal dialogue as the sheet tells it. Raises ReadProblem."""
    process = await _process(
        connection, limits, term_type="vt100", term_size=(512, 0), encoding="utf-8"
    )
    dialogue = _Dialogue(process, reading)
    try:
        async with asyncio.timeout(limits.login):
            await dialogue.first_prompt()
    except TimeoutError:
        raise _no_prompt(dialogue.last, limits.login) from None

    async def ask(question: Question, asked: str, expected: float) -> str:
        limit = limits.answer + 3 * expected
        try:
            async with asyncio.timeout(limit):
                return await dialogue.ask(asked)
        except TimeoutError:
            text = f"no answer to {asked!r} within {limit:g} s"
            raise ReadProblem("reading", text, "Try again", passing=True) from None

    yield ask
    if reading.leave is not None:
        process.stdin.write(f"{reading.leave}\n")
    process.close()
    with suppress(TimeoutError):
        async with asyncio.timeout(_GOODBYE):
            await process.wait_closed()


def _no_prompt(last: str, limit: float) -> ReadProblem:
    """That no prompt of the sheet came, with the end of what came; it would come again."""
    problem = f"no prompt recognised within {limit:g} s"
    if not last:
        do = "Log in by hand and compare the prompt with the sheet"
        return ReadProblem("waiting for the prompt", f"{problem}, and no text", do, passing=True)
    do = "Change `prompt` in the sheet to match this text"
    return ReadProblem(
        "waiting for the prompt", f"{problem}; the last text received is {last!r}", do
    )


async def _process(
    connection: asyncssh.SSHClientConnection, limits: Limits, *command: str, **options: Any
) -> asyncssh.SSHClientProcess[Any]:
    """Start a terminal, or a program; the other side may let us wait for it."""
    if options.get("encoding"):
        options["errors"] = "replace"
    try:
        async with asyncio.timeout(limits.login):
            return await connection.create_process(*command, **options)
    except TimeoutError:
        text = f"no terminal and no program within {limits.login:g} s"
        raise ReadProblem("reading", text, "Try again", passing=True) from None


class _Dialogue:
    """Question and answer at a prompt, with the pager answered on the way."""

    def __init__(self, process: asyncssh.SSHClientProcess[str], reading: Reading) -> None:
        self.process = process
        self._any_prompt = compiled(rf"(?:^|\n)(?P<prompt>{reading.prompt})\z")
        self._prompt: str | None = None
        self.last = ""  # the end of what came
        pager = reading.pager
        self._pager = compiled(rf"(?:{pager.shows})\s*\z") if pager is not None else None
        self._menus = any(question.then for question in reading.question)
        self._goes_on = pager.answer if pager is not None else ""

    async def first_prompt(self) -> None:
        await self._until_prompt()

    async def ask(self, asked: str) -> str:
        """Type a line, or several one after another, and return all that comes."""
        told = ""
        for line in asked.split("\n"):
            self.process.stdin.write(f"{line}\n")
            text = await self._until_prompt()
            told += without_echo(text, line) if told or "\n" in asked else text
        return told

    async def _until_prompt(self) -> str:
        """Read up to the next prompt; return the raw text before it."""
        pieces: list[str] = []
        size, tail = 0, ""
        while True:
            piece = await self.process.stdout.read(2**16)
            if not piece:
                raise ReadProblem(
                    "reading", "the device closed the connection", "Try again", passing=True
                )
            pieces.append(piece)
            size += len(piece)
            if size > _MOST:
                met = f"one output is longer than {_MOST} characters"
                raise ReadProblem("reading", met, "Log in by hand and look at what it prints")
            tail = (tail + piece)[-_TAIL:]
            shown = plain(tail)
            self.last = shown.rstrip("\r\n").rpartition("\n")[2][-_SHOWN:]
            if self._prompt is None or self._menus:
                if match := self._any_prompt.search(shown):
                    first, self._prompt = self._prompt is None, match["prompt"]
                    text = "".join(pieces)
                    return text if first else _without_prompt(text, self._prompt)
            elif shown.endswith(self._prompt) and shown[-len(self._prompt) - 1 :][:1] in (
                "\n",
                self._prompt[:1],
            ):
                return _without_prompt("".join(pieces), self._prompt)
            if self._pager is not None and self._pager.search(shown):
                tail = ""
                self.process.stdin.write(self._goes_on)


def _without_prompt(text: str, prompt: str) -> str:
    """An answer without the prompt behind it, which may be drawn in colour."""
    at = text.rfind(prompt)
    if at < 0 or "\n" in text[at:]:
        at = text.rfind("\n") + 1
    return text[:at]


def programs(connection: asyncssh.SSHClientConnection, limits: Limits) -> Ask:
    """Ask by running a program a question over an exec channel."""

    async def ask(question: Question, asked: str, expected: float) -> str:
        limit = limits.answer + 3 * expected
        try:
            status, output, told = await ran(connection, asked, limits, limit)
        except TimeoutError:
            text = f"no answer to {asked!r} within {limit:g} s"
            raise ReadProblem("reading", text, "Try again", passing=True) from None
        except asyncssh.ChannelOpenError as error:
            told = plain(str(error)) or "the server refuses it"
            raise NoAnswerError(f"{asked!r} may not be run ({told})") from None
        if status != 0:
            raise NoAnswerError(f"{asked!r} ended with {status} ({told})")
        return output.decode("latin-1" if question.parse is not None else "utf-8", "replace")

    return ask


async def ran(
    connection: asyncssh.SSHClientConnection, command: str, limits: Limits, limit: float
) -> tuple[int | None, bytes, str]:
    """Run a program within `limit` seconds: its exit status, output, and what it complained of.

    Output is bounded while it comes. Raises ReadProblem, TimeoutError.
    """
    process = await _process(connection, limits, command, encoding=None)
    process.stdin.write_eof()  # what waits for more, as a forced SFTP server does, ends
    try:
        async with asyncio.timeout(limit):
            output, told = await asyncio.gather(_output(process), _complaint(process))
            await process.wait_closed()
    finally:
        process.close()
    return process.exit_status, output, plain(told.decode("utf-8", "replace")).strip()[:80]


async def _output(process: asyncssh.SSHClientProcess[bytes]) -> bytes:
    output = bytearray()
    while piece := await process.stdout.read(2**16):
        output += piece
        if len(output) > _MOST:
            text = f"one output is longer than {_MOST} bytes"
            raise ReadProblem("reading", text, "Run it by hand and look at the output")
    return bytes(output)


async def _complaint(process: asyncssh.SSHClientProcess[bytes]) -> bytes:
    """The start of what a program writes to its standard error; the rest is let go by."""
    told = b""
    while piece := await process.stderr.read(2**16):
        told = told or piece[:_TAIL]
    return told

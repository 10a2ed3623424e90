"""By NETCONF over SSH (RFC 6241, 6242): whether settings are saved, and RFC 8348's hardware.

Only `<get>` and `<get-config>` are asked. Of the settings nothing is kept but whether the saved
ones are the running ones: they hold secrets.
"""

import asyncio
import hashlib
from collections.abc import AsyncIterator, Iterable, Iterator
from contextlib import AsyncExitStack

import asyncssh
from msgspec.structs import replace

from ovek.sources.away import TURN, StopSignal, away
from ovek.sources.clean import plain
from ovek.sources.entities import EntityComponent, told_of
from ovek.sources.problem import ReadProblem
from ovek.sources.ssh import connected
from ovek.sources.ways.interface import Door
from ovek.sources.xml import Hears, Message, TooDeepError, XmlError

_BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
_BASE_11 = "urn:ietf:params:netconf:base:1.1"
_STARTUP = "urn:ietf:params:netconf:capability:startup:1.0"
_HARDWARE = "urn:ietf:params:xml:ns:yang:ietf-hardware"
_END = b"]]>]]>"  # what ends a message of 1.0 (RFC 6242, 4.3)
_MOST = 16 * 2**20  # bytes of one message
_MOST_GREETING = 2**20
_PIECE = 2**16  # bytes that are read at once
_SHORT = 2**12  # bytes of a message that are read where all devices wait for it
_BODY = 2  # the depth of what a reply says
_MOST_COMPONENTS = 20_000
_LONGEST = 1_024  # characters of a fact
_FACTS = {
    "name", "class", "parent", "parent-rel-pos", "model-name", "serial-num", "hardware-rev",
    "firmware-rev", "software-rev",
}  # fmt: skip


async def read(door: Door) -> None:
    """Take in what the server tells. Raises ReadProblem."""
    async with AsyncExitStack() as stack:
        connection = await _connection(door, stack)
        session = await _Session.begin(connection, door.setup.limits.answer)
        try:
            if _STARTUP in session.capabilities:
                await _compare(door, session)
            await _hardware(door, session)
        finally:
            await session.end()


async def _connection(door: Door, stack: AsyncExitStack) -> asyncssh.SSHClientConnection:
    """The connection of the other ways, where NETCONF is at the same port, else one of its own."""
    login = door.login()
    if login.port == door.device.netconf:
        return await door.connection()
    setup = door.setup
    there = replace(login, port=door.device.netconf)
    return await stack.enter_async_context(
        connected(
            there, setup.limits, setup.keys, setup.secrets, setup.gates, door.interview.seat.logs_in
        )
    )


async def _compare(door: Door, session: "_Session") -> None:
    """Tell whether the saved settings are the running ones."""
    problems, digests = door.interview.draft.problems, list[bytes]()
    for source in ("running", "startup"):
        settings = _Settings()
        try:
            answered = await session.ask(
                f"<get-config><source><{source}/></source></get-config>", settings
            )
        except _TooMuch as problem:
            problems.append(f"netconf: unknown whether the configuration is saved: {problem.met}")
            return
        if not answered or not settings.there:
            problems.append(f"netconf: the device does not report the {source} settings")
            return
        digests.append(settings.digest)
    row = {"config.unsaved_changes": digests[0] != digests[1]}
    door.interview.adds("netconf", "device", [row])


class _Settings:
    """The settings of a reply, as a digest of what they say: blanks and prefixes are no part."""

    def __init__(self) -> None:
        self.there = False
        self._sum = hashlib.sha256()

    @property
    def digest(self) -> bytes:
        """What tells them from others."""
        return self._sum.digest()

    def begins(self, depth: int, tag: str, attributes: dict[str, str]) -> None:
        if depth == _BODY and tag == f"{_BASE}}}data":
            self.there = True
        elif depth > _BODY:
            self._add("<", tag, *(each for pair in sorted(attributes.items()) for each in pair))

    def says(self, depth: int, text: str) -> None:
        self._add("=", text)

    def ends(self, depth: int, tag: str) -> None:
        self._add(">")

    def _add(self, *parts: str) -> None:
        # No XML holds a character of number 0: two different settings are never written alike.
        self._sum.update("\0".join((*parts, "\0")).encode("utf-8", "surrogatepass"))


async def _hardware(door: Door, session: "_Session") -> None:
    """Take in the components, where the server knows the module."""
    asked = f'<get><filter type="subtree"><hardware xmlns="{_HARDWARE}"/></filter></get>'
    hardware = _Hardware()
    if not await session.ask(asked, hardware):
        door.interview.draft.problems.append(
            "netconf: the device does not report its hardware (RFC 8348)"
        )
        return
    for fills, row in told_of(list(_components(hardware.components))):
        door.interview.adds("netconf", fills, [row])


class _Hardware:
    """The components of a reply, each with what stands right in it."""

    def __init__(self) -> None:
        self.components: list[dict[str, str]] = []
        self._at = 0  # the depth of the component that is read
        self._leaf = ""

    def begins(self, depth: int, tag: str, attributes: dict[str, str]) -> None:
        if not self._at and tag == f"{_HARDWARE}}}component":
            if len(self.components) < _MOST_COMPONENTS:
                self.components.append({})
                self._at = depth
        elif self._at and depth == self._at + 1:
            self._leaf = tag.rpartition("}")[2]

    def says(self, depth: int, text: str) -> None:
        if self._at and depth == self._at + 1 and self._leaf in _FACTS:
            self.components[-1].setdefault(self._leaf, plain(text[:_LONGEST]).strip())

    def ends(self, depth: int, tag: str) -> None:
        if depth == self._at:
            self._at = 0


def _components(told: Iterable[dict[str, str]]) -> Iterator[EntityComponent]:
    for one in told:
        name, position = one.get("name"), one.get("parent-rel-pos") or ""
        if not name:
            continue
        yield EntityComponent(
            id=name,
            kind=(one.get("class") or "").rpartition(":")[2],
            name=name,
            inside=one.get("parent") or None,
            position=int(position) if position.isascii() and position.isdigit() else None,
            model=one.get("model-name") or None,
            serial=one.get("serial-num") or None,
            hardware=one.get("hardware-rev") or None,
            firmware=one.get("firmware-rev") or None,
            software=one.get("software-rev") or None,
        )


class _Hello:
    """What a server can do."""

    def __init__(self) -> None:
        self.capabilities: set[str] = set()
        self._tag = ""

    def begins(self, depth: int, tag: str, attributes: dict[str, str]) -> None:
        self._tag = tag

    def says(self, depth: int, text: str) -> None:
        if self._tag == f"{_BASE}}}capability":
            self.capabilities.add(text)

    def ends(self, depth: int, tag: str) -> None:
        self._tag = ""


class _Reply:
    """A reply: what it answers, whether it refuses, and whoever listens to the rest."""

    def __init__(self, number: str, hears: Hears) -> None:
        self._number, self._hears = number, hears
        self.ours = self.refused = False

    def begins(self, depth: int, tag: str, attributes: dict[str, str]) -> None:
        if depth == 1:
            self.ours = attributes.get("message-id") == self._number
        elif depth == _BODY and tag == f"{_BASE}}}rpc-error":
            self.refused = True
        if self.ours:
            self._hears.begins(depth, tag, attributes)

    def says(self, depth: int, text: str) -> None:
        if self.ours:
            self._hears.says(depth, text)

    def ends(self, depth: int, tag: str) -> None:
        if self.ours:
            self._hears.ends(depth, tag)


class _TooMuch(ReadProblem):
    """A message that is not read to its end, since it holds too much."""


class _Session:
    """One session: messages out and in, framed as both sides agreed."""

    def __init__(self, process: asyncssh.SSHClientProcess[bytes], limit: float) -> None:
        self._process, self._limit = process, limit
        self._number, self._chunked = 0, False
        self._left = b""
        self.capabilities: frozenset[str] = frozenset()

    @classmethod
    async def begin(cls, connection: asyncssh.SSHClientConnection, limit: float) -> "_Session":
        """Open a session and greet (RFC 6241, 8.1). Raises ReadProblem."""
        try:
            async with asyncio.timeout(limit):
                process = await connection.create_process(subsystem="netconf", encoding=None)
                session = cls(process, limit)
                await session._greet()
                return session
        except TimeoutError:
            text = f"no greeting within {limit:g} s"
            raise ReadProblem("reading by NETCONF", text, "Try again", passing=True) from None
        except asyncssh.ChannelOpenError as error:
            text = f"the device offers no NETCONF ({plain(str(error))})"
            do = "Enable it there, or remove netconf from `access`"
            raise ReadProblem("reading by NETCONF", text, do) from None

    async def _greet(self) -> None:
        greeting = f'<hello xmlns="{_BASE}"><capabilities>' + "".join(
            f"<capability>{each}</capability>"
            for each in ("urn:ietf:params:netconf:base:1.0", _BASE_11)
        )
        self._process.stdin.write(f"{greeting}</capabilities></hello>".encode() + _END)
        hello = _Hello()
        await self._read(hello, _MOST_GREETING)
        self.capabilities = frozenset(hello.capabilities)
        self._chunked = _BASE_11 in self.capabilities

    async def ask(self, operation: str, hears: Hears) -> bool:
        """Have somebody listen to the reply to one operation; False where the server refuses it.

        Raises ReadProblem.
        """
        self._number += 1
        rpc = f'<rpc xmlns="{_BASE}" message-id="{self._number}">{operation}</rpc>'
        self._send(rpc.encode())
        try:
            async with asyncio.timeout(self._limit):
                while True:
                    reply = _Reply(str(self._number), hears)
                    await self._read(reply, _MOST)
                    if reply.ours:
                        return not reply.refused
        except TimeoutError:
            text = f"no reply within {self._limit:g} s"
            raise ReadProblem("reading by NETCONF", text, "Try again", passing=True) from None

    def _send(self, message: bytes) -> None:
        if self._chunked:
            message = b"\n#%d\n%s\n##\n" % (len(message), message)
        else:
            message += _END
        self._process.stdin.write(message)

    async def _read(self, hears: Hears, most: int) -> None:
        """Have somebody listen to one message of so many bytes at most, to its end."""
        message, held, size = Message(hears), bytearray(), 0
        failed: XmlError | None = None
        async for piece in self._chunks() if self._chunked else self._up_to_end():
            size += len(piece)
            if size > most:
                text = f"one message is longer than {most} bytes"
                raise ReadProblem("reading by NETCONF", text, "Check what this server is")
            if failed is None:  # else only what comes behind the message is waited for
                held += piece
                if len(held) >= _PIECE:
                    failed = await _fed(message, held)
        failed = failed or await _fed(message, held, last=True)
        if failed is not None:
            kind = _TooMuch if isinstance(failed, TooDeepError) else ReadProblem
            text = f"its reply is not a valid NETCONF message ({plain(str(failed))[:80]})"
            raise kind("reading by NETCONF", text, "Check what this server is") from None

    async def _more(self) -> None:
        piece = await self._process.stdout.read(_PIECE)
        if not piece:
            raise ReadProblem(
                "reading by NETCONF", "the device closed the connection", "Try again", passing=True
            )
        self._left += piece

    async def _up_to_end(self) -> AsyncIterator[bytes]:
        """The pieces of a message up to its end mark."""
        while (found := self._left.find(_END)) < 0:
            whole = max(0, len(self._left) - len(_END) + 1)  # the rest may be half a mark
            piece, self._left = self._left[:whole], self._left[whole:]
            if piece:
                yield piece
            await self._more()
        piece, self._left = self._left[:found], self._left[found + len(_END) :]
        if piece:
            yield piece

    async def _chunks(self) -> AsyncIterator[bytes]:
        """The pieces of a message in chunks (RFC 6242, 4.2)."""
        while True:
            header = await self._header()
            if header == b"#":
                return
            if not header.isdigit() or len(header) > 10 or not int(header):
                text = "what it sends is not a chunk of RFC 6242"
                raise ReadProblem("reading by NETCONF", text, "Check what this server is")
            size = int(header)
            while size:
                if not self._left:
                    await self._more()
                piece, self._left = self._left[:size], self._left[size:]
                size -= len(piece)
                yield piece

    async def _header(self) -> bytes:
        """What stands between `\\n#` and the next line feed."""
        while b"\n" not in self._left[2:16] and len(self._left) < 16:
            await self._more()
        head, feed, rest = self._left[2:].partition(b"\n")
        if not self._left.startswith(b"\n#") or not feed or len(head) > 12:
            text = "what it sends is not a chunk of RFC 6242"
            raise ReadProblem("reading by NETCONF", text, "Check what this server is")
        self._left = rest
        return head

    async def end(self) -> None:
        """Say that it is over; nobody waits for the answer."""
        self._number += 1
        goodbye = f'<rpc xmlns="{_BASE}" message-id="{self._number}"><close-session/></rpc>'
        self._send(goodbye.encode())
        self._process.close()


async def _fed(message: Message, held: bytearray, *, last: bool = False) -> XmlError | None:
    """Read on in a message, a long piece of it in a thread of its own; what was wrong with it."""
    piece = bytes(held)
    held.clear()

    def feed(stop: StopSignal) -> None:
        with TURN:
            message.feed(piece)

    try:
        if len(piece) > _SHORT:
            await away(feed)
        else:
            message.feed(piece)
        if last:
            message.close()
    except XmlError as error:
        return error
    return None

"""By NETCONF over SSH (RFC 6241, 6242): whether settings are saved, and RFC 8348's hardware.

Only `<get>` and `<get-config>` are asked. Of the settings nothing is kept but whether the saved
ones are the running ones: they hold secrets.
"""

import asyncio
from collections.abc import Iterator
from contextlib import AsyncExitStack
from functools import partial
from typing import Any
from xml.etree.ElementTree import Element, canonicalize, tostring

import asyncssh
from defusedxml import ElementTree as Xml
from defusedxml.common import DefusedXmlException
from msgspec.structs import replace

from ovek.sources.away import Stop, away
from ovek.sources.clean import plain
from ovek.sources.entities import Component, told_of
from ovek.sources.problem import ReadProblem
from ovek.sources.ssh import connected
from ovek.sources.ways.interface import Door

_BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
_BASE_11 = "urn:ietf:params:netconf:base:1.1"
_STARTUP = "urn:ietf:params:netconf:capability:startup:1.0"
_HARDWARE = "urn:ietf:params:xml:ns:yang:ietf-hardware"
_END = b"]]>]]>"  # what ends a message of 1.0 (RFC 6242, 4.3)
_MOST = 16 * 2**20  # bytes of one message
_SHORT = 2**17  # bytes of a message that is read where all devices wait for it
_MOST_COMPONENTS = 20_000


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
        connected(there, setup.limits, setup.keys, setup.secrets, setup.gates)
    )


async def _compare(door: Door, session: "_Session") -> None:
    """Tell whether the saved settings are the running ones."""
    told = []
    for source in ("running", "startup"):
        asked = f"<get-config><source><{source}/></source></get-config>"
        answer = await session.ask(asked)
        data = answer.find(f"{{{_BASE}}}data") if answer is not None else None
        if data is None:
            door.interview.draft.problems.append(f"netconf: it does not tell the {source} settings")
            return
        told.append(await away(partial(_canonical, data)))
    if None in told:
        door.interview.draft.problems.append("netconf: its settings are nested too deeply to read")
        return
    row = {"config.unsaved_changes": told[0] != told[1]}
    door.interview.adds("netconf", "device", [row])


def _canonical(data: Element, stop: Stop) -> str | None:
    """Settings as Canonical XML, blanks around texts left out; None where nobody can read them."""
    try:
        return canonicalize(tostring(data), strip_text=True)
    except RecursionError:
        return None


async def _hardware(door: Door, session: "_Session") -> None:
    """Take in the components, where the server knows the module."""
    asked = f'<get><filter type="subtree"><hardware xmlns="{_HARDWARE}"/></filter></get>'
    answer = await session.ask(asked)
    if answer is None:
        door.interview.draft.problems.append("netconf: it does not tell its hardware (RFC 8348)")
        return
    for fills, row in told_of(list(_components(answer))):
        door.interview.adds("netconf", fills, [row])


def _components(answer: Element) -> Iterator[Component]:
    for number, one in enumerate(answer.iter(f"{{{_HARDWARE}}}component")):
        if number >= _MOST_COMPONENTS:
            return
        told = {
            child.tag.rpartition("}")[2]: plain(child.text or "").strip() or None for child in one
        }
        name, position = told.get("name"), told.get("parent-rel-pos") or ""
        if name is None:
            continue
        yield Component(
            id=name,
            kind=(told.get("class") or "").rpartition(":")[2],
            name=name,
            inside=told.get("parent"),
            position=int(position) if position.isascii() and position.isdigit() else None,
            model=told.get("model-name"),
            serial=told.get("serial-num"),
            hardware=told.get("hardware-rev"),
            firmware=told.get("firmware-rev"),
            software=told.get("software-rev"),
        )


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
            met = f"no greeting in {limit:g} s"
            raise ReadProblem("reading by NETCONF", met, "Try again", passing=True) from None
        except asyncssh.ChannelOpenError as error:
            met = f"it offers no NETCONF ({plain(str(error))})"
            do = "Turn it on there, or take netconf out of ways"
            raise ReadProblem("reading by NETCONF", met, do) from None

    async def _greet(self) -> None:
        greeting = f'<hello xmlns="{_BASE}"><capabilities>' + "".join(
            f"<capability>{each}</capability>"
            for each in ("urn:ietf:params:netconf:base:1.0", _BASE_11)
        )
        self._process.stdin.write(f"{greeting}</capabilities></hello>".encode() + _END)
        hello = _parsed(await self._message())
        named = hello.iter(f"{{{_BASE}}}capability")
        self.capabilities = frozenset((one.text or "").strip() for one in named)
        self._chunked = _BASE_11 in self.capabilities

    async def ask(self, operation: str) -> Any:
        """The reply to one operation; None where the server refuses it. Raises ReadProblem."""
        self._number += 1
        rpc = f'<rpc xmlns="{_BASE}" message-id="{self._number}">{operation}</rpc>'
        self._send(rpc.encode())
        try:
            async with asyncio.timeout(self._limit):
                while True:
                    message = await self._message()
                    reply = (
                        await away(partial(_read, message))
                        if len(message) > _SHORT
                        else (_parsed(message))
                    )
                    if reply.get("message-id") == str(self._number):
                        break
        except TimeoutError:
            met = f"no reply in {self._limit:g} s"
            raise ReadProblem("reading by NETCONF", met, "Try again", passing=True) from None
        if reply.find(f"{{{_BASE}}}rpc-error") is not None:
            return None
        return reply

    def _send(self, message: bytes) -> None:
        if self._chunked:
            message = b"\n#%d\n%s\n##\n" % (len(message), message)
        else:
            message += _END
        self._process.stdin.write(message)

    async def _message(self) -> bytes:
        return await (self._chunks() if self._chunked else self._up_to_end())

    async def _more(self) -> None:
        piece = await self._process.stdout.read(2**16)
        if not piece:
            raise ReadProblem("reading by NETCONF", "it hung up", "Try again", passing=True)
        self._left += piece

    async def _up_to_end(self) -> bytes:
        at = 0
        while (found := self._left.find(_END, at)) < 0:
            if len(self._left) > _MOST:
                raise _too_long()
            at = max(0, len(self._left) - len(_END))
            await self._more()
        message, self._left = self._left[:found], self._left[found + len(_END) :]
        return message

    async def _chunks(self) -> bytes:
        """A message in chunks (RFC 6242, 4.2)."""
        message = bytearray()
        while True:
            header = await self._header()
            if header == b"#":
                return bytes(message)
            if not header.isdigit() or len(header) > 10 or not int(header):
                met = "what it sends is no chunk of RFC 6242"
                raise ReadProblem("reading by NETCONF", met, "See what its server is")
            size = int(header)
            if len(message) + size > _MOST:
                raise _too_long()
            while len(self._left) < size:
                await self._more()
            message += self._left[:size]
            self._left = self._left[size:]

    async def _header(self) -> bytes:
        """What stands between `\\n#` and the next line feed."""
        while b"\n" not in self._left[2:16] and len(self._left) < 16:
            await self._more()
        head, feed, rest = self._left[2:].partition(b"\n")
        if not self._left.startswith(b"\n#") or not feed or len(head) > 12:
            met = "what it sends is no chunk of RFC 6242"
            raise ReadProblem("reading by NETCONF", met, "See what its server is")
        self._left = rest
        return head

    async def end(self) -> None:
        """Say that it is over; nobody waits for the answer."""
        self._number += 1
        goodbye = f'<rpc xmlns="{_BASE}" message-id="{self._number}"><close-session/></rpc>'
        self._send(goodbye.encode())
        self._process.close()


def _too_long() -> ReadProblem:
    met = f"one message is longer than {_MOST} bytes"
    return ReadProblem("reading by NETCONF", met, "See what its server is")


def _read(message: bytes, stop: Stop) -> Any:
    return _parsed(message)


def _parsed(message: bytes) -> Any:
    """A message as a tree; entities are never expanded. Raises ReadProblem."""
    try:
        return Xml.fromstring(message.strip())
    except (Xml.ParseError, DefusedXmlException, ValueError, LookupError) as error:
        met = f"what it sends is no message ({plain(str(error))[:80]})"
        raise ReadProblem("reading by NETCONF", met, "See what its server is") from None

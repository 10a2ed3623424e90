"""SNMP agents and NETCONF servers on loopback, each hostile in one way, in a process of their own.

So what they send costs them the processor, and not whoever reads them.
"""

import asyncio
import itertools
import multiprocessing
import os
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import asyncssh

LOOPBACK = "127.0.0.1"
BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"

# SNMP (RFC 3416), as bytes -----------------------------------------------------------------------


def tlv(tag: int, data: bytes) -> bytes:
    """One value in BER."""
    size = len(data)
    if size < 128:
        return bytes([tag, size]) + data
    length = size.to_bytes((size.bit_length() + 7) // 8, "big")
    return bytes([tag, 0x80 | len(length)]) + length + data


def oid(text: str) -> bytes:
    """The name of an object."""
    first, second, *rest = map(int, text.split("."))
    found = bytearray([40 * first + second])
    for number in rest:
        septets = [number & 0x7F]
        while number := number >> 7:
            septets.append(0x80 | number & 0x7F)
        found += bytes(reversed(septets))
    return tlv(6, bytes(found))


def asked(datagram: bytes) -> tuple[bytes, bytes, int, str]:
    """The community, the id, the kind and the object of a request, as this program asks."""

    def inside(data: bytes) -> list[tuple[int, bytes]]:
        found, at = [], 0
        while at < len(data):
            tag, size, at = data[at], data[at + 1], at + 2
            if size & 0x80:
                many = size & 0x7F
                size, at = int.from_bytes(data[at : at + many], "big"), at + many
            found.append((tag, data[at : at + size]))
            at += size
        return found

    (_, whole), *_ = inside(datagram)
    _, (_, community), (kind, pdu) = inside(whole)
    (_, number), _, _, (_, binds) = inside(pdu)
    (_, bind), *_ = inside(binds)
    (_, name), _ = inside(bind)
    numbers, value = [name[0] // 40, name[0] % 40], 0
    for octet in name[1:]:
        value = value << 7 | octet & 0x7F
        if not octet & 0x80:
            numbers.append(value)
            value = 0
    return community, number, kind, ".".join(map(str, numbers))


def reply(community: bytes, number: bytes, binds: list[bytes]) -> bytes:
    """An answer that holds these values."""
    pdu = tlv(2, number) + tlv(2, b"\0") + tlv(2, b"\0") + tlv(0x30, b"".join(binds))
    return tlv(0x30, tlv(2, b"\1") + tlv(4, community) + tlv(0xA2, pdu))


def bind(name: str, value: bytes) -> bytes:
    """One value with its name."""
    return tlv(0x30, oid(name) + value)


ENTITY = "1.3.6.1.2.1.47.1.1.1.1"
END = b"\x82\0"  # endOfMibView
Agent = Callable[[socket.socket, bytes, Any], None]


def _honest(door: socket.socket, datagram: bytes, source: Any) -> None:
    """One chassis, of one model."""
    community, number, kind, name = asked(datagram)
    rows = [(f"{ENTITY}.5.1", tlv(2, b"\3")), (f"{ENTITY}.13.1", tlv(4, b"HX-1"))]
    if kind == 0xA5:  # GetBulk
        key = tuple(map(int, name.split(".")))
        after = [row for row in rows if tuple(map(int, row[0].split("."))) > key]
        binds = [bind(*row) for row in after] or [bind(name, END)]
    else:
        binds = [bind(name, b"\x81\0")]
    door.sendto(reply(community, number, binds), source)


def _many(count: int, *, right: bool, times: int = 1) -> Agent:
    """So many values at once, for the request that was made or another."""

    def answers(door: socket.socket, datagram: bytes, source: Any) -> None:
        community, number, _, _ = asked(datagram)
        shown = number if right else b"\x7f\xff\xff\xfe"
        binds = [bind(f"{ENTITY}.7.{at}", tlv(4, b"x")) for at in range(1, count + 1)]
        for _ in range(times):
            with suppress(OSError):
                door.sendto(reply(community, shown, binds), source)

    return answers


def _floods(door: socket.socket, datagram: bytes, source: Any) -> None:
    noise = os.urandom(1400)
    for _ in range(20_000):
        with suppress(OSError):
            door.sendto(noise, source)


def _circle(door: socket.socket, datagram: bytes, source: Any) -> None:
    community, number, _, _ = asked(datagram)
    door.sendto(reply(community, number, [bind(f"{ENTITY}.7.1", tlv(4, b"x"))]), source)


_COUNT = itertools.count(1)


def _for_ever(door: socket.socket, datagram: bytes, source: Any) -> None:
    community, number, _, _ = asked(datagram)
    binds = [bind(f"{ENTITY}.7.{next(_COUNT)}", tlv(4, b"x" * 200)) for _ in range(20)]
    door.sendto(reply(community, number, binds), source)


def _deep(door: socket.socket, datagram: bytes, source: Any) -> None:
    data = b""
    for _ in range(2_000):
        data = tlv(0x30, data)
    door.sendto(data, source)


def _elsewhere(door: socket.socket, datagram: bytes, source: Any) -> None:
    """From another port than it was asked at."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
        other.bind((LOOPBACK, 0))
        _honest(other, datagram, source)


def _says(data: bytes) -> Agent:
    return lambda door, datagram, source: door.sendto(data, source) and None


AGENTS: dict[str, Agent] = {
    "floods with noise": _floods,
    "answers with 4,000 values": _many(4_000, right=True),
    "answers with 300 values": _many(300, right=True),
    "answers what nobody asked, 500 times": _many(300, right=False, times=500),
    "goes round in a circle": _circle,
    "has a table without end": _for_ever,
    "nests its answer": _deep,
    "answers from elsewhere": _elsewhere,
    "tells of 4 GiB": _says(b"\x30\x84\xff\xff\xff\xff\x02\x01\x01"),
    "says nothing": lambda door, datagram, source: None,
    "says an empty datagram": _says(b""),
}


def _agent(name: str, tell: Callable[[int], None]) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as door:
        door.bind((LOOPBACK, 0))
        tell(door.getsockname()[1])
        while True:
            datagram, source = door.recvfrom(2**16)
            with suppress(OSError, ValueError, IndexError):
                (AGENTS | {"honest": _honest})[name](door, datagram, source)


# NETCONF (RFC 6242) ------------------------------------------------------------------------------

_HELLO = (
    f'<hello xmlns="{BASE}"><capabilities><capability>urn:ietf:params:netconf:base:1.0'
    "</capability><capability>urn:ietf:params:netconf:base:1.1</capability>"
    "<capability>urn:ietf:params:netconf:capability:startup:1.0</capability>"
    "</capabilities></hello>]]>]]>"
).encode()


def _chunk(data: bytes) -> bytes:
    return b"\n#%d\n%s" % (len(data), data)


def _replies(body: bytes, number: int = 1) -> bytes:
    return f'<rpc-reply xmlns="{BASE}" message-id="{number}">'.encode() + body + b"</rpc-reply>"


def _small_elements() -> Iterator[bytes]:
    yield _HELLO
    yield _chunk(f'<rpc-reply xmlns="{BASE}" message-id="1"><data>'.encode())
    for _ in range(15 * 16):
        yield _chunk(b"<a/>" * 2**14)
    yield _chunk(b"</data></rpc-reply>") + b"\n##\n"


def _without_end() -> Iterator[bytes]:
    yield _HELLO
    while True:
        yield _chunk(b" " * 2**16)


def _one_by_one() -> Iterator[bytes]:
    yield _HELLO
    while True:
        yield _chunk(b" ") * 2**12


def _long_greeting() -> Iterator[bytes]:
    yield f'<hello xmlns="{BASE}"><capabilities>'.encode()
    while True:
        yield b"<capability>x</capability>" * 2**10


def _never_ours() -> Iterator[bytes]:
    yield _HELLO
    while True:
        yield (_chunk(_replies(b"<ok/>", 77)) + b"\n##\n") * 100


def _once(*pieces: bytes) -> Callable[[], Iterator[bytes]]:
    return lambda: iter(pieces)


SERVERS: dict[str, Callable[[], Iterator[bytes]]] = {
    "has 4 million elements": _small_elements,
    "sends a message without end": _without_end,
    "sends chunks of one byte": _one_by_one,
    "greets without end": _long_greeting,
    "answers another request for ever": _never_ours,
    "nests a million elements": _once(_HELLO, _chunk(b"<a>" * 10**6) + b"\n##\n"),
    "tells of a chunk of 4 GiB": _once(_HELLO, b"\n#4294967295\nx"),
    "tells of a chunk that is none": _once(_HELLO, b"\n#-1\n"),
    "has a document type": _once(
        _HELLO, _chunk(b'<!DOCTYPE a [<!ENTITY b "c">]>' + _replies(b"&b;")) + b"\n##\n"
    ),
    "has a name of a megabyte": _once(_HELLO, _chunk(b"<" + b"a" * 2**20 + b"/>") + b"\n##\n"),
    "stops in its greeting": _once(_HELLO[:40]),
    "says what is no XML": _once(_HELLO, _chunk(b"\0\xff") + b"\n##\n"),
}


async def _serve(key: Any, tell: Callable[[dict[str, int]], None]) -> None:
    class Open(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return False

    def talking(name: str) -> Any:
        async def talk(process: Any) -> None:
            with suppress(asyncssh.Error, ConnectionError):
                for piece in SERVERS[name]():
                    process.stdout.write(piece)
                    await process.stdout.drain()
                await asyncio.sleep(3600)

        return talk

    ports = {}
    for name in SERVERS:
        acceptor = await asyncssh.listen(
            LOOPBACK, 0, server_factory=Open, server_host_keys=[key], encoding=None,
            process_factory=talking(name),
        )  # fmt: skip
        ports[name] = acceptor.get_port()
    tell(ports)
    await asyncio.sleep(3600)


def _all(pipe: Any, key: bytes) -> None:
    ports: dict[str, int] = {}
    for name in ("honest", *AGENTS):
        told = threading.Event()

        def tell(port: int, name: str = name, told: threading.Event = told) -> None:
            ports[name] = port
            told.set()

        threading.Thread(target=_agent, args=(name, tell), daemon=True).start()
        told.wait()
    asyncio.run(
        _serve(asyncssh.import_private_key(key), lambda found: pipe.send({**ports, **found}))
    )


@contextmanager
def serving_others() -> Iterator[tuple[dict[str, int], str]]:
    """Serve them all, and an honest agent; their ports, and the public key of the SSH servers."""
    key = asyncssh.generate_private_key("ssh-ed25519")
    here, there = multiprocessing.Pipe()
    work = multiprocessing.get_context("fork").Process(
        target=_all, args=(there, key.export_private_key()), daemon=True
    )
    work.start()
    try:
        yield here.recv(), key.export_public_key("openssh").decode()
    finally:
        work.kill()

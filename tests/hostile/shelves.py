"""HTTP and TFTP servers on loopback, each hostile in one way, on threads.

An HTTP one is a function from the request's path to the bytes that are sent, piece by piece.
"""

import gzip
import itertools
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

LOOPBACK = "127.0.0.1"
Answer = Callable[[str, str], Iterator[bytes]]
INDEX = b'<html><a href="a.img">a</a><a href="b.img">b</a></html>'
GOOD = b"good bytes"


def http(body: bytes, *headers: str, status: str = "200 OK", length: bool = True) -> bytes:
    """An answer as it goes over the wire."""
    told = [f"Content-Length: {len(body)}"] if length else []
    lines = [f"HTTP/1.1 {status}", "Connection: close", *told, *headers]
    return "\r\n".join(lines).encode("latin-1") + b"\r\n\r\n" + body


def _site(a_img: Callable[[str], Iterator[bytes]]) -> Answer:
    """An index page of two files: a good one, and one that is served so."""

    def answer(method: str, path: str) -> Iterator[bytes]:
        if path.endswith("/a.img"):
            yield from a_img(method)
        elif path.endswith("/b.img"):
            yield http(GOOD if method == "GET" else b"", f"Content-Length: {len(GOOD)}",
                       length=False)  # fmt: skip
        else:
            yield http(INDEX, "Content-Type: text/html")

    return answer


def _packed(method: str) -> Iterator[bytes]:
    twice = gzip.compress(gzip.compress(b"\0" * 2**26))
    yield http(twice, "Content-Encoding: gzip, gzip")


def _without_end(method: str) -> Iterator[bytes]:
    yield http(b"", length=False)
    while method == "GET":
        yield b"x" * 2**16


def _longer(method: str) -> Iterator[bytes]:
    if method == "HEAD":
        yield http(b"", "Content-Length: 10", 'ETag: "1"', length=False)
        return
    yield http(b"", length=False)
    while True:
        yield b"x" * 2**16


def _drips(method: str) -> Iterator[bytes]:
    yield http(b"", length=False)
    while method == "GET":
        time.sleep(0.2)
        yield b"x"


def _drips_headers(method: str) -> Iterator[bytes]:
    yield b"HTTP/1.1 200 OK\r\n"
    for number in itertools.count():
        time.sleep(0.2)
        yield b"X-%d: y\r\n" % number


def _says(*pieces: bytes) -> Callable[[str], Iterator[bytes]]:
    return lambda method: iter(pieces)


def _index(page: bytes) -> Answer:
    return lambda method, path: iter([http(page, "Content-Type: text/html")])


# Each with whether the good file beside it is read.
SHELVES: dict[str, tuple[Answer, bool]] = {
    "packs a file, twice": (_site(_packed), True),
    "sends a file without end": (_site(_without_end), True),
    "sends more than it says": (_site(_longer), True),
    "sends a file byte by byte": (_site(_drips), True),
    "sends headers without end": (_site(_drips_headers), True),
    "says what is no HTTP": (_site(_says(b"\0\1\2")), True),
    "says a status that is none": (_site(_says(http(b"", status="99999 \x1b[31m"))), True),
    "closes": (_site(_says()), True),
    "says a length that is none": (_site(_says(http(b"x", "Content-Length: -5", length=False))),
                                   True),
    "links to addresses that are none": (
        _index(b'<a href="http://[::1">x</a><a href="//[">y</a><a href="http://a:99999/">z</a>'),
        False,
    ),
    "has a page that never ends": (
        lambda method, path: itertools.chain(
            [http(b"", "Content-Type: text/html", length=False)], itertools.repeat(b"<a>" * 2**14)
        ),
        False,
    ),
    "packs its page": (
        lambda method, path: iter([http(gzip.compress(INDEX), "Content-Encoding: gzip")]),
        False,
    ),
    "leads to an invalid address": (
        lambda method, path: iter([http(b"", "Location: http://[", status="302 Found")]),
        False,
    ),
    "tells a password in its reason": (
        lambda method, path: iter([http(b"", status="403 harbour is wrong")]),
        False,
    ),
}  # fmt: skip


@contextmanager
def serving_http(answer: Answer) -> Iterator[str]:
    """Serve one; its address."""
    door = socket.create_server((LOOPBACK, 0))

    def talk(near: socket.socket) -> None:
        with near, suppress(OSError):
            asked = b""
            while b"\r\n\r\n" not in asked and (more := near.recv(2**16)):
                asked += more
            method, path, *_ = asked.decode("latin-1").split(" ")
            for piece in answer(method, path):
                near.sendall(piece)

    def serve() -> None:
        with suppress(OSError):
            while True:
                threading.Thread(target=talk, args=(door.accept()[0],), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    with door:
        yield f"http://{LOOPBACK}:{door.getsockname()[1]}/"


# TFTP (RFC 1350, 2347 to 2349) -------------------------------------------------------------------

Packets = Callable[[socket.socket, Any], None]


def _options_for_ever(door: socket.socket, peer: Any) -> None:
    for _ in range(500):
        door.sendto(struct.pack("!H", 6) + b"tsize\0" + b"5\0", peer)
        time.sleep(0.002)


def _blocks(*told: bytes, most: int = 100_000, size: int = 512) -> Packets:
    """Blocks without end, each once it is asked for, behind what is told."""

    def sends(door: socket.socket, peer: Any) -> None:
        for packet in told:
            door.sendto(packet, peer)
            door.recvfrom(2**16)
        for number in range(1, most):
            door.sendto(struct.pack("!HH", 3, number % 2**16) + b"x" * size, peer)
            door.recvfrom(2**16)

    return sends


def _from_elsewhere(door: socket.socket, peer: Any) -> None:
    """From another host of this machine."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
        other.bind(("127.0.0.2", 0))
        other.sendto(struct.pack("!HH", 3, 1) + b"forged", peer)


TFTP: dict[str, Packets] = {
    "agrees for ever": _options_for_ever,
    "goes on beyond its tsize": _blocks(struct.pack("!H", 6) + b"tsize\0" + b"1000\0"),
    "sends a file without end": _blocks(),
    "sends larger blocks than were agreed": _blocks(size=4_000, most=10),
    "answers from another host": _from_elsewhere,
    "says half a packet": lambda door, peer: door.sendto(b"\0", peer) and None,
    "agrees to blocks of no bytes": lambda door, peer: (
        door.sendto(struct.pack("!H", 6) + b"blksize\0" + b"0\0", peer) and None
    ),
}


@contextmanager
def serving_tftp(sends: Packets) -> Iterator[str]:
    """Serve one; its address."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as door:
        door.bind((LOOPBACK, 0))

        def serve() -> None:
            with suppress(OSError):
                while True:
                    _, peer = door.recvfrom(2**16)
                    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
                        one.bind((LOOPBACK, 0))
                        one.settimeout(0.5)
                        with suppress(OSError):
                            sends(one, peer)

        threading.Thread(target=serve, daemon=True).start()
        yield f"tftp://{LOOPBACK}:{door.getsockname()[1]}/"

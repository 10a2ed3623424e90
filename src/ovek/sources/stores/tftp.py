"""Named files of a TFTP server (RFC 1350, options by RFC 2347 to 2349); it can list nothing.

The few packets of the standard, over UDP: whoever answers from another port than the first is not
listened to, and a lost packet is asked for again.
"""

import socket
import struct
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from ovek.model.digest import Algorithm, Digests
from ovek.model.fleet import Shelf
from ovek.sources.clean import plain
from ovek.sources.problem import ReadProblem
from ovek.sources.stores.interface import Lying, ShelfAccess, is_safe

_READ, _DATA, _ACK, _ERROR, _OPTIONS = 1, 3, 4, 5, 6
_BLOCK = 1428  # bytes: a datagram on Ethernet is never cut with it
_TRIES = 4
_WAIT = 1.0  # seconds to the first repetition


class Tftp:
    """One read request a file."""

    resumes = False

    def __init__(self, shelf: Shelf, access: ShelfAccess) -> None:
        parts = urlsplit(shelf.at)
        self._where = (parts.hostname or "", parts.port or 69)
        self._folder = unquote(parts.path).strip("/")
        self._names, self._limit = shelf.files, access.limits.answer
        self._heard = False  # whether it ever answered

    def files(self) -> list[Lying]:
        """The files that are named, whether they are there or not."""
        try:
            socket.getaddrinfo(*self._where, type=socket.SOCK_DGRAM)
        except OSError as error:
            met = (error.strerror or str(error)).lower()
            do = "Fix `at` in fleet.toml"
            raise ReadProblem(f"looking up {self._where[0]}", met, do) from None
        front = f"{self._folder}/" if self._folder else ""
        return [Lying(path=name, at=f"{front}{name}") for name in self._names if is_safe(name)]

    def pieces(self, file: Lying, start: int) -> Iterator[bytes]:
        """All blocks of a file; those before `start` are passed over."""
        done = 0
        for block in self._blocks(file.at):
            if done + len(block) > start:
                yield block[max(0, start - done) :]
            done += len(block)

    def _blocks(self, name: str) -> Iterator[bytes]:
        family, kind, proto, _, where = socket.getaddrinfo(*self._where, type=socket.SOCK_DGRAM)[0]
        with socket.socket(family, kind, proto) as door:
            asked = struct.pack("!H", _READ) + b"\0".join(
                [name.encode(), b"octet", b"blksize", str(_BLOCK).encode(), b"tsize", b"0", b""]
            )
            peer: Any = None
            block, wanted, size, told = 512, 1, 0, None
            packet: bytes = asked
            to: Any = where
            agreed = False
            while True:
                got, peer = self._exchange(door, packet, to, peer, wanted, agreed=agreed)
                code, number = struct.unpack_from("!HH", got)
                if code == _OPTIONS:
                    agreed, (block, told) = True, _agreed(got)
                    packet, to = struct.pack("!HH", _ACK, 0), peer
                    continue
                data = got[4:]
                if len(data) > block:
                    raise LookupError(f"a block of {len(data)} bytes came, and {block} were agreed")
                size += len(data)
                if told is not None and size > told:
                    raise LookupError(f"it goes on beyond its {told} bytes")
                yield data
                packet, to = struct.pack("!HH", _ACK, number), peer
                wanted += 1
                if len(data) < block:
                    door.sendto(packet, to)
                    if told not in (None, size):
                        raise ConnectionError(f"it ended at {size} of {told} bytes")
                    return

    def _exchange(
        self,
        door: socket.socket,
        packet: bytes,
        to: Any,
        peer: Any,
        wanted: int,
        *,
        agreed: bool,
    ) -> tuple[bytes, Any]:
        """Send a packet until the next block comes; the block, and from where.

        The first answer comes from another port of the host that was asked, and no other host.
        Options are `agreed` once.
        """
        wait, ends = _WAIT, time.monotonic() + self._limit
        for _ in range(_TRIES):
            door.sendto(packet, to)
            until = min(time.monotonic() + wait, ends)
            while (left := until - time.monotonic()) > 0:
                door.settimeout(left)
                try:
                    got, source = door.recvfrom(2**16)
                except TimeoutError:
                    break
                except ConnectionError:
                    raise ConnectionError("nothing listens there") from None
                ours = source == peer if peer is not None else source[0] == to[0]
                if not ours or len(got) < 4:
                    continue
                self._heard = True
                code, number = struct.unpack_from("!HH", got)
                if code == _ERROR:
                    told = got[4:].partition(b"\0")[0].decode("utf-8", "replace")
                    raise LookupError(f"the server says: {plain(told) or number}")
                if code == _OPTIONS and not agreed and wanted == 1:
                    return got, source
                if code == _DATA and number == wanted % 2**16:
                    return got, source
            wait = min(wait * 2, 8.0)
        if not self._heard:
            host, port = self._where
            do = "Check that it is up and reachable over UDP"
            raise ReadProblem(f"asking {host} port {port}", "no answer in time", do)
        raise TimeoutError("no answer in time")

    def word(self, file: Lying, algorithms: Sequence[Algorithm]) -> Digests | None:
        """TFTP knows no digests."""
        return None

    def close(self) -> None:
        """There is no connection."""


def _agreed(packet: bytes) -> tuple[int, int | None]:
    """The size of a block, and of the file, that the server tells (RFC 2348 and 2349)."""
    words = packet[2:].split(b"\0")
    told = {name.lower(): value for name, value in zip(words[::2], words[1::2], strict=False)}
    block, size = told.get(b"blksize", b"512"), told.get(b"tsize", b"")
    if not (block.isdigit() and len(block) < 6 and 8 <= int(block) <= _BLOCK):
        raise LookupError("the server names a block size that was not asked for")
    return int(block), int(size) if size.isdigit() and len(size) < 19 else None


def opened(shelf: Shelf, site: Path, access: ShelfAccess) -> Tftp:
    """Named files of a TFTP server."""
    return Tftp(shelf, access)

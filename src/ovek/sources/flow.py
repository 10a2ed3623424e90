"""How fast bytes of many connections are read on, so that who floods holds up nobody.

The first bytes of a connection are read as they come. Beyond that it is read a piece at a time, one
such connection after another: all the others have their turn between two pieces. What was not read
stays with the sender (TCP's own flow control).
"""

import asyncio
import time
from collections import deque
from typing import Any

import asyncssh

_FREE = 2**15  # bytes that a connection sends as fast as it can
_PIECE = 2**13  # bytes that are read at once: a few hundred of the smallest packets
_LARGEST = 2**16  # the same, of one whose bytes are quickly taken in: large packets of a file
_QUICK = 0.002  # seconds for a piece


class Flow:
    """The connections of one run that have sent much, in line."""

    def __init__(self) -> None:
        self._line = deque[_Watched]()
        self._goes = False

    def watch(self, connection: asyncssh.SSHClientConnection) -> None:
        """Have a new connection stand in line once it has sent much."""
        _Watched(connection, self)

    def wait(self, watched: "_Watched") -> None:
        """Stand in line."""
        self._line.append(watched)
        if not self._goes:
            self._goes = True
            asyncio.get_running_loop().call_soon(self._next)

    def _next(self) -> None:
        self._line.popleft().go_on()
        self._goes = bool(self._line)
        if self._goes:
            asyncio.get_running_loop().call_soon(self._next)


class _Watched:
    """One connection. AsyncSSH tells nobody its transport by another name than `_transport`."""

    def __init__(self, connection: asyncssh.SSHClientConnection, flow: Flow) -> None:
        self._flow, self._size = flow, 0
        self._transport: Any = getattr(connection, "_transport", None)
        if self._transport is not None and hasattr(self._transport, "pause_reading"):
            self._take = connection.data_received
            connection.data_received = self._received  # type: ignore[method-assign]
            if hasattr(self._transport, "max_size"):
                self._transport.max_size = _PIECE

    def _received(self, data: bytes, datatype: Any = None) -> None:
        self._size += len(data)
        began = time.perf_counter()
        self._take(data, datatype)
        self._suit(time.perf_counter() - began)
        if self._size > _FREE and not self._transport.is_closing():
            self._transport.pause_reading()
            self._flow.wait(self)

    def _suit(self, spent: float) -> None:
        """Read larger pieces of what is quickly taken in, smaller ones of what is not."""
        size = getattr(self._transport, "max_size", None)
        if size is not None and spent < _QUICK:
            self._transport.max_size = min(2 * size, _LARGEST)
        elif size is not None and spent > 4 * _QUICK:
            self._transport.max_size = max(size // 2, _PIECE)

    def go_on(self) -> None:
        """Read the next piece."""
        if not self._transport.is_closing():
            self._transport.resume_reading()

"""The places at which devices are read: so many at once, and room for those that are silent.

1. A device that is read has a place. Where it lets one wait for longer than it should, or has to be
   tried again, it leaves its place to the next, and waits elsewhere: it costs a socket there, and
   nobody's time.
2. Before it is asked for more, it takes a place again, and goes before those that have none yet:
   it has answered. So no more devices than were asked for are worked on at once, however many do
   not answer.
3. What failed is tried again when every device was tried once, or nobody more can wait.
"""

import asyncio
import time
from collections import deque
from contextlib import suppress

_PATIENCE = 0.25  # seconds that a device may let one wait before its place is needed elsewhere
_ANSWERED = 5.0  # the same for one that has answered before: it is a device that is read
_LOG_IN = 5.0  # the same for a log-in: no more are checked at once than devices are to be read
_LOOKS = 1.0  # seconds between looks at who waits elsewhere
_WAITING = 8  # devices that wait for each place
_OF_FILES = 0.5  # the share of the files that this program may have open
_FILES_EACH = 2  # that a device has open


_Line = deque[asyncio.Future[None]]


class Places:
    """The places of one survey."""

    def __init__(self, number: int) -> None:
        self._free = number
        self._elsewhere = max(0, min(_WAITING * number, _most_open() - number))
        self._back, self._new, self._again = _Line(), _Line(), _Line()

    async def seat(self) -> "Seat":
        """A place for one device, once one is free."""
        await self._take(self._new)
        return Seat(self)

    async def back(self, *, failed: bool) -> None:
        """Take a place again: of who has answered, or has to be tried again."""
        await self._take(self._again if failed else self._back)
        self._elsewhere += 1

    def leave(self) -> bool:
        """Leave a place; False where nobody more can wait elsewhere."""
        if not self._elsewhere:
            return False
        self._elsewhere -= 1
        self._give()
        return True

    async def _take(self, line: "_Line") -> None:
        if self._free:
            self._free -= 1
            return
        turn = asyncio.get_running_loop().create_future()
        line.append(turn)
        try:
            await turn
        except asyncio.CancelledError:
            if turn.done() and not turn.cancelled():
                self._give()
            raise

    def _give(self) -> None:
        """Give a place to who waits longest in the first line in which anybody does."""
        # Why this order: a device that has answered holds a connection, and its patience runs out.
        # Devices that are tried again come last, unless nobody more may wait elsewhere.
        full = not self._elsewhere
        for line in (self._back, *([self._again] if full else ()), self._new, self._again):
            while line:
                turn = line.popleft()
                if not turn.done():
                    turn.set_result(None)
                    return
        self._free += 1

    def end(self, *, seated: bool) -> None:
        """It is done with."""
        if seated:
            self._give()
        else:
            self._elsewhere += 1


class Seat:
    """The place of one device. Without places, nobody waits for it."""

    def __init__(self, places: Places | None = None) -> None:
        self._places, self._seated = places, True
        self._until = time.monotonic() + _PATIENCE
        self._waited = 0.0  # seconds for a place: they are nobody's fault
        self._since: float | None = None
        self._asked = False

    async def work(self, expected: float = 0.0, *, failed: bool = False) -> None:
        """The device is to be asked for something that it should tell in so many seconds.

        `failed`: it is to be tried again, from the start.
        """
        if self._places is not None and not self._seated:
            self._since = time.monotonic()
            try:
                await self._places.back(failed=failed)
                self._seated = True
            finally:
                self._waited, self._since = self.in_line(), None
        patience = _ANSWERED if self._asked and not failed else _PATIENCE
        self._until, self._asked = time.monotonic() + patience + expected, not failed

    def logs_in(self) -> None:
        """The device checks who logs in, and has to ask others for that: it is given its time."""
        self._until = time.monotonic() + _LOG_IN

    def leave(self) -> None:
        """Leave the place until there is work again, where somebody can wait elsewhere."""
        if self._places is not None and self._seated:
            self._seated = not self._places.leave()
            self._until = time.monotonic() + _PATIENCE

    def end(self) -> None:
        """The device is read, or given up."""
        if self._places is not None:
            self._places.end(seated=self._seated)

    def in_line(self) -> float:
        """The seconds that were spent waiting for a place so far."""
        return self._waited + (0.0 if self._since is None else time.monotonic() - self._since)

    async def watch(self, reading: "asyncio.Task[None]", limit: float) -> None:
        """Wait until a device is read, for `limit` seconds; while it is silent, leave its place."""
        ends = time.monotonic() + limit - self.in_line()
        while not reading.done():
            now = time.monotonic()
            left = ends + self.in_line() - now
            if left <= 0:
                return
            seated = self._places is not None and self._seated
            nap = self._until - now if seated else _LOOKS
            if nap <= 0:
                self.leave()
            else:
                await asyncio.wait({reading}, timeout=min(nap, left))


def _most_open() -> int:
    """How many devices may be connected to at once, by the files that may be open."""
    with suppress(ImportError, ValueError, OSError):
        import resource

        most, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
        if most > 0:
            return int(most * _OF_FILES) // _FILES_EACH
    return 128

"""Work that takes long, done in a thread of its own, so that no other device waits for it.

A thread cannot be ended from outside. It is told to stop, is not waited for, and keeps nobody from
ending: it may hang on a dead mount for ever.
"""

import asyncio
import threading
from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

T = TypeVar("T")

# Held for a short piece of heavy work: such pieces share the processor with the event loop one at a
# time, however many devices cause them.
TURN = threading.Lock()


def hush(loop: asyncio.AbstractEventLoop) -> None:
    """Have a loop print nothing of what a library drops on its floor when a connection is cut.

    What came of a device is told in its own line.
    """
    loop.set_exception_handler(lambda loop, context: None)


class StopSignal(threading.Event):
    """Set where the result is no longer waited for; `check` ends the work then."""

    def check(self) -> None:
        """Raise StoppedError where the work is to end."""
        if self.is_set():
            raise WorkStoppedError


class WorkStoppedError(Exception):
    """Nobody waits for the result any more."""


async def away(work: Callable[[StopSignal], T]) -> T:
    """Do some work in a thread and wait for it; where the wait is ended, the work is left."""
    loop, stop = asyncio.get_running_loop(), StopSignal()
    result: asyncio.Future[T] = loop.create_future()

    def tell(made: T | None, error: BaseException | None) -> None:
        if result.done():
            return
        if error is not None:
            result.set_exception(error)
        else:
            result.set_result(made)  # type: ignore[arg-type]

    def run() -> None:
        made, failed = None, None
        try:
            made = work(stop)
        except BaseException as error:
            failed = error
        with suppress(RuntimeError):  # the loop may be closed by now
            loop.call_soon_threadsafe(tell, made, failed)

    threading.Thread(target=run, daemon=True).start()
    try:
        return await result
    finally:
        stop.set()

"""One parser, many inputs, each in bounded time and memory."""

import multiprocessing
import random
import resource
import signal
import tempfile
import time
import traceback
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from pathlib import Path

from hostile.mutate import mutated
from hostile.parsers import ALLOWED, PARSERS

_WAITS = 12  # times as long as it may take, for what waits
MOST_SECONDS, MOST_BYTES = 5.0, 500 * 2**20


class TooLongError(BaseException):
    """An input that takes too long; nothing that a parser may catch."""


@dataclass
class Found:
    """What came of a trial: seconds of the slowest input, bytes of memory at the most."""

    name: str
    inputs: int
    refused: int = 0
    slowest: float = 0.0
    memory: int = 0
    failures: list[tuple[bytes, str]] = field(default_factory=list)

    def __str__(self) -> str:
        return (
            f"{self.name}: {self.inputs} inputs, {self.refused} refused, slowest "
            f"{self.slowest * 1000:.0f} ms, at most {self.memory / 2**20:.0f} MiB, "
            f"{len(self.failures)} failures"
        )


def trial(names: list[str], inputs: int, seed: int) -> Iterator[Found]:
    """Try parsers, one after the other, in a process whose memory is their own."""
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe()
    process = context.Process(target=_in_process, args=(theirs, names, inputs, seed))
    process.start()
    theirs.close()
    for name in names:
        try:
            yield ours.recv()
        except EOFError:
            process.join()
            why = f"the process ended ({process.exitcode})"
            yield Found(name, inputs, failures=[(b"", why)])
            return
    process.join()


def _in_process(pipe: Connection, names: list[str], inputs: int, seed: int) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (2 * 2**30, 2 * 2**30))
    for name in names:
        pipe.send(_tried(name, inputs, seed))


def _tried(name: str, inputs: int, seed: int) -> Found:
    good, file_name, run = PARSERS[name]
    chance, found = random.Random(f"{name} {seed}"), Found(name, inputs)
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as top:
        folder = Path(top) / "x"
        for _ in range(inputs):
            data = mutated(chance.choice(good), good, chance)
            folder.mkdir()
            try:
                _one(found, run, folder / file_name, data)
            finally:
                for each in folder.iterdir():
                    each.unlink()
                folder.rmdir()
    found.memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    if found.memory > MOST_BYTES:
        found.failures.append((b"", f"it takes {found.memory} bytes of memory"))
    return found


def _one(found: Found, run, file: Path, data: bytes) -> None:
    file.write_bytes(data)
    began = time.process_time()
    try:
        with guarded(MOST_SECONDS):
            run(file)
    except ALLOWED:
        found.refused += 1
    except TooLongError:
        found.failures.append((data, f"it takes over {MOST_SECONDS:g} s"))
    except Exception:
        found.failures.append((data, traceback.format_exc(limit=-6)))
    found.slowest = max(found.slowest, time.process_time() - began)


@contextmanager
def guarded(seconds: float) -> Iterator[None]:
    """Raise TooLongError in what takes more of the processor, or waits for many times as long.

    What others do on the machine is nobody's fault here.
    """
    timers = {signal.ITIMER_PROF: seconds, signal.ITIMER_REAL: _WAITS * seconds}
    for told in (signal.SIGPROF, signal.SIGALRM):
        signal.signal(told, _too_long)
    try:
        for timer, limit in timers.items():
            signal.setitimer(timer, limit)
        yield
    finally:
        for timer in timers:
            signal.setitimer(timer, 0)


def _too_long(*_: object) -> None:
    raise TooLongError

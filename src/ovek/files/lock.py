"""A lock that one run at a time holds, and that a dead process leaves to the next."""

import json
import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from ovek.files.errors import InputError
from ovek.files.typed import cannot_read

try:
    import fcntl
except ImportError:  # no such locks here: two runs at once are the user's own care
    fcntl = None  # type: ignore[assignment]


@contextmanager
def locked(file: Path, what: str) -> Iterator[None]:
    """Hold the lock of a file as long as this lasts; `what` runs says who asks for it.

    The system lets go of it when the process ends, however that happens. Raises InputError where
    another one holds it, saying who.
    """
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        opened = file.open("a+b", buffering=0)
    except OSError as error:
        raise cannot_read(file, error) from None
    with opened as stream:
        if fcntl is not None:
            try:
                fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                stream.seek(0)
                met = f"{what} runs already ({_holder(stream.read(4096))})"
                do = "Wait until it has ended, or end it"
                raise InputError(file.parent, met, do) from None
        stream.truncate(0)
        since = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S UTC")
        told = {"process": os.getpid(), "host": socket.gethostname(), "since": since}
        stream.write(json.dumps(told).encode())
        try:
            yield
        finally:
            # The file stays: who removed it could not know that nobody waits for it.
            stream.truncate(0)


def _holder(data: bytes) -> str:
    try:
        told = json.loads(data)
        return f"process {told['process']} on {told['host']}, since {told['since']}"
    except (ValueError, TypeError, KeyError, RecursionError):
        return "by a process that has not said which"

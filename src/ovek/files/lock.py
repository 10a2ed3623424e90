"""A lock that one run at a time holds, and that a dead process leaves to the next."""

import json
import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

from ovek.files.decode import cannot_read
from ovek.files.errors import InputError
from ovek.files.safe_open import opened_to_add

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
        opened = opened_to_add(file)
    except OSError as error:
        raise cannot_read(file, error) from None
    with opened as stream:
        if fcntl is not None:
            try:
                fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                stream.seek(0)
                text = f"{what} is already running ({_holder(stream.read(4096))})"
                do = "Wait until it ends, or stop it"
                raise InputError(file.parent, text, do) from None
            except OSError as error:
                reason = (error.strerror or str(error)).lower()
                text = f"cannot be locked ({reason})"
                do = "Put the site on a file system that supports locks"
                raise InputError(file, text, do) from None
        since = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S UTC")
        told = {"process": os.getpid(), "host": socket.gethostname(), "since": since}
        with suppress(OSError):  # what is said of the holder is not what holds: a disk may be full
            stream.truncate(0)
            stream.write(json.dumps(told).encode())
        try:
            yield
        finally:
            # The file stays: who removed it could not know that nobody waits for it.
            with suppress(OSError):
                stream.truncate(0)


def _holder(data: bytes) -> str:
    try:
        told = json.loads(data)
        return f"process {told['process']} on {told['host']}, since {told['since']}"
    except (ValueError, TypeError, KeyError, RecursionError):
        return "by an unknown process"

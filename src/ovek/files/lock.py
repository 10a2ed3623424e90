"""A lock that one run at a time holds, and that a dead process leaves to the next."""

import json
import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

from filelock import FileLock, Timeout

from ovek.files.atomic import write_whole
from ovek.files.decode import cannot_read
from ovek.files.errors import InputError
from ovek.files.safe_open import bytes_of, check_regular


@contextmanager
def locked(file: Path, what: str) -> Iterator[None]:
    """Hold the lock of a file as long as this lasts; `what` runs says who asks for it.

    The system lets go of it when the process ends, however that happens. Who holds it stands in a
    file beside it. Raises InputError where another one holds it, saying who.
    """
    beside = file.with_name(f"{file.name}.by")
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        check_regular(file)
        lock = FileLock(file, timeout=0)
        lock.acquire()
    except Timeout:
        text = f"{what} is already running ({_holder(beside)})"
        raise InputError(file.parent, text, "Wait until it ends, or stop it") from None
    except NotImplementedError:
        do = "Put the site on a file system that supports locks"
        raise InputError(file, "cannot be locked (the file system has no locks)", do) from None
    except OSError as error:
        raise cannot_read(file, error) from None
    since = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S UTC")
    told = {"process": os.getpid(), "host": socket.gethostname(), "since": since}
    try:
        with suppress(InputError):  # what is said of the holder is not what holds
            write_whole(beside, [json.dumps(told).encode()])
        yield
    finally:
        with suppress(OSError):
            beside.unlink(missing_ok=True)
        # The file itself stays: who removed it could not know that nobody waits for it.
        lock.release()


def _holder(file: Path) -> str:
    try:
        told = json.loads(bytes_of(file))
        return f"process {told['process']} on {told['host']}, since {told['since']}"
    except (OSError, InputError, ValueError, TypeError, KeyError, RecursionError):
        return "by an unknown process"

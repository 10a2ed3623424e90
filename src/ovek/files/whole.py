"""Writing a file whole or not at all."""

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from ovek.files.errors import InputError


def write_whole(file: Path, chunks: Iterable[bytes]) -> None:
    """Write `chunks` beside `file`, then put the result in its place in one step.

    Whatever was there stays until then; a run that is cut off leaves it as it was. Raises
    InputError where the folder cannot be written.
    """
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{file.name}.", dir=file.parent)
        beside = Path(name)
        try:
            with os.fdopen(handle, "wb") as stream:
                for chunk in chunks:
                    stream.write(chunk)
                stream.flush()
                os.fsync(stream.fileno())
            beside.chmod(0o644)
            beside.replace(file)
        except BaseException:
            beside.unlink(missing_ok=True)
            raise
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        met = f"cannot be written ({reason})"
        raise InputError(file, met, "Check the folder, its permissions and its room") from None

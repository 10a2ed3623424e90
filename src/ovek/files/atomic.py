"""Writing a file whole or not at all."""

import logging
import os
import stat
import tempfile
from collections.abc import Iterable
from pathlib import Path

from ovek.files.errors import InputError
from ovek.files.safe_open import refuse_leaving, special

_LOG = logging.getLogger(__name__)


def write_whole(file: Path, chunks: Iterable[bytes]) -> None:
    """Write `chunks` beside `file`, then put the result in its place in one step.

    Whatever was there stays until then; a run that is cut off leaves it as it was. Raises
    InputError where the folder cannot be written.
    """
    refuse_leaving(file)
    try:
        file = Path(os.path.realpath(file))  # a link stays one
        mode = _mode_of(file)
        file.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=".ovek-", dir=file.parent)
        beside = Path(name)
        try:
            with os.fdopen(handle, "wb") as stream:
                for chunk in chunks:
                    stream.write(chunk)
                stream.flush()
                # Why before the rename: some file systems order the rename before the data, and a
                # power failure would then leave an empty file under the right name.
                os.fsync(stream.fileno())
            beside.chmod(mode)
            beside.replace(file)
            _LOG.debug("wrote %s", file)
        except BaseException:
            beside.unlink(missing_ok=True)
            raise
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        text = f"cannot be written ({reason})"
        raise InputError(
            file, text, "Check the folder, its permissions and its free space"
        ) from None
    except ValueError:  # a NUL in it
        raise InputError(file, "is not a file name", "Fix the name") from None


def _mode_of(file: Path) -> int:
    """The permissions of what is there already, else the usual ones; no pipe is replaced."""
    try:
        mode = file.stat().st_mode
    except FileNotFoundError:
        return 0o644
    if (kind := special(mode)) is not None:
        raise InputError(file, f"is {kind}, not a file", "Give a file")
    return stat.S_IMODE(mode)

"""What is logged, and where it goes: warnings are told, the rest to a file or standard error."""

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click

from ovek.app.errors import InputError
from ovek.cli.quiet import is_quiet
from ovek.cli.say import tell
from ovek.render.visible import visible

_OURS = logging.getLogger("ovek")
_LINE = "%(asctime)s %(levelname)s %(name)s: %(message)s"


class _LogText(logging.Handler):
    """What a use case has to tell by the way, on standard error."""

    def emit(self, record: logging.LogRecord) -> None:
        """Tell it."""
        if not is_quiet():
            tell(record.getMessage())


class _Line(logging.Formatter):
    """One line a record, in UTC, whatever is in it."""

    converter = staticmethod(time.gmtime)
    default_msec_format = "%s.%03dZ"

    def __init__(self) -> None:
        super().__init__(_LINE)

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802
        """Make it."""
        return visible(super().formatMessage(record))


class _WatchedLog(logging.Handler):
    """All that is logged and is not told anyway, on standard error."""

    def emit(self, record: logging.LogRecord) -> None:
        """Write it."""
        if record.levelno < logging.WARNING:
            click.echo(self.format(record), err=True)


def _file(file: Path) -> logging.Handler:
    try:
        return logging.FileHandler(file, encoding="utf-8", errors="backslashreplace")
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise InputError(file, f"cannot be written ({reason})", "Name another file") from None


@contextmanager
def logged(file: str | None = None, *, watched: bool = False) -> Iterator[None]:
    """Tell warnings as long as this lasts; log all to a file, and to standard error, on demand.

    Raises InputError where the file cannot be written.
    """
    handlers: list[logging.Handler] = [_LogText(logging.WARNING)]
    if file is not None:
        handlers.append(_file(Path(file)))
    if watched:
        handlers.append(_WatchedLog())
    before, passes = _OURS.level, _OURS.propagate
    _OURS.setLevel(logging.DEBUG if len(handlers) > 1 else logging.WARNING)
    _OURS.propagate = False
    for handler in handlers:
        if handler.level == logging.NOTSET:
            handler.setFormatter(_Line())
        _OURS.addHandler(handler)
    try:
        yield
    finally:
        for handler in handlers:
            _OURS.removeHandler(handler)
            handler.close()
        _OURS.setLevel(before)
        _OURS.propagate = passes

"""A progress bar of bytes, with rate and time left, on standard error; silent elsewhere."""

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_REFRESH = 0.1


@contextmanager
def bytes_bar(total: int) -> Iterator[Callable[[int], None]]:
    """Show a bar as long as this lasts; call what it gives with the bytes that were done.

    It has no thread of its own, so that processes may be started while it is shown.
    """
    if not sys.stderr.isatty():
        yield lambda size: None
        return
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        DownloadColumn,
        Progress,
        TextColumn,
        TimeRemainingColumn,
        TransferSpeedColumn,
    )

    with Progress(
        DownloadColumn(binary_units=True),
        BarColumn(complete_style="green"),
        TransferSpeedColumn(),
        TimeRemainingColumn(),
        TextColumn("left"),
        console=Console(stderr=True),
        auto_refresh=False,
        transient=True,
    ) as bar:
        task, shown = bar.add_task("", total=total), time.monotonic()

        def advance(size: int) -> None:
            nonlocal shown
            bar.advance(task, size)
            if time.monotonic() - shown >= _REFRESH:
                bar.refresh()
                shown = time.monotonic()

        yield advance

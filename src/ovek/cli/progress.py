"""Progress bars, with rate and time left, on standard error; silent elsewhere."""

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from ovek.cli.quiet import is_quiet

_REFRESH = 0.1


@contextmanager
def bytes_bar(total: int) -> Iterator[Callable[[int], None]]:
    """Show a bar as long as this lasts; call what it gives with the bytes that were done.

    It has no thread of its own, so that processes may be started while it is shown.
    """
    if is_quiet() or not sys.stderr.isatty():
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


class SurveyBar:
    """A bar on standard error with rate and time left; silent where that is no terminal."""

    def __init__(self, total: int) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

        console = Console(stderr=True)
        self._shown = console.is_terminal and not is_quiet()
        self._bar = Progress(
            TextColumn("{task.completed} of {task.total} devices"),
            BarColumn(complete_style="green"),
            TextColumn("{task.fields[rate]}"),
            TimeRemainingColumn(),
            TextColumn("left"),
            console=console,
            disable=not self._shown,
            transient=True,
        )
        self._task = self._bar.add_task("", total=total, rate="")

    def __enter__(self) -> "SurveyBar":
        self._bar.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._bar.stop()

    def advance(self) -> None:
        """One device is done."""
        self._bar.advance(self._task)
        speed = self._bar.tasks[0].speed
        self._bar.update(self._task, rate=f"{speed:.1f} a second" if speed else "")

    def expects(self, device: str, number: int, seconds: float, rate: int | None) -> None:
        """Say how long a device's digests may take, where it is long enough to wonder."""
        from ovek.cli.say import Shown
        from ovek.render.survey import progress_note

        if self._shown and seconds >= 10:
            self._bar.console.print(Shown(progress_note(device, number, seconds, rate)))

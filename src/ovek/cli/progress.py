"""Progress bars, with rate and time left, on standard error; silent elsewhere."""

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from ovek.cli.quiet import is_quiet

if TYPE_CHECKING:
    from rich.console import RenderableType

    from ovek.model.surveyed import Surveyed

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
    """A survey on standard error as it goes on: a bar, who is read, and each failure as it comes.

    It is silent where that is no terminal; the log tells the same.
    """

    def __init__(self, total: int) -> None:
        from rich.console import Console
        from rich.live import Live

        from ovek.render.watched import WatchedSurvey

        console = Console(stderr=True)
        self._survey = WatchedSurvey(total)
        self._shown = console.is_terminal and not is_quiet()
        self._console = console
        self._live = Live(
            console=console, refresh_per_second=4, transient=True, get_renderable=self._drawn
        )

    def __enter__(self) -> "SurveyBar":
        if self._shown:
            self._live.start()
        return self

    def __exit__(self, *_: object) -> None:
        if self._shown:
            self._live.stop()

    def began(self, device: str) -> None:
        """A device is read now."""
        self._survey.began(device, time.monotonic())

    def answered(self, device: str, size: int) -> None:
        """It has sent one more answer."""
        self._survey.answered(device, size)

    def transferred(self, device: str, size: int) -> None:
        """So many bytes more of a file of it were read."""
        self._survey.transferred(device, size)

    def expects(self, device: str, number: int, seconds: float, rate: int | None) -> None:
        """So many digests of it may take so long."""
        self._survey.expects(device, number, seconds, rate, time.monotonic())

    def digested(self, device: str) -> None:
        """One of these digests is there."""
        self._survey.digested(device)

    def done(self, surveyed: "Surveyed") -> None:
        """One device is done; what went wrong with it is said above the bar."""
        from ovek.cli.say import Shown

        self._survey.done(surveyed.device)
        if self._shown and (line := self._survey.failure(surveyed)) is not None:
            self._console.print(Shown(line))

    def _drawn(self) -> "RenderableType":
        from ovek.cli.say import Shown

        return Shown(self._survey.drawn(time.monotonic(), self._console.height))

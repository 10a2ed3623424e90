"""A survey while it goes on: how far it is, who is being read, and what each of them waits for."""

from msgspec import Struct
from rich.console import Group, RenderableType
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from ovek.model.size import show_size
from ovek.model.surveyed import Surveyed
from ovek.render.lines import STYLES, count
from ovek.render.visible import visible

_LINES = 8  # devices that are shown at most
_BESIDE = 4  # lines of a screen that stay free


class _Reading(Struct):
    """One device that is read: since when, what it has sent, and its digests."""

    since: float
    answers: int = 0
    size: int = 0
    digests: int = 0
    digested: int = 0
    digests_since: float = 0.0
    digests_take: float = 0.0
    rate: int | None = None

    def ends(self) -> float:
        """When its digests may be there; that of a device without any is its beginning."""
        return self.digests_since + self.digests_take if self.digests else self.since


class WatchedSurvey:
    """What is known of a survey so far. Times are seconds of one clock."""

    def __init__(self, total: int) -> None:
        self._total, self._done, self._failed = total, 0, 0
        self._reading: dict[str, _Reading] = {}
        self._first: float | None = None

    def began(self, device: str, now: float) -> None:
        """A device is read now."""
        self._reading[device] = _Reading(now)
        self._first = now if self._first is None else self._first

    def answered(self, device: str, size: int) -> None:
        """It has sent one more answer."""
        if (reading := self._reading.get(device)) is not None:
            reading.answers += 1
            reading.size += size

    def transferred(self, device: str, size: int) -> None:
        """So many bytes more of a file of it were read."""
        if (reading := self._reading.get(device)) is not None:
            reading.size += size

    def expects(
        self, device: str, number: int, seconds: float, rate: int | None, now: float
    ) -> None:
        """So many digests of it may take so long; `rate` is how fast files are read, in bytes."""
        if (reading := self._reading.get(device)) is not None:
            reading.rate = rate
            reading.digests, reading.digested = number, 0
            reading.digests_since, reading.digests_take = now, seconds

    def digested(self, device: str) -> None:
        """One of these digests is there."""
        if (reading := self._reading.get(device)) is not None:
            reading.digested = min(reading.digested + 1, reading.digests)

    def done(self, device: str) -> None:
        """One device is done."""
        self._reading.pop(device, None)
        self._done += 1

    def failure(self, surveyed: Surveyed) -> Text | None:
        """What went wrong with a device that is done; None where nothing did."""
        if surveyed.result == "read":
            return None
        why = surveyed.problem or f"missing: {', '.join(surveyed.missing)}"
        return Text.assemble(
            (f"{surveyed.result}: ", STYLES[surveyed.result]),
            f"{visible(surveyed.device)}: {visible(why)}",
        )

    def drawn(self, now: float, height: int) -> RenderableType:
        """All of it, on so many lines at most: those that take longest first."""
        return Group(self._bar(now), *self._lines(now, max(1, min(_LINES, height - _BESIDE))))

    def _bar(self, now: float) -> RenderableType:
        row = Table.grid(padding=(0, 1))
        waiting = self._total - self._done - len(self._reading)
        words = f"{self._done} of {count(self._total, 'device')}"
        rest = [f"{len(self._reading)} being read", f"{waiting} waiting", self._left(now)]
        bar = ProgressBar(total=self._total, completed=self._done, width=30, complete_style="green")
        row.add_row(words, bar, ", ".join(filter(None, rest)))
        return row

    def _left(self, now: float) -> str:
        """How long the rest may take, by what was done and by digests that are expected."""
        ends = [one.ends() - now for one in self._reading.values() if one.digests]
        rest = self._total - self._done
        by_rate = 0.0
        if self._done and self._first is not None:
            by_rate = rest * (now - self._first) / self._done
        seconds = max([by_rate, *ends])
        return f"about {_time(seconds)} left" if seconds >= 1 else ""

    def _lines(self, now: float, most: int) -> list[Text]:
        order = sorted(self._reading.items(), key=lambda item: (-item[1].ends(), item[1].since))
        lines = [
            Text(f"  {visible(device)}: {self._state(reading, now)}", "dim")
            for device, reading in order[:most]
        ]
        if len(order) > most:
            lines.append(Text(f"  and {len(order) - most} more", "dim"))
        return lines

    def _state(self, reading: _Reading, now: float) -> str:
        if reading.digests and reading.digested < reading.digests:
            spent = _time(now - reading.digests_since)
            how = f", {show_size(reading.size)} so far" if reading.rate is not None else ""
            if reading.rate is not None:
                how += f", files are read at {show_size(reading.rate)} a second"
            return (
                f"digest {reading.digested + 1} of {reading.digests}, {spent} of about "
                f"{_time(reading.digests_take)}{how}"
            )
        if not reading.answers:
            return f"connecting, {_time(now - reading.since)}"
        sent = f"{count(reading.answers, 'answer')}, {show_size(reading.size)}"
        return f"{sent}, {_time(now - reading.since)}"


def _time(seconds: float) -> str:
    return f"{seconds / 60:.0f} min" if seconds >= 90 else f"{max(seconds, 0):.0f} s"

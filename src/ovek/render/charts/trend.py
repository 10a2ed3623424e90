"""How a fleet stood each day: who goes, who is proven and on target, and what was open."""

from collections.abc import Iterator, Sequence
from datetime import date

from ovek.model.history import Day
from ovek.model.results.histories import Trend
from ovek.render.charts import BAD, DARK, GOOD, MIDDLE, bar, finished, plot
from ovek.render.lines import width
from ovek.render.view import View

_ORANGE = "#b5651d"


def headline(days: Sequence[Day]) -> str:
    """The answer: how it stands now, against the first day."""
    first, last = days[0], days[-1]
    told = f"{last.go} of {last.devices} go"
    if len(days) > 1:
        told += f", {last.go - first.go:+d} since {first.day}"
    return (
        f"{told}; {last.proven} boot a proven image, {last.on_target} of "
        f"{last.with_target} on target."
    )


def draw(result: Trend, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`: devices above, open findings beneath, by day."""
    days, found = result.days, result.opened
    pyplot = plot.pyplot()
    figure, (above, below) = pyplot.subplots(2, 1, figsize=(12.8, 7.2), dpi=100, sharex=True)
    x = [date.fromisoformat(day.day) for day in days]
    line = {"linewidth": 1.8, "markersize": 4 if len(days) <= 60 else 0}
    for values, label, colour, style, marker in (
        ([day.go for day in days], "go", GOOD, "-", "o"),
        ([day.no_go for day in days], "no-go", BAD, "--", "x"),
        ([day.proven for day in days], "boot a proven image", DARK, "-.", "s"),
        ([day.on_target for day in days], "on target", MIDDLE, ":", "^"),
    ):
        above.plot(x, values, style, label=label, color=colour, marker=marker, **line)
    above.set_ylabel("devices")
    above.set_ylim(0, max(day.devices for day in days) * 1.05 or 1)
    for attribute, colour, style, marker in (
        ("critical", BAD, "--", "x"),
        ("warning", _ORANGE, "-", "o"),
        ("note", "#777777", ":", "^"),
    ):
        values = [getattr(one, attribute) for one in found]
        below.plot(x, values, style, label=attribute, color=colour, marker=marker, **line)
    below.set_ylabel("open findings")
    below.set_ylim(bottom=0)
    for axes in (above, below):
        axes.legend(loc="upper left", bbox_to_anchor=(1.005, 1), frameon=False, fontsize=9)
        axes.spines["top"].set_visible(False)
        axes.spines["right"].set_visible(False)
        axes.yaxis.get_major_locator().set_params(integer=True)
        axes.grid(axis="y", color="#eeeeee")
    below.set_xlabel("day (UTC)")
    figure.autofmt_xdate()
    above.set_title(headline(days), loc="left")
    yield finished(figure, kind, result.caption)


def text(result: Trend, view: View) -> Iterator[str]:
    """Go through the lines: a day each, the newest first; the share that goes, and what is open."""
    days, found, wide, plain = result.days, result.opened, width(), view.plain
    yield headline(days)
    long = max(10, min(40, wide - 62))
    for day, open_ in zip(reversed(days), reversed(found), strict=True):
        shown = bar(day.go / day.devices if day.devices else 0, long, plain=plain)
        yield (
            f"  {day.day} [{shown}] {day.go} of {day.devices} go, {day.proven} proven, "
            f"{open_.critical} critical, {open_.warning} warning"
        )

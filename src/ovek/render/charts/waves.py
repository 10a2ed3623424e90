"""A figure of waves over time: each wave's window, and how much of it the wave takes.

PNG or SVG, drawn with Matplotlib. One row a wave, from the first minute of its window on; at most
forty fit. It reads in grey: what a wave takes is dark, what is left of its window light, and a wave
of which nobody knows how long it takes is hatched.
"""

from collections.abc import Iterator
from typing import Any

from ovek.model.results.runbooks import FleetRunbooks
from ovek.model.runbook import Wave
from ovek.render.charts import bar, plot
from ovek.render.lines import count, listed, width
from ovek.render.view import View
from ovek.render.visible import visible

MOST = 40
_DARK, _LIGHT, _EDGE = "#1b4965", "#dfe6ec", "#9aa7b3"


def draw(runbooks: FleetRunbooks, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`."""
    pyplot = plot.pyplot()
    shown = runbooks.waves[:MOST]
    figure, axes = pyplot.subplots(figsize=(12.8, max(3.0, 1.9 + 0.5 * len(shown))), dpi=100)
    most = max([wave.length or 0 for wave in shown] + [wave.minutes for wave in shown] + [30])
    for number, wave in enumerate(shown):
        _row(axes, number, wave, most)
    axes.set_yticks(range(len(shown)), [_when(wave) for wave in shown])
    axes.invert_yaxis()
    axes.set_xlim(0, most * 1.02)
    axes.set_xlabel("minutes of the window")
    more = len(runbooks.waves) - len(shown)
    told = f"Reloads in {count(len(runbooks.waves), 'wave')}"
    told += f", {more} of them not drawn" if more else ""
    names = listed([visible(one.device) for one in runbooks.misfits], most=4)
    told += f"; not scheduled: {names}" if runbooks.misfits else ""
    axes.set_title(told, loc="left")
    figure.text(0.01, 0.005, visible(runbooks.caption), fontsize=8, color="#555555")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    figure.tight_layout(rect=(0, 0.03, 1, 1))
    yield plot.saved(figure, kind, bbox_inches="tight")


def text(runbooks: FleetRunbooks, view: View) -> Iterator[str]:
    """Go through the lines: a wave each, how much of its window it takes, and who."""
    wide, plain = width(), view.plain
    yield f"Reloads in {count(len(runbooks.waves), 'wave')}."
    name = max((len(_when(wave)) for wave in runbooks.waves), default=0)
    for wave in runbooks.waves:
        takes = f"{wave.minutes} min" + (" or more" if wave.untimed else "")
        if wave.length:
            shown = bar((wave.into + wave.minutes) / wave.length, 16, plain=plain)
            takes += f" of {wave.length - wave.into}"
        else:
            shown = bar(0, 16, plain=plain)
        names = listed([visible(misfit) for misfit in wave.devices], most=4)
        line = f"  {_when(wave):<{name}} [{shown}] {takes}: {names}"
        yield line if len(line) <= wide else line[: wide - 3] + "..."
    for misfit in runbooks.misfits:
        yield f"  not scheduled: {visible(misfit.device)}: {visible(misfit.why)}"


def _when(wave: Wave) -> str:
    when = f"{wave.begins:%a %Y-%m-%d %H:%M}" if wave.begins is not None else visible(wave.window)
    return f"{wave.number}. {when}" + (" · canaries" if wave.group == "canaries" else "")


def _row(axes: Any, at: int, wave: Wave, most: int) -> None:
    """One wave: its window, what it takes of it, and who."""
    length = wave.length or max(wave.minutes, most if wave.untimed else 1)
    axes.barh(at, length, height=0.4, color=_LIGHT, edgecolor=_EDGE, linewidth=0.6)
    if wave.minutes:
        axes.barh(at, wave.minutes, left=wave.into, height=0.4, color=_DARK, linewidth=0)
    if wave.untimed:
        left = max(0, length - wave.into - wave.minutes)
        axes.barh(at, left, left=wave.into + wave.minutes, height=0.4, color="none", hatch="///",
                  edgecolor=_EDGE, linewidth=0.6)  # fmt: skip
    names = listed([visible(name) for name in wave.devices], most=4)
    takes = f"{wave.minutes} min" if wave.minutes or not wave.untimed else "unknown"
    takes += " or more" if wave.untimed and wave.minutes else ""
    axes.text(0, at + 0.24, f"{takes}: {names}", va="top", fontsize=8.5, color="#333333")

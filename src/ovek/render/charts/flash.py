"""Flash by content, each volume a bar to scale, with the room that the target needs."""

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from ovek.model.charted import Charted
from ovek.model.flash import CONTENTS, Content, VolumeUse
from ovek.model.results.figures import FlashFigure
from ovek.model.size import show_mib, show_share
from ovek.render.charts import (
    BAD,
    GOOD,
    LABELLED,
    MOST,
    bar,
    beneath,
    canvas,
    finished,
    fitted,
    label_rows,
)
from ovek.render.lines import count, width
from ovek.render.view import View
from ovek.render.visible import visible

# Lightness tells them apart, and hatching those that nobody needs.
COLOURS: dict[Content, str] = {
    "running or next": "#1b4965",
    "system image": "#5fa8d3",
    "package": "#9ccbe6",
    "component image": "#62b6a5",
    "archive": "#8d7fb8",
    "configuration, licence, key": "#7b6d8d",
    "leftover, log, crash file": "#d9822b",
    "unknown": "#9a9a9a",
    "other": "#cfcfcf",
}
HATCHED: dict[Content, str] = {"leftover, log, crash file": "...", "unknown": "xx"}
FREE = {"color": "#f1f1f1", "edgecolor": "#d0d0d0", "linewidth": 0.6, "zorder": 0}


class FlashRow(Struct, frozen=True):
    """One volume to draw."""

    group: str
    name: str
    use: VolumeUse


def rows_of(devices: Sequence[Charted]) -> list[FlashRow]:
    """The volumes of which the size is known, by site, the fullest first."""
    found = [
        FlashRow(one.site or "no site", f"{one.device} {use.volume}:", use)
        for one in devices
        for use in one.flash
        if use.capacity and use.free is not None
    ]
    return sorted(found, key=lambda row: (row.group if len(found) > LABELLED else "", _left(row)))


def _left(row: FlashRow) -> tuple[float, str]:
    """What share is free once the target is there; the name, so that equal ones stay in order."""
    free = (row.use.free or 0) - (row.use.needs or 0)
    return free / (row.use.capacity or 1), row.name


def short(use: VolumeUse) -> bool:
    """Whether the target does not fit as it is."""
    return use.needs is not None and use.free is not None and use.needs > use.free


def headline(devices: Sequence[Charted]) -> str:
    """The answer: on how many volumes the target does not fit."""
    uses = [use for one in devices for use in one.flash]
    wanted = [use for use in uses if use.needs]
    lack = sum(map(short, wanted))
    if not wanted:
        return f"{count(len(devices), 'device')}: no target image is missing."
    told = "all of them have space for it" if not lack else f"{lack} of them have no space for it"
    return f"Target image still missing on {count(len(wanted), 'volume')}; {told}."


def draw(result: FlashFigure, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`; a volume of which the size is not known is not drawn."""
    devices = result.devices
    found = rows_of(devices)
    rows = found[:MOST]
    figure, axes = canvas(len(rows))
    for number, row in enumerate(rows):
        _draw(axes, number, row.use, told=len(rows) <= LABELLED)
    label_rows(axes, [(row.group, row.name) for row in rows])
    axes.set_xlim(0, 100)
    axes.set_xlabel("share of the volume (%)")
    more = f"; {len(found) - len(rows)} more volumes are not drawn" if len(found) > MOST else ""
    axes.set_title(f"{headline(devices)}{more}", loc="left")
    legend(axes)
    yield finished(figure, kind, result.caption)


def _draw(axes: Any, at: int, use: VolumeUse, *, told: bool) -> None:
    capacity, x = use.capacity or 1, 0.0
    high = 0.62 if told else 1.0
    axes.barh(at, 100, height=high, **FREE)
    for share in use.holds:
        wide = 100 * share.size / capacity
        look = {"color": COLOURS[share.content], "hatch": HATCHED.get(share.content)}
        edge = "white" if told else "none"
        axes.barh(at, wide, left=x, height=high, linewidth=0.4, edgecolor=edge, **look)
        x += wide
    if use.needs:
        line, lack = 100 * (1 - use.needs / capacity), short(use)
        shown = max(0.0, line)
        axes.plot([shown, shown], [at - 0.45, at + 0.45], color=BAD if lack else GOOD,
                  linewidth=2.2, linestyle=":" if lack else "-")  # fmt: skip
    if told:
        free = f"{show_mib(use.free or 0)} free of {show_mib(capacity)}"
        needs = f"; target {show_mib(use.needs)}" if use.needs else ""
        axes.text(100.6, at, free + needs + (": NO SPACE" if short(use) else ""), va="center",
                  fontsize=8.5, color="#333333")  # fmt: skip


def legend(axes: Any) -> None:
    """The key beneath a figure of flash."""
    beneath(axes, keys("highest use with space for the target", "the same, exceeded"), 4)


def keys(line: str, missed: str, *, hatched: bool = True) -> list[Any]:
    """What the colours mean, and the line, reached or missed, which come last."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    found: list[Any] = [
        Patch(facecolor=COLOURS[each], hatch=HATCHED.get(each) if hatched else None,
              edgecolor="white", label=each)
        for each in CONTENTS
    ]  # fmt: skip
    found.append(Patch(facecolor="#f1f1f1", edgecolor="#d0d0d0", label="free"))
    found.append(Line2D([0], [0], color=GOOD, linewidth=2.2, label=line))
    found.append(Line2D([0], [0], color=BAD, linewidth=2.2, linestyle=":", label=missed))
    return found


def text(result: FlashFigure, view: View) -> Iterator[str]:
    """Go through the lines: a bar a volume, what is used of it, and what the target needs."""
    devices, wide, plain = result.devices, width(), view.plain
    yield headline(devices)
    rows = rows_of(devices)
    yield "Flash use, fullest first; `target` = space that the target image still needs:"
    name = min(max((len(visible(row.name)) for row in rows), default=0), 30)
    tails = [_tail(row.use) for row in rows]
    long = max(10, wide - name - 6 - max(map(len, tails), default=0))
    group = ""
    for row, tail in zip(rows, tails, strict=True):
        if len(rows) > LABELLED and row.group != group:
            group = row.group
            yield visible(group)
        used = 1 - (row.use.free or 0) / (row.use.capacity or 1)
        yield f"  {fitted(visible(row.name), name)} [{bar(used, long, plain=plain)}] {tail}"


def _tail(use: VolumeUse) -> str:
    """What is told behind the bar of a volume."""
    free = use.free or 0
    told = f"{show_mib(free)} free, {show_share(free, use.capacity or 1)}"
    needs = f"; target {show_mib(use.needs)}" if use.needs else ""
    return told + needs + (" NO ROOM" if short(use) else "")

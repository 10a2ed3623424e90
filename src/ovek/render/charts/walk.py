"""The boot walk of one device as a drawn path, with what-ifs beside it."""

import textwrap
from collections.abc import Iterator
from typing import Any

from ovek.model.results.figures import WalkFigure
from ovek.model.walk import MemberWalk
from ovek.render.bootwalk import falls, result_of, starts_of
from ovek.render.charts import BAD, GOOD, plot
from ovek.render.lines import shortened
from ovek.render.view import View
from ovek.render.visible import visible

_WIDE, _HIGH, _GAP = 3.9, 0.62, 0.34  # inches of a box, and between two
_UNSURE = "#8a5a00"


def draw(result: WalkFigure, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`; each walk with what is taken to be so, one beside the other."""
    walks = result.walks
    paths = [
        (told if len(walk.members) == 1 else f"{told}: member {member.member}", member)
        for told, walk in walks
        for member in walk.members
    ]
    steps = max((len(member.tried) for _, member in paths), default=0) + 1
    high = 1.5 + steps * (_HIGH + _GAP)
    wide = max(6.4, 0.4 + len(paths) * (_WIDE + 0.4))
    figure, axes = plot.pyplot().subplots(figsize=(wide, high), dpi=100)
    axes.set_xlim(0, wide)
    axes.set_ylim(high - 0.4, 0)
    axes.axis("off")
    figure.subplots_adjust(left=0, right=1, bottom=0, top=1)
    for number, (told, member) in enumerate(paths):
        _path(axes, 0.3 + number * (_WIDE + 0.4), told, member)
    device = visible(walks[0][1].device) if walks else ""
    axes.text(0.3, 0.3, f"Next boot of {device}", fontsize=12, va="center")
    figure.text(0.02, 0.012, visible(result.caption), fontsize=8, color="#555555")
    yield plot.saved(figure, kind, bbox_inches="tight")


def _path(axes: Any, x: float, text: str, member: MemberWalk) -> None:
    y = 1.0
    named = "\n".join(textwrap.wrap(visible(text), 44)[:2])
    axes.text(x, y - 0.12, named, fontsize=9.5, weight="bold", va="bottom")
    for candidate in member.tried:
        lost = falls(candidate)
        sure = candidate.result != "unknown"
        mark, colour = ("✗", BAD) if lost else ("✓", GOOD) if sure else ("?", _UNSURE)
        place = shortened(visible(candidate.place), 38)
        lines = (f"{mark} {candidate.origin}: {place}", result_of(candidate))
        _box(axes, x, y, lines, colour, dashed=lost)
        _arrow(axes, x, y)
        y += _HIGH + _GAP
    ends = {"proven": ("✓", GOOD), "stranded": ("✗", BAD)}
    mark, colour = ends.get(member.outcome, ("?", _UNSURE))
    first, second = [*textwrap.wrap(f"{member.outcome}: {starts_of(member)}", 44), "", ""][:2]
    _box(axes, x, y, (f"{mark} {first}", second), colour, dashed=False, end=True)


def _box(
    axes: Any, x: float, y: float, lines: tuple[str, str], colour: str, *, dashed: bool,
    end: bool = False,
) -> None:  # fmt: skip
    from matplotlib.patches import FancyBboxPatch

    axes.add_patch(
        FancyBboxPatch(
            (x + 0.06, y + 0.06), _WIDE - 0.12, _HIGH - 0.12, boxstyle="round,pad=0.06",
            facecolor="#f3f6f8" if end else "white", edgecolor=colour,
            linewidth=2.4 if end else 1.5, linestyle="--" if dashed else "-",
        )
    )  # fmt: skip
    axes.text(x + 0.14, y + 0.2, lines[0], fontsize=8.8, va="center", weight="bold", color=colour)
    axes.text(x + 0.14, y + 0.42, lines[1], fontsize=8.8, va="center", color="#333333")


def _arrow(axes: Any, x: float, y: float) -> None:
    axes.annotate(
        "", xy=(x + 0.5, y + _HIGH + _GAP - 0.01), xytext=(x + 0.5, y + _HIGH + 0.01),
        arrowprops={"arrowstyle": "-|>", "color": "#555555", "linewidth": 1.4},
    )  # fmt: skip

"""Figures, as PNG or SVG by Matplotlib, and as text for a terminal: one module each.

They read in grey and without telling red from green: what is meant is told by lightness, hatching,
shape or a label, too. A caption says when it was drawn, and from what.
"""

from collections.abc import Iterator, Sequence
from typing import Any

from ovek.render.charts import plot
from ovek.render.visible import visible

LABELLED = 60  # rows that have a label each; of more only the groups do
MOST = 1_000  # rows that are drawn at all
DARK, MIDDLE, LIGHT, EDGE = "#1b4965", "#5fa8d3", "#dfe6ec", "#9aa7b3"
GOOD, BAD = "#1a7f37", "#c1121f"


def canvas(rows: int, *, least: float = 3.2, more: float = 1.9) -> tuple[Any, Any]:
    """A figure with axes for so many rows, each as high as its label needs where it has one."""
    high = 0.36 * rows if rows <= LABELLED else max(0.05 * rows, 0.36 * LABELLED)
    figure, axes = plot.pyplot().subplots(figsize=(12.8, max(least, more + high)), dpi=100)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    return figure, axes


def label_rows(axes: Any, rows: Sequence[tuple[str, str]]) -> None:
    """Label rows of (group, name): each, or where there are many of them each group.

    A group that is too thin for a label has none.
    """
    axes.set_ylim(len(rows) - 0.4, -0.6)
    if len(rows) <= LABELLED:
        axes.set_yticks(range(len(rows)), [visible(name) for _, name in rows])
        return
    high = axes.get_figure().get_size_inches()[1] / len(rows)
    ticks, names = [], []
    for group, first, last in _groups(rows):
        if (last - first + 1) * high >= 0.2:
            ticks.append((first + last) / 2)
            names.append(visible(group))
        axes.axhline(last + 0.5, color=EDGE, linewidth=0.6)
    axes.set_yticks(ticks, names)


def _groups(rows: Sequence[tuple[str, str]]) -> Iterator[tuple[str, int, int]]:
    """Go through runs of rows of one group: its name, its first and last row."""
    first = 0
    for at in range(1, len(rows) + 1):
        if at == len(rows) or rows[at][0] != rows[first][0]:
            yield rows[first][0], first, at - 1
            first = at


def beneath(axes: Any, handles: Sequence[Any], columns: int) -> None:
    """The key of a figure, beneath its axes, whatever height those have."""
    axes.legend(handles=handles, loc="upper center", bbox_to_anchor=(0.5, 0), borderaxespad=5.2,
                ncol=columns, frameon=False, fontsize=8.5)  # fmt: skip


def finished(figure: Any, kind: str, caption: str) -> bytes:
    """The figure with its caption, as `png` or `svg`."""
    figure.tight_layout(rect=(0, 0.25 / figure.get_size_inches()[1], 1, 1))
    figure.text(0.01, 0.05 / figure.get_size_inches()[1], visible(caption), fontsize=8,
                color="#555555")  # fmt: skip
    return plot.saved(figure, kind, bbox_inches="tight")


def bar(share: float, wide: int, *, plain: bool, full: str = "█", empty: str = "░") -> str:
    """A share (0 to 1) of a bar of text; in plain ASCII on request.

    >>> bar(0.5, 8, plain=True)
    '####....'
    """
    number = min(wide, max(0, round(share * wide)))
    if plain:
        full, empty = "#", "."
    return full * number + empty * (wide - number)


def fitted(text: str, columns: int) -> str:
    """A text that is as wide as its column, cut in its middle where it is wider."""
    from rich.cells import cell_len

    from ovek.render.lines import shortened

    told = shortened(text, columns)
    return told + " " * (columns - cell_len(told))

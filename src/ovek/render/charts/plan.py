"""A figure of flash: what each volume holds by role, what goes, and the line to be reached.

PNG or SVG, drawn with Matplotlib. One bar a volume, the fullest first; at most forty fit.
"""

from collections.abc import Sequence
from typing import Any

from ovek.model.plan import CleanupPlan
from ovek.model.sheet import Role
from ovek.render.charts import plot
from ovek.render.cleanup import names_of
from ovek.render.visible import visible

MOST = 40
# Colours that also differ in grey and for those who do not tell red from green.
COLOURS: dict[str, str] = {
    "running or next": "#1b4965",
    "system image": "#5fa8d3",
    "package": "#9ccbe6",
    "part image": "#62b6a5",
    "configuration, licence, key": "#7b6d8d",
    "leftover, log, crash file": "#d9822b",
    "not known": "#9a9a9a",
    "other": "#cfcfcf",
}
_KINDS: dict[Role, str] = {
    "system-image": "system image",
    "set-file": "system image",
    "package": "package",
    "part-image": "part image",
    "configuration": "configuration, licence, key",
    "licence": "configuration, licence, key",
    "key": "configuration, licence, key",
    "crash-file": "leftover, log, crash file",
    "log": "leftover, log, crash file",
    "leftover": "leftover, log, crash file",
    "unknown": "not known",
}
_GIB, _MIB = 2**30, 2**20


def draw(kind: str, plans: Sequence[CleanupPlan]) -> bytes:
    """The figure as `png` or `svg`; a volume without a plan is not drawn."""
    pyplot = plot.pyplot()
    named = list(zip(names_of(plans), plans, strict=True))
    known = [(name, plan) for name, plan in named if plan.capacity and plan.short_by is not None]
    known.sort(key=lambda pair: (pair[1].free or 0) / (pair[1].capacity or 1))
    shown = known[:MOST]
    figure, axes = pyplot.subplots(figsize=(12.8, max(3.2, 1.9 + 0.36 * len(shown))), dpi=100)
    for at, (_, plan) in enumerate(shown):
        _bar(axes, at, plan)
    axes.set_yticks(range(len(shown)), [visible(name.rstrip(":")) for name, _ in shown])
    axes.invert_yaxis()
    axes.set_xlim(0, 100)
    axes.set_xlabel("share of the volume (%)")
    left = len(plans) - len(shown)
    told = f"{len(shown)} volumes" if len(shown) != 1 else "1 volume"
    more = f"; {left} more are not drawn" if left else ""
    short = sum(not plan.enough for _, plan in shown)
    wrong = f"; short of room: {short}" if short else ""
    axes.set_title(f"What is on flash, and what goes: {told}{wrong}{more}", loc="left")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    _legend(axes)
    figure.tight_layout()
    return plot.saved(figure, kind, bbox_inches="tight")


def _bar(axes: Any, at: int, plan: CleanupPlan) -> None:
    """One volume: what stays by role, what goes (hatched), what is free, and the line."""
    capacity = plan.capacity or 1
    sizes: dict[tuple[str, bool], int] = {}
    for keep in plan.keep:
        kind = _KINDS.get(keep.role, "other")
        if any(why.startswith(("running", "the next start")) for why in keep.why):
            kind = "running or next"
        sizes[kind, False] = sizes.get((kind, False), 0) + (keep.size or 0)
    for drop in plan.drop:
        kind = _KINDS.get(drop.role, "other")
        sizes[kind, True] = sizes.get((kind, True), 0) + drop.frees
    x = 0.0
    order = [(kind, goes) for goes in (False, True) for kind in COLOURS]
    for kind, goes in order:
        share = 100 * sizes.get((kind, goes), 0) / capacity
        if share:
            style = {"hatch": "////", "edgecolor": "white"} if goes else {"edgecolor": "white"}
            axes.barh(at, share, left=x, height=0.62, color=COLOURS[kind], linewidth=0.6, **style)
            x += share
    used = 100 * (1 - (plan.free or 0) / capacity)
    free = {"color": "#f1f1f1", "edgecolor": "#d0d0d0", "linewidth": 0.6, "zorder": 0}
    axes.barh(at, max(0.0, 100 - used), left=used, height=0.62, **free)
    line = 100 * (1 - plan.wanted / capacity)
    if line >= 0:
        colour = "#1a7f37" if plan.enough else "#c1121f"
        axes.plot([line, line], [at - 0.42, at + 0.42], color=colour, linewidth=2.2)
    shown = _size(plan.free or 0)
    if plan.drop or not plan.enough:
        shown += f" → {_size(plan.free_after or 0)}"
    text = f"{shown} free of {_size(capacity)}"
    axes.text(100.6, at, text, va="center", fontsize=8.5, color="#333333")


def _size(size: int) -> str:
    if size >= _GIB:
        return f"{size / _GIB:.2f} GiB"
    return f"{size / _MIB:.0f} MiB"


def _legend(axes: Any) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = [
        Patch(color=colour, label=kind) for kind, colour in COLOURS.items() if kind != "other"
    ]
    handles.append(Patch(facecolor="#bbbbbb", hatch="////", edgecolor="white", label="goes"))
    handles.append(Patch(facecolor="#f1f1f1", edgecolor="#d0d0d0", label="free"))
    handles.append(
        Line2D([0], [0], color="#1a7f37", linewidth=2.2, label="what is left has to end here")
    )
    handles.append(Line2D([0], [0], color="#c1121f", linewidth=2.2, label="and cannot"))
    axes.legend(handles=handles, loc="upper center", bbox_to_anchor=(0.5, -0.16), ncol=6,
                frameon=False, fontsize=8.5)  # fmt: skip

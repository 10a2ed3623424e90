"""What a cleanup would do to each flash: what stays, what goes, and the line to reach."""

from collections.abc import Iterator
from typing import Any

from ovek.model.flash import CONTENTS, Content, content_of
from ovek.model.plan import NEXT_BOOT, RUNNING, CleanupPlan
from ovek.model.results.cleanup import CleanupPlans, FleetCleanup
from ovek.model.size import show_mib
from ovek.render.charts import BAD, GOOD, MOST, beneath, canvas, finished, label_rows
from ovek.render.charts.flash import COLOURS, FREE, keys
from ovek.render.cleanup import names_of
from ovek.render.view import View

_GOES = "////"
_AT = 0.62  # how high a bar is, where each has a label


def draw(result: CleanupPlans | FleetCleanup, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`, the fullest first; a volume without a plan is not drawn."""
    plans = list(result.plans)
    named = list(zip(names_of(plans), plans, strict=True))
    known = [(name, plan) for name, plan in named if plan.capacity and plan.short_by is not None]
    known.sort(key=lambda pair: (pair[1].free or 0) / (pair[1].capacity or 1))
    shown = known[:MOST]
    figure, axes = canvas(len(shown))
    for number, (_, plan) in enumerate(shown):
        _bar(axes, number, plan)
    label_rows(axes, [("", name.rstrip(":")) for name, _ in shown])
    axes.set_xlim(0, 100)
    axes.set_xlabel("share of the volume (%)")
    left = len(plans) - len(shown)
    text = f"{len(shown)} volumes" if len(shown) != 1 else "1 volume"
    more = f"; {left} more are not drawn" if left else ""
    short = sum(not plan.enough for _, plan in shown)
    wrong = f"; too little space: {short}" if short else ""
    axes.set_title(f"Flash contents and files to delete: {text}{wrong}{more}", loc="left")
    _legend(axes)
    yield finished(figure, kind, result.caption)


def _bar(axes: Any, at: int, plan: CleanupPlan) -> None:
    """One volume: what stays by content, what goes (hatched), what is free, and the line."""
    capacity = plan.capacity or 1
    sizes: dict[tuple[Content, bool], int] = {}
    for keep in plan.keep:
        content = content_of(keep.role)
        if RUNNING in keep.why or NEXT_BOOT in keep.why:
            content = "running or next"
        sizes[content, False] = sizes.get((content, False), 0) + (keep.size or 0)
    for drop in plan.drop:
        content = content_of(drop.role)
        sizes[content, True] = sizes.get((content, True), 0) + drop.frees
    x = 0.0
    for goes in (False, True):
        for content in CONTENTS:
            share = 100 * sizes.get((content, goes), 0) / capacity
            hatch = _GOES if goes else None
            axes.barh(at, share, left=x, height=_AT, color=COLOURS[content], linewidth=0.6,
                      edgecolor="white", hatch=hatch)  # fmt: skip
            x += share
    used = 100 * (1 - (plan.free or 0) / capacity)
    axes.barh(at, max(0.0, 100 - used), left=used, height=_AT, **FREE)
    line = 100 * (1 - plan.wanted / capacity)
    if line >= 0:
        colour, style = (GOOD, "-") if plan.enough else (BAD, ":")
        axes.plot([line, line], [at - 0.42, at + 0.42], color=colour, linewidth=2.2,
                  linestyle=style)  # fmt: skip
    shown = show_mib(plan.free or 0)
    if plan.drop or not plan.enough:
        shown += f" → {show_mib(plan.free_after or 0)}"
    text = f"{shown} free of {show_mib(capacity)}"
    axes.text(100.6, at, text, va="center", fontsize=8.5, color="#333333")


def _legend(axes: Any) -> None:
    from matplotlib.patches import Patch

    goes = Patch(facecolor="#bbbbbb", hatch=_GOES, edgecolor="white", label="to delete")
    handles = keys("highest use allowed", "the same, out of reach", hatched=False)
    beneath(axes, [*handles[:-2], goes, *handles[-2:]], 4)

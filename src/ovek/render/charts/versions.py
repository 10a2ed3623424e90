"""Which versions run where, against the target: a bar a site, a piece a version."""

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Literal

from ovek.model.charted import Charted
from ovek.model.results.figures import VersionsFigure
from ovek.render.charts import (
    DARK,
    EDGE,
    LIGHT,
    MIDDLE,
    MOST,
    bar,
    beneath,
    canvas,
    finished,
    fitted,
)
from ovek.render.lines import count, shortened, width
from ovek.render.view import View
from ovek.render.visible import visible

VersionState = Literal["on target", "another", "no target"]
_LOOKS: dict[VersionState, tuple[str, str]] = {
    "on target": (DARK, ""),
    "another": (MIDDLE, "///"),
    "no target": (LIGHT, ""),
}
STATES: tuple[VersionState, ...] = ("on target", "another", "no target")


def _state(device: Charted) -> VersionState:
    if device.target is None:
        return "no target"
    return "on target" if device.on_target else "another"


def _runs(device: Charted) -> str:
    return (
        " / ".join(dict.fromkeys(each.running or "unknown" for each in device.boots)) or "unknown"
    )


def by_site(devices: Sequence[Charted]) -> dict[str, Counter[tuple[VersionState, str]]]:
    """How many devices of each site run which version, by how that stands to their target."""
    found: dict[str, Counter[tuple[VersionState, str]]] = {}
    for device in devices:
        ours = found.setdefault(device.site or "no site", Counter())
        ours[_state(device), _runs(device)] += 1
    return dict(sorted(found.items(), key=lambda each: (-each[1].total(), each[0])))


def _pieces(ours: Counter[tuple[VersionState, str]]) -> list[tuple[VersionState, str, int]]:
    """The pieces of a bar: those on target first, most devices first."""
    order = sorted(ours.items(), key=lambda one: (STATES.index(one[0][0]), -one[1], one[0][1]))
    return [(state, version, number) for (state, version), number in order]


def headline(devices: Sequence[Charted]) -> str:
    """The answer: how many are on their target: run it, and start it again."""
    states = Counter(map(_state, devices))
    wanted = states["on target"] + states["another"]
    headline = f"{states['on target']} of {count(wanted, 'device')} on their target"
    return headline + (f"; {states['no target']} have none." if states["no target"] else ".")


def draw(result: VersionsFigure, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`."""
    devices = result.devices
    from matplotlib.patches import Patch

    found = list(by_site(devices).items())[:MOST]
    figure, axes = canvas(min(len(found), 60))
    most, wide = max((ours.total() for _, ours in found), default=1), 1.02
    for at, (_, ours) in enumerate(found):
        x, untold = 0, []
        for state, version, number in _pieces(ours):
            colour, hatch = _LOOKS[state]
            axes.barh(at, number, left=x, height=0.66, color=colour, hatch=hatch, edgecolor="white",
                      linewidth=1.2)  # fmt: skip
            label = f"{visible(version)} × {number}"
            if len(found) <= 60 and number / most * 100 > len(label):
                box = None if state != "another" else {"facecolor": MIDDLE, "pad": 1, "lw": 0}
                axes.text(x + number / 2, at, label, ha="center", va="center", fontsize=8.5,
                          color="white" if state == "on target" else "black", bbox=box)  # fmt: skip
            else:
                untold.append(f"{visible(version)} × {number}")
            x += number
        if untold and len(found) <= 60:
            told = shortened(", ".join(untold), 40)
            axes.text(x + most / 120, at, told, va="center", fontsize=8.5, color="#333333")
            wide = max(wide, x / most + 0.34)
    every = max(1, len(found) // 60)
    ticks = range(0, len(found), every)
    axes.set_yticks(ticks, [visible(found[at][0]) for at in ticks])
    axes.set_ylim(len(found) - 0.4, -0.6)
    axes.set_xlim(0, most * wide)
    axes.set_xlabel("devices")
    axes.xaxis.get_major_locator().set_params(integer=True)
    axes.set_title(f"Running versions: {headline(devices)}", loc="left")
    handles = [
        Patch(facecolor=colour, hatch=hatch, edgecolor=EDGE if state == "no target" else "white",
              label={"another": "another version than the target"}.get(state, state))
        for state, (colour, hatch) in _LOOKS.items()
    ]  # fmt: skip
    beneath(axes, handles, 3)
    yield finished(figure, kind, result.caption)


def text(result: VersionsFigure, view: View) -> Iterator[str]:
    """Go through the lines: a site each, what share of it is on target, and its versions."""
    devices, wide, plain = result.devices, width(), view.plain
    yield headline(devices)
    found = by_site(devices)
    name = min(max((len(visible(site)) for site in found), default=0), 24)
    for site, ours in found.items():
        wanted = sum(number for (state, _), number in ours.items() if state != "no target")
        on_target = sum(number for (state, _), number in ours.items() if state == "on target")
        shown = bar(on_target / wanted if wanted else 0, 16, plain=plain)
        told = f"{on_target} of {wanted}" if wanted else "no target"
        mark = {"on target": " (target)", "another": "", "no target": ""}
        versions = ", ".join(
            f"{visible(version)}{mark[state]}: {number}" for state, version, number in _pieces(ours)
        )
        line = f"  {fitted(visible(site), name)} [{shown}] {told:<10} {versions}"
        yield line if len(line) <= wide else line[: wide - 1] + ("~" if plain else "…")

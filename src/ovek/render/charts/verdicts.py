"""The verdict of every image across a fleet: devices by images."""

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import get_args

from ovek.model.charted import Charted
from ovek.model.results.figures import VerdictsFigure
from ovek.model.verdict import Verdict
from ovek.render.charts import LABELLED, MOST, bar, canvas, finished, fitted, label_rows
from ovek.render.lines import count, shortened
from ovek.render.view import View
from ovek.render.visible import visible

_COLUMNS = 40
# From light to dark, so that they read in grey; a letter tells them, too, where there is room.
LOOKS: dict[Verdict, tuple[str, str]] = {
    "proven": ("P", "#c4e5cf"),
    "matched": ("m", "#b9d3ea"),
    "unverified": ("?", "#f0d9a8"),
    "unlisted": ("u", "#c9a4cf"),
    "disputed": ("d", "#b0793c"),
    "truncated": ("T", "#b3261e"),
    "altered": ("A", "#4a0d0d"),
}
WORST_FIRST: tuple[Verdict, ...] = tuple(reversed(LOOKS))
assert set(LOOKS) == set(get_args(Verdict))


def headline(devices: Sequence[Charted]) -> str:
    """The answer: how many copies are wrong, and how many are proven."""
    found = Counter(image.verdict for one in devices for image in one.images)
    wrong = found["altered"] + found["truncated"]
    told = f"{found['proven']} of {count(found.total(), 'copy').replace('copys', 'copies')} proven"
    return f"{told}, {wrong} bad." if wrong else f"{told}, none bad."


def _cells(device: Charted) -> dict[str, Verdict]:
    """The worst verdict of each image on a device."""
    found: dict[str, Verdict] = {}
    for image in sorted(device.images, key=lambda each: -WORST_FIRST.index(each.verdict)):
        found[image.name] = image.verdict
    return found


def draw(result: VerdictsFigure, view: View, kind: str) -> Iterator[bytes]:
    """The figure as `png` or `svg`: a row a device, a column an image, those on most first."""
    devices = result.devices
    from matplotlib.colors import BoundaryNorm, ListedColormap
    from matplotlib.patches import Patch

    rows = [(one.site or "no site", one.device, _cells(one)) for one in devices]
    if len(rows) > LABELLED:
        rows.sort(key=lambda row: (row[0], row[1]))
    left, rows = max(0, len(rows) - MOST), rows[:MOST]
    known = Counter(name for _, _, cells in rows for name in cells)
    names = [name for name, _ in known.most_common(_COLUMNS)]
    order = list(LOOKS)
    grid = [
        [order.index(cells[name]) + 1 if name in cells else 0 for name in names]
        for _, _, cells in rows
    ]
    figure, axes = canvas(len(rows), least=4.6, more=3.4)
    if names:
        colours = ListedColormap(["#ffffff", *(colour for _, colour in LOOKS.values())])
        norm = BoundaryNorm([number - 0.5 for number in range(len(LOOKS) + 2)], len(LOOKS) + 1)
        axes.imshow(grid, aspect="auto", cmap=colours, norm=norm, interpolation="nearest")
    label_rows(axes, [(group, name) for group, name, _ in rows])
    if len(rows) <= LABELLED:
        for number, (_, _, cells) in enumerate(rows):
            for column, name in enumerate(names):
                if name in cells:
                    letter, _ = LOOKS[cells[name]]
                    dark = order.index(cells[name]) >= order.index("disputed")
                    axes.text(column, number, letter, ha="center", va="center", fontsize=8.5,
                              color="white" if dark else "black")  # fmt: skip
        axes.set_yticks([number + 0.5 for number in range(len(rows))], minor=True)
        axes.grid(which="minor", axis="y", color="#e8e8e8", linewidth=0.6)
        axes.tick_params(which="minor", length=0)
    shown = [shortened(visible(name), 28) for name in names]
    axes.set_xticks(range(len(names)), shown, rotation=40, ha="right", fontsize=8)
    gone = len(known) - len(names)
    more = f"; {gone} more images are not drawn" if gone else ""
    more += f"; {left} more devices are not drawn" if left else ""
    axes.set_title(f"Images on flash: {headline(devices)}{more}", loc="left")
    handles = [
        Patch(facecolor=colour, edgecolor="#777777", label=f"{letter} {verdict}")
        for verdict, (letter, colour) in LOOKS.items()
    ]
    axes.legend(handles=handles, loc="upper left", bbox_to_anchor=(1.005, 1), frameon=False,
                fontsize=8.5)  # fmt: skip
    yield finished(figure, kind, result.caption)


def text(result: VerdictsFigure, view: View) -> Iterator[str]:
    """Go through the lines: an image each, those with a wrong copy first."""
    devices, plain = result.devices, view.plain
    yield headline(devices)
    found: dict[str, Counter[Verdict]] = {}
    for device in devices:
        for image in device.images:
            found.setdefault(image.name, Counter())[image.verdict] += 1

    def worst(name: str) -> tuple[int, int, str]:
        wrong = found[name]["altered"] + found[name]["truncated"]
        return -wrong, -found[name].total(), name

    name = min(max((len(visible(each)) for each in found), default=0), 34)
    for each in sorted(found, key=worst):
        ours = found[each]
        shown = bar(ours["proven"] / ours.total(), 16, plain=plain)
        told = ", ".join(f"{ours[verdict]} {verdict}" for verdict in WORST_FIRST if ours[verdict])
        yield f"  {fitted(visible(each), name)} [{shown}] {told}"

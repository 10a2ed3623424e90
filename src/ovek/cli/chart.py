"""`ovek chart`: figures of a fleet, as a file or as text in the terminal."""

from pathlib import Path
from typing import Any

import click

from ovek.app.asking import open_site
from ovek.app.figures import figure
from ovek.app.remembering import open_history
from ovek.app.runbooks import runbooks
from ovek.app.walks import walk_figure
from ovek.cli.bootwalk import what_if_options
from ovek.cli.command import CommandGroup
from ovek.cli.figures import draw, figure_options
from ovek.cli.options import SITE, SNAPSHOT, exit_code
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, selecting
from ovek.model.results.figures import FlashFigure, VerdictsFigure, VersionsFigure
from ovek.model.whatif import WhatIf


@click.group("chart", cls=CommandGroup)
def command() -> None:
    """Figures of the fleet: PNG or SVG with -o FILE, otherwise text bars in the terminal."""


def _of_devices(name: str, kind: Any, examples: tuple[str, ...], does: str) -> None:
    """Add a figure that is drawn of devices."""

    @command.command(name, examples=examples, help=does)
    @figure_options
    @SNAPSHOT
    @selecting
    def figure_command(output: Path | None, plain: bool, selected: Selection) -> None:
        devices = selected.devices()
        draw(figure(kind, devices), output, plain)
        exit_code(False, devices)


_of_devices(
    "flash",
    FlashFigure,
    ("chart flash", "chart flash 'arle-*' -o flash.png"),
    "Flash use by content, and space for the target.",
)
_of_devices(
    "versions",
    VersionsFigure,
    ("chart versions", "chart versions -o versions.svg"),
    "Running versions by site, and the target.",
)
_of_devices(
    "verdicts",
    VerdictsFigure,
    ("chart verdicts", "chart verdicts -o verdicts.png"),
    "Verdict of every image on every device, as a matrix.",
)


@command.command(
    "walk",
    examples=("chart walk arle-quay", "chart walk arle-quay -o walk.png"),
)
@what_if_options("Also show: w")
@click.option("--if-saved", is_flag=True, help="Also show: what if the live settings are saved?")
@figure_options
@SNAPSHOT
@selecting
def walk_command(
    if_missing: tuple[str, ...],
    if_bad: tuple[str, ...],
    if_saved: bool,
    output: Path | None,
    plain: bool,
    selected: Selection,
) -> None:
    """Boot walk of one DEVICE as a path, with what-ifs.

    Without a what-if it also shows the walk if the next boot image is bad.
    """
    devices = selected.devices()
    what_ifs = [
        *(WhatIf(missing=(each,)) for each in if_missing),
        *(WhatIf(bad=(each,)) for each in if_bad),
        *([WhatIf(saved=True)] if if_saved else []),
    ]
    draw(walk_figure(devices, what_ifs), output, plain)
    exit_code(False, devices)


@command.command("waves", examples=("chart waves", "chart waves -o waves.png"))
@figure_options
@SNAPSHOT
@selecting
def waves_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """Reload waves over their maintenance windows."""
    devices = selected.devices()
    draw(runbooks(devices), output, plain)
    exit_code(False, devices)


@command.command("trend", examples=("chart trend --last 4w", "chart trend -o trend.svg"))
@click.option(
    "--last", metavar="AGE", default="90d", help="Period to show, e.g. 4w (default: 90d)."
)
@figure_options
@SITE
def trend_command(last: str, output: Path | None, plain: bool, site_folder: Path) -> None:
    """Trend of answers, proven boots and targets, day by day."""
    history = open_history(open_site(site_folder), bar=bytes_bar)
    draw(history.trend(last, opened=True), output, plain)

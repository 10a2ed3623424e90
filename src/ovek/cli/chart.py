"""`ovek chart`: figures of a fleet, as a file or as text in the terminal."""

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from ovek.app.asking import open_site
from ovek.app.figures import figure
from ovek.app.remembering import open_history
from ovek.app.runbooks import runbooks
from ovek.app.walks import walk_figure
from ovek.cli.bootwalk import what_if_options
from ovek.cli.command import Group
from ovek.cli.options import A_PATH, SITE, SNAPSHOT, exit_code, figure_file
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, selecting
from ovek.cli.show import show, show_into, write_lines
from ovek.model.results.figures import FlashFigure, VerdictsFigure, VersionsFigure
from ovek.model.whatif import WhatIf
from ovek.render.view import View


@click.group("chart", cls=Group)
def command() -> None:
    """Figures of the fleet: a PNG or SVG with -o FILE, else bars of text in the terminal."""


def _figure_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add -o and --ascii."""
    output = click.option(
        "-o",
        "--output",
        metavar="FILE",
        type=A_PATH,
        callback=figure_file,
        help="Draw it into this file (.png or .svg).",
    )
    ascii_ = click.option(
        "--ascii", "plain", is_flag=True, help="Bars of plain ASCII in the terminal."
    )
    return output(ascii_(function))


def _drawn(result: object, output: Path | None, plain: bool) -> None:
    """Draw a figure into a file, or show it as text; in ASCII where nothing else can be shown."""
    if output is not None:
        show_into(output, result)
        write_lines([f"Drawn: {output}"])
        return
    encoding = (sys.stdout.encoding or "").lower()
    show(result, "text", View(plain=plain or not encoding.startswith("utf")))


@command.command("flash", examples=("chart flash", "chart flash 'arle-*' -o flash.png"))
@_figure_options
@SNAPSHOT
@selecting
def flash_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """What is on flash by content, to scale, and has the target's image room there?"""
    devices = selected.devices()
    _drawn(figure(FlashFigure, devices), output, plain)
    exit_code(False, devices)


@command.command("versions", examples=("chart versions", "chart versions -o versions.svg"))
@_figure_options
@SNAPSHOT
@selecting
def versions_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """Which versions run at which site, against the target?"""
    devices = selected.devices()
    _drawn(figure(VersionsFigure, devices), output, plain)
    exit_code(False, devices)


@command.command("verdicts", examples=("chart verdicts", "chart verdicts -o verdicts.png"))
@_figure_options
@SNAPSHOT
@selecting
def verdicts_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """What is every image on every flash worth: devices by images?"""
    devices = selected.devices()
    _drawn(figure(VerdictsFigure, devices), output, plain)
    exit_code(False, devices)


@command.command(
    "walk",
    examples=("chart walk arle-quay", "chart walk arle-quay -o walk.png"),
)
@what_if_options("Beside it: w")
@click.option("--if-saved", is_flag=True, help="Beside it: what if the live settings were saved?")
@_figure_options
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
    """The boot walk of one DEVICE as a path, with what-ifs beside it.

    Without a what-if it shows what would happen were the image that starts next bad.
    """
    devices = selected.devices()
    what_ifs = [
        *(WhatIf(missing=(each,)) for each in if_missing),
        *(WhatIf(bad=(each,)) for each in if_bad),
        *([WhatIf(saved=True)] if if_saved else []),
    ]
    _drawn(walk_figure(devices, what_ifs), output, plain)
    exit_code(False, devices)


@command.command("waves", examples=("chart waves", "chart waves -o waves.png"))
@_figure_options
@SNAPSHOT
@selecting
def waves_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """Who reloads when: the waves of the runbooks over their windows."""
    devices = selected.devices()
    _drawn(runbooks(devices), output, plain)
    exit_code(False, devices)


@command.command("trend", examples=("chart trend --last 4w", "chart trend -o trend.svg"))
@click.option("--last", metavar="AGE", default="90d", help="So long back (default: 90d).")
@_figure_options
@SITE
def trend_command(last: str, output: Path | None, plain: bool, site_folder: Path) -> None:
    """How the fleet stood each day, from the history: who goes, is proven, is on target."""
    history = open_history(open_site(site_folder), bar=bytes_bar)
    _drawn(history.trend(last, opened=True), output, plain)

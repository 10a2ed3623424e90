"""What commands that draw a figure have in common."""

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from ovek.cli.options import A_PATH, figure_file
from ovek.cli.show import show, show_into, write_lines
from ovek.render.view import View


def figure_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add -o and --ascii."""
    output = click.option(
        "-o",
        "--output",
        metavar="FILE",
        type=A_PATH,
        callback=figure_file,
        help="Write the figure to this file (.png or .svg).",
    )
    ascii_ = click.option(
        "--ascii", "plain", is_flag=True, help="Use plain ASCII bars in the terminal."
    )
    return output(ascii_(function))


def draw(result: object, output: Path | None, plain: bool) -> None:
    """Draw a figure into a file, or show it as text; in ASCII where nothing else can be shown."""
    if output is not None:
        show_into(output, result)
        write_lines([f"Drawn: {output}"])
        return
    encoding = (sys.stdout.encoding or "").lower()
    show(result, "text", View(plain=plain or not encoding.startswith("utf")))

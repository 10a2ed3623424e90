"""`ovek custody`: where did this image go wrong?"""

from pathlib import Path

import click

from ovek.app.copies import custody
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.options import exit_code, verbose_option
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.shelf import SHELVES
from ovek.cli.show import show
from ovek.render.view import View


@click.command(
    "custody",
    cls=Command,
    examples=("custody ox40-full-7.4.2.img", "custody '*' --where site=Brackness --format json"),
)
@click.argument(
    "image", required=False, metavar="[IMAGE|VERSION|DIGEST|GLOB]", shell_complete=images
)
@SHELVES
@verbose_option("Show images without a wrong copy, too.")
@as_of_options
@on_option
@device_options()
def command(
    image: str | None,
    shelves: tuple[Path, ...],
    verbose: bool,
    selected: Selection,
    form: str,
) -> None:
    """Where did this image go wrong? (default: all images)

    Follows each image from the catalog over the shelf folders, in the order given, to every flash
    (or that of each DEVICE), its copies grouped by equal digest, and names the first hop with a
    wrong one. What no source lists is compared with its other copies. Exit code 1 where a copy is
    wrong.
    """
    devices = selected.devices()
    result = custody(devices, image, shelves)
    show(result, form, View(verbose=verbose))
    wrong = any(one.first_wrong is not None for one in result.images)
    exit_code(wrong or (image is not None and not result.images), devices)

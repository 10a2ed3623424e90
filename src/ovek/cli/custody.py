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
@verbose_option("Also show images without a bad copy.")
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
    """Trace an image from publisher to flash (default: all images).

    Follows each image from the catalog through the shelves (in order) to the flash of every
    device, or of each DEVICE. Copies are grouped by digest; the first hop with a bad copy is
    named. An image that is not in the catalog is compared with its other copies. A shelf is a
    server, folder or stick with images. Exit code 1 if a copy is bad.
    """
    devices = selected.devices()
    result = custody(devices, image, shelves)
    show(result, form, View(verbose=verbose))
    wrong = any(one.first_bad is not None for one in result.images)
    exit_code(wrong or (image is not None and not result.images), devices)

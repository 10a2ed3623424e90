"""`ovek where`: which devices and shelf folders hold this image, version or digest?"""

from pathlib import Path

import click

from ovek.app.copies import locate
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.options import exit_code
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.shelf import SHELVES
from ovek.cli.show import show


@click.command(
    "where",
    cls=Command,
    examples=("where 7.4.2 --where site=Brackness", "where 'ox40-full-7.3*' --format csv"),
)
@click.argument("sought", metavar="IMAGE|VERSION|DIGEST|GLOB", shell_complete=images)
@SHELVES
@as_of_options
@on_option
@device_options("csv")
def command(sought: str, shelves: tuple[Path, ...], selected: Selection, form: str) -> None:
    """Find an image, version or digest on devices (all, or each DEVICE) and shelves.

    Give a file name or glob (also finds renamed copies), a version, or a digest (at least its
    first 6 characters). Exit code 1 if nothing is found.
    """
    devices = selected.devices()
    result = locate(devices, sought, shelves)
    show(result, form)
    exit_code(not result.copies, devices)

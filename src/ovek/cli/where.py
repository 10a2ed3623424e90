"""`ovek where`: which devices and shelf folders hold this image, version or digest?"""

from pathlib import Path

import click
from msgspec.structs import replace

from ovek.app.copies import locate
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.options import ADVISORY, exit_code
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.shelf import SHELVES
from ovek.cli.show import show


@click.command(
    "where",
    cls=Command,
    examples=("where 'ox40-full-7.3*' --format csv", "where --advisory OXW-2026-003"),
)
@click.argument(
    "sought", metavar="IMAGE|VERSION|DIGEST|GLOB", required=False, shell_complete=images
)
@ADVISORY
@SHELVES
@as_of_options
@on_option
@device_options("csv")
def command(
    sought: str | None,
    advisory: str | None,
    shelves: tuple[Path, ...],
    selected: Selection,
    form: str,
) -> None:
    """Find an image, version or digest on devices (all, or each DEVICE) and shelves.

    Give a file name or glob (also finds renamed copies), a version, or a digest (at least its
    first 6 characters). With --advisory all arguments are devices: it finds who runs, boots or
    holds an affected image. Exit code 1 if nothing is found.
    """
    if advisory is None and sought is None:
        raise click.UsageError("give an image, version, digest or glob, or --advisory ID")
    if advisory is not None and sought is not None:
        selected = replace(selected, names=(sought, *selected.names))
    devices = selected.devices()
    result = locate(devices, advisory or sought or "", shelves, by_advisory=advisory is not None)
    show(result, form)
    exit_code(not result.copies, devices)

"""`ovek bootwalk`: what does each device start on next?"""

from collections.abc import Callable
from typing import Any

import click

from ovek.app.walks import boot_walks, severe
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command
from ovek.cli.completing import places
from ovek.cli.options import FAIL_ON, exit_code, verbose_option
from ovek.cli.selection import Selection, device_options
from ovek.cli.show import show
from ovek.model.whatif import WhatIf
from ovek.render.view import View


def what_if_options(front: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Add --if-missing, --if-bad and --if-saved; their help begins with this."""

    def add(function: Callable[..., Any]) -> Callable[..., Any]:
        missing = click.option(
            "--if-missing", multiple=True, metavar="PLACE", shell_complete=places,
            help=f"{front}hat if this file, bank or volume is missing? (Repeatable.)",
        )  # fmt: skip
        bad = click.option(
            "--if-bad", multiple=True, metavar="PLACE", shell_complete=places,
            help=f"{front}hat if this file or bank is bad? (Repeatable.)",
        )  # fmt: skip
        return missing(bad(function))

    return add


@click.command(
    "bootwalk",
    cls=Command,
    examples=("bootwalk arle-quay", "bootwalk brack-hall --if-saved"),
)
@what_if_options("W")
@click.option("--if-saved", is_flag=True, help="What if the live boot settings are saved now?")
@verbose_option()
@as_of_options
@device_options()
@FAIL_ON
def command(
    if_missing: tuple[str, ...],
    if_bad: tuple[str, ...],
    if_saved: bool,
    verbose: bool,
    selected: Selection,
    form: str,
    fail_on: str,
) -> None:
    """Simulate the next boot of each DEVICE (a name or glob; default: all).

    Tries every candidate in the boot loader's order, and says why it boots or fails. The next
    boot is proven, unproven, unknown, or stranded (nothing boots: the device stops in its boot
    loader). What-ifs can be combined; no device is contacted. A PLACE is volume:path, volume: or
    bank:name, with the member in front for one member (2/flash:…).
    """
    devices = selected.devices()
    what_if = WhatIf(missing=if_missing, bad=if_bad, saved=if_saved)
    result = boot_walks(devices, what_if=what_if)
    show(result, form, View(verbose=verbose))
    exit_code(severe(result, fail_on), devices)

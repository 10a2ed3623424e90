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
            help=f"{front}hat if this file, bank or volume were gone?",
        )  # fmt: skip
        bad = click.option(
            "--if-bad", multiple=True, metavar="PLACE", shell_complete=places,
            help=f"{front}hat if this file or bank were bad?",
        )  # fmt: skip
        return missing(bad(function))

    return add


@click.command(
    "bootwalk",
    cls=Command,
    examples=("bootwalk arle-quay", "bootwalk brack-hall --if-saved"),
)
@what_if_options("W")
@click.option("--if-saved", is_flag=True, help="What if the live boot settings were saved now?")
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
    """What does each DEVICE (a name or glob) start on next, and what if? (default: all)

    Tries every candidate as the boot loader would, in order, and gives the reason for each. A
    stranded device counts as critical, an unproven or unknown start as a warning. The what-ifs may
    be repeated and put together; nothing is touched. A PLACE is volume:path, volume: or bank:name,
    with the member in front where one member is meant (2/flash:…).
    """
    devices = selected.devices()
    what_if = WhatIf(missing=if_missing, bad=if_bad, saved=if_saved)
    result = boot_walks(devices, what_if=what_if)
    show(result, form, View(verbose=verbose))
    exit_code(severe(result, fail_on), devices)

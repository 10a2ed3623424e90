"""`ovek survey`: read the devices of the fleet into a snapshot."""

import sys
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

import click

from ovek.app.survey import StoppedError, SurveyOptions, prune, replay, survey
from ovek.cli.command import Command
from ovek.cli.completing import sheets as complete_sheets
from ovek.cli.options import (
    A_PATH,
    TAKE_NEW_KEYS,
    age_of,
    format_option,
    rate_option,
    verbose_option,
)
from ovek.cli.password import ask_password_option
from ovek.cli.progress import SurveyBar, bytes_bar
from ovek.cli.say import say
from ovek.cli.selection import Selection, selecting
from ovek.cli.show import show
from ovek.render.view import View

SECONDS = click.FloatRange(min=0.1, max=86_400)
_AT_ONCE, _TRIES = click.IntRange(1, 1000), click.IntRange(1, 10)
_CAPTURE = "Read one DEVICE from a saved terminal session instead of logging in."
_PRUNE = "Delete snapshots older than AGE (90d) that are not the latest reading of a device."
_REPLAY = "Rebuild the newest snapshot from its saved raw output; read no device."


def _limit(name: str, default: float, does: str) -> Callable[..., Any]:
    return click.option(
        f"--{name}-limit", type=SECONDS, default=default, help=f"Timeout {does}, in seconds."
    )


@click.command("survey", cls=Command, examples=("survey", "survey gannet-bridge --fresh"))
@selecting
@format_option()
@verbose_option("List every device, with warnings.")
@click.option("--at-once", type=_AT_ONCE, default=20, help="Devices read in parallel.")
@click.option(
    "--sheet", metavar="SHEET", shell_complete=complete_sheets, help="Read with this sheet."
)
@click.option("--capture", multiple=True, metavar="FILE", type=A_PATH, help=_CAPTURE)
@click.option("--fresh", is_flag=True, help="Read every digest again; reuse none.")
@click.option("--resume", is_flag=True, help="Continue the last survey if it was interrupted.")
@click.option("--prune", "prune_age", metavar="AGE", callback=age_of, help=_PRUNE)
@click.option("--replay", "replayed", is_flag=True, help=_REPLAY)
@click.option("--evidence/--no-evidence", default=True, help="Save the raw output, compressed.")
@TAKE_NEW_KEYS
@ask_password_option("Ask for the password, once for all devices.")
@click.option("--tries", type=_TRIES, default=3, help="Attempts per device.")
@_limit("connect", 15.0, "for connecting")
@_limit("login", 20.0, "for the login")
@_limit("answer", 60.0, "for an answer")
@_limit("device", 3600.0, "for a whole device")
@rate_option("Limit file transfer to SIZE per second, e.g. 2MiB.")
def command(
    selected: Selection,
    form: str,
    verbose: bool,
    capture: tuple[Path, ...],
    prune_age: timedelta | None,
    replayed: bool,
    ask_password: Callable[[], str] | None,
    **options: Any,
) -> None:
    """Read each DEVICE (a name or glob; default: all) and save a snapshot.

    Logs in to the devices. Only the read-only commands of the device's sheet (the description of
    its kind) are sent; nothing is changed. The snapshot goes to snapshots/, with the raw output
    (evidence) beside it. A device that cannot be read is reported and does not stop the others
    (exit code 3). After Ctrl-C, --resume reads the rest.
    """
    site, names, where = selected.site, selected.names, selected.where
    if prune_age is not None:
        show(prune(site, prune_age), form)
        return
    if replayed:
        result = replay(site, names, where)
    else:
        how = SurveyOptions(
            captures=capture, password=ask_password, watch=SurveyBar, bar=bytes_bar, **options
        )
        try:
            result = survey(site, names, where, how)
        except StoppedError as stopped:
            say(
                f"\novek: stopped: {stopped.done} devices read, {stopped.left} left. Saved so far: "
                f"{stopped.journal}. Continue with: ovek survey --resume",
                err=True,
            )
            sys.exit(3)
    show(result, form, View(verbose=verbose))
    if any(one.result != "read" for one in result.devices):
        sys.exit(3)

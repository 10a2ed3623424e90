"""`ovek runbook`: what is left to do, in which order, how long, and what if the power fails?"""

from pathlib import Path

import click

from ovek.app.runbooks import follow_runbooks, runbooks
from ovek.cli.command import Command
from ovek.cli.completing import aims
from ovek.cli.options import INTO, MAY_DROP, exit_code, figure_option, verbose_option
from ovek.cli.say import tell
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.show import show, show_or_into
from ovek.model.plan import Unlock
from ovek.render.view import View


@click.command(
    "runbook",
    cls=Command,
    examples=("runbook brack-slip", "runbook --for boot --where answer=no-go --format markdown"),
)
@click.option(
    "--for",
    "aim",
    default="all",
    metavar="start|target|VERSION|fallback|tidy",
    shell_complete=aims,
    help="Only the steps for one goal: boot (bootable), target or VERSION (upgrade), fallback (a "
    "second image), tidy (clean flash and settings).",
)
@MAY_DROP
@INTO
@figure_option("Draw the waves over time (.png or .svg).")
@click.option(
    "--confirm",
    "later",
    metavar="SNAPSHOT",
    help="Check the runbooks against this later snapshot: done, not done, unplanned.",
)
@verbose_option("List every step of every device.")
@on_option
@device_options("markdown", "csv", "ical")
def command(
    aim: str,
    may_drop: tuple[Unlock, ...],
    into: Path | None,
    figure: Path | None,
    later: str | None,
    verbose: bool,
    selected: Selection,
    form: str,
) -> None:
    """List the steps that bring each DEVICE (a name or glob; default: all) to policy.

    Steps are in order and were simulated on the latest reading: what to type, what to expect, the
    effect of a power failure, how to undo it, how long it takes. Run it again after each step:
    done steps disappear. Exit code 1 if a step or an open problem is left, or facts are missing.
    """
    devices = selected.devices()
    if later is not None:
        if form not in ("table", "json", "jsonl"):
            raise click.UsageError("--confirm works only with --format table, json or jsonl")
        followed = follow_runbooks(devices, later, aim=aim, may_drop=may_drop)
        show(followed, form)
        exit_code(not followed.as_planned, devices)
        return
    result = runbooks(devices, aim=aim, may_drop=may_drop)
    if into is None and form == "ical" and all(wave.begins is None for wave in result.waves):
        tell(
            "no calendar entries: policy.toml has no reload_in window with times for these devices"
        )
    show_or_into(into, result, form, View(verbose=verbose), figure)
    exit_code(result.something_left, devices)

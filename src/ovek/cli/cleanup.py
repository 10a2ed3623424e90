"""`ovek cleanup`: what may go to make room?"""

from pathlib import Path

import click

from ovek.app.cleanup import CleanupRequest, confirm_cleanup, plan_cleanup, plan_fleet_cleanup
from ovek.app.devices import Devices
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.options import (
    A_PATH,
    INTO,
    MAY_DROP,
    exit_code,
    figure_option,
    size_or_share,
    verbose_option,
)
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.show import show, show_into, show_or_into
from ovek.model.plan import Unlock
from ovek.model.results.cleanup import FleetCleanup
from ovek.render.renderers import shape_for
from ovek.render.view import View


@click.command(
    "cleanup",
    cls=Command,
    examples=(
        "cleanup gannet-bridge --free 60MiB",
        "cleanup --whole-fleet --room-for target --where role=bridge",
    ),
)
@click.option(
    "--free",
    callback=size_or_share,
    metavar="SIZE|PERCENT",
    help="The free space wanted: 600MiB, or a share of the volume: 20%.",
)
@click.option(
    "--room-for",
    metavar="IMAGE|VERSION|target",
    shell_complete=images,
    help="Room for this published file or version, or for policy's target: its size, what it "
    "unpacks to and takes while it is installed, and the reserve.",
)
@click.option(
    "--sweep", type=click.IntRange(1, 6), metavar="TIER", help="Everything up to this tier (1–6)."
)
@MAY_DROP
@click.option("--keep", multiple=True, metavar="GLOB", help="Never offer these files.")
@click.option("--whole-fleet", is_flag=True, help="One line a device, then totals.")
@figure_option("Draw each flash by role, what goes and the line to reach (.png or .svg).")
@click.option(
    "--confirm",
    "confirm_file",
    metavar="SNAPSHOT",
    type=A_PATH,
    help="Hold this later snapshot against the plan: done, not done, done too much.",
)
@INTO
@verbose_option("Name every file that stays, and every step.")
@on_option
@device_options("markdown")
def command(
    free: int | float | None,
    room_for: str | None,
    sweep: int | None,
    may_drop: tuple[Unlock, ...],
    keep: tuple[str, ...],
    whole_fleet: bool,
    figure: Path | None,
    confirm_file: Path | None,
    into: Path | None,
    verbose: bool,
    selected: Selection,
    form: str,
) -> None:
    """What may go on each DEVICE (a name or glob) to make room? (default: all)

    Plans only: Ovek never deletes anything. Nothing that the device needs is offered, and the
    next start is walked again as it would be after each step. `--format markdown` is a checklist.
    Exit code 1 where a plan is not enough, or is not done when it is held against a snapshot.
    """
    asked = CleanupRequest(
        free=free if isinstance(free, int) else None,
        share=free if isinstance(free, float) else None,
        image=room_for,
        sweep=sweep,
        may_drop=frozenset(may_drop),
        keep=keep,
    )
    asked.check()
    if whole_fleet and confirm_file is not None:
        raise click.UsageError("--whole-fleet takes no --confirm; leave one of them out")
    devices = selected.devices()
    if whole_fleet and form != "markdown" and into is None:
        _whole_fleet(devices, asked, figure, form)
        return
    if confirm_file is not None:
        confirmed = confirm_cleanup(devices, asked, confirm_file)
        show(confirmed, form)
        exit_code(not confirmed.as_planned)
        return
    result = plan_cleanup(devices, asked, steps=not whole_fleet)
    show_or_into(into, result, form, View(verbose=verbose), figure)
    exit_code(not result.enough, devices)


def _whole_fleet(devices: Devices, asked: CleanupRequest, figure: Path | None, form: str) -> None:
    """One line a device, then totals."""
    shape = shape_for(FleetCleanup, form, View()) if figure is None else None
    result = plan_fleet_cleanup(devices, asked, shape=shape)
    if figure is not None:
        show_into(figure, result)
    show(result, form)
    exit_code(bool(result.totals.short or result.totals.no_plan), devices)

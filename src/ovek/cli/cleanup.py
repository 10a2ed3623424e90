"""`ovek cleanup`: what may go to make room?"""

from pathlib import Path

import click

from ovek.app.cleanup import CleanupRequest, confirm_cleanup, plan_cleanup, plan_fleet_cleanup
from ovek.app.devices import Devices
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.options import (
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

_CONFIRM = "Check the plan against this later snapshot: done, not done, deleted in excess."
_ROOM_FOR = "Space for this image or version, or for policy's target, with the reserve."
_SWEEP = (
    "Delete every file up to this tier: 1 leftovers, 2 duplicates, 3 and 4 old images, 5 fallback, "
    "6 running image."
)


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
    help="Free space to reach, e.g. 600MiB or 20% of the volume.",
)
@click.option("--room-for", metavar="IMAGE|VERSION|target", shell_complete=images, help=_ROOM_FOR)
@click.option("--sweep", type=click.IntRange(1, 6), metavar="TIER", help=_SWEEP)
@MAY_DROP
@click.option(
    "--keep", multiple=True, metavar="GLOB", help="Never delete files that match GLOB (repeatable)."
)
@click.option("--whole-fleet", is_flag=True, help="Totals first, then one line per volume.")
@figure_option("Draw each flash: contents, files to delete, highest use allowed (.png or .svg).")
@click.option("--confirm", "later", metavar="SNAPSHOT", help=_CONFIRM)
@INTO
@verbose_option("List every file that is kept, and every step.")
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
    later: str | None,
    into: Path | None,
    verbose: bool,
    selected: Selection,
    form: str,
) -> None:
    """Plan which files can be deleted on each DEVICE (a name or glob; default: all).

    Ovek deletes nothing. Files the device needs are protected (never offered); the fallback and
    the running image are locked (offered only with --may-drop). The next boot is simulated again
    after each step. `--format markdown` is a checklist. Exit code 1 if a plan is not enough, or
    with --confirm if it was not carried out.
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
    if whole_fleet and later is not None:
        raise click.UsageError("--whole-fleet and --confirm cannot be combined")
    devices = selected.devices()
    if whole_fleet and form != "markdown" and into is None:
        _whole_fleet(devices, asked, figure, form)
        return
    if later is not None:
        confirmed = confirm_cleanup(devices, asked, later)
        show(confirmed, form)
        exit_code(not confirmed.as_planned)
        return
    result = plan_cleanup(devices, asked, steps=not whole_fleet)
    show_or_into(into, result, form, View(verbose=verbose), figure)
    exit_code(not result.enough, devices)


def _whole_fleet(devices: Devices, asked: CleanupRequest, figure: Path | None, form: str) -> None:
    """Totals first, then one line per volume."""
    shape = shape_for(FleetCleanup, form, View()) if figure is None else None
    result = plan_fleet_cleanup(devices, asked, shape=shape)
    if figure is not None:
        show_into(figure, result)
    show(result, form)
    exit_code(bool(result.totals.short or result.totals.no_plan), devices)

"""`ovek cleanup`: what may go to make room?"""

import sys
from difflib import get_close_matches
from pathlib import Path

import click

from ovek.cli.options import Devices, size_option, snapshot_options, write_bytes, write_lines
from ovek.cli.shelf import shelf_facts
from ovek.engine.cleanup import PlanDefectError, plan_device
from ovek.engine.verdicts import fits, judge_device
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.model.verdict import KnownRelease
from ovek.render.visible import visible


@click.command("cleanup")
@click.argument("device", nargs=-1)
@click.option(
    "--free", callback=size_option, metavar="SIZE", help="The free space wanted, like 600MiB."
)
@click.option(
    "--room-for",
    metavar="IMAGE",
    help="Room for this published file: its size, what it unpacks to, and the policy's reserve.",
)
@click.option("-v", "--verbose", is_flag=True, help="Name every file that stays.")
@snapshot_options()
def command(
    device: tuple[str, ...],
    free: int | None,
    room_for: str | None,
    verbose: bool,
    site_folder: Path,
    snapshot_file: Path | None,
    format_: str,
) -> None:
    """What may go on each DEVICE to make room? (default: all)

    Plans only: Ovek never deletes anything. Nothing that the device needs is offered, and the
    next start is walked again as it would be after the plan. Exit code 1 where a plan is not
    enough.
    """
    if (free is None) == (room_for is None):
        raise click.UsageError(
            "say how much room is wanted: either --free SIZE or --room-for IMAGE"
        )
    site = Site(site_folder)
    devices = Devices(site, site.snapshot(snapshot_file), device)
    release = None if room_for is None else _release(devices, room_for)
    facts = shelf_facts(site, devices.releases)
    shelf = facts.proven if facts is not None else frozenset()
    plans = []
    for one, judge in devices:
        if release is not None and fits(release, one.hardware) is False:
            if device:
                met = f"{one.device} is {one.hardware.model}, {release.file} is for "
                met += " ".join([*(release.fits or ()), *(release.revisions or ())])
                raise InputError(devices.file, met, "Name an image for this hardware")
            continue
        try:
            plans += plan_device(
                judge_device(one, judge), site.policy, free=free, room_for=release, shelf=shelf
            )
        except PlanDefectError as defect:
            click.echo(f"ovek: {visible(str(defect))}", err=True)
            sys.exit(2)
    if release is not None and not plans:
        met = f"holds no device that {release.file} is for"
        raise InputError(devices.file, met, "Name an image for hardware that is in the fleet")
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.cleanup(plans)])
    else:
        from ovek.render.cleanup import cleanup

        write_lines(cleanup(plans, verbose=verbose))
    if not all(plan.enough for plan in plans):
        sys.exit(1)


def _release(devices: Devices, name: str) -> KnownRelease:
    """The one release of this file name, its size known."""
    folder = devices.site.folder / "catalog"
    found = devices.releases.named(name, case_blind=False)
    if not found:
        near = get_close_matches(name, devices.releases.by_name, n=1)
        do = f"Did you mean {near[0]}?" if near else "Put the release there, with its size"
        raise InputError(folder, f"no source there publishes {name!r}", do)
    if not found[0].sizes:
        met = f"the size of {name} is not published ({', '.join(map(str, found[0].origins))})"
        raise InputError(folder, met, "Add its size, or use --free SIZE")
    return found[0]

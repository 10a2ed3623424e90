"""`ovek bootwalk`: what does each device start on next?"""

import sys
from pathlib import Path

import click

from ovek.cli.options import (
    Devices,
    fail_on_option,
    reaches,
    snapshot_options,
    write_bytes,
    write_lines,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import judge_device
from ovek.files.site import Site
from ovek.model.finding import Severity
from ovek.model.walk import Reload

SEVERITIES: dict[Reload, Severity] = {
    "stranded": "critical",
    "unknown": "warning",
    "unproven": "warning",
}


@click.command("bootwalk")
@click.argument("device", nargs=-1)
@snapshot_options
@fail_on_option
def command(
    device: tuple[str, ...],
    site_folder: Path,
    snapshot_file: Path | None,
    format_: str,
    fail_on: str,
) -> None:
    """What does each DEVICE start on next? (default: all)

    Tries every candidate as the boot loader would, in order, and gives the reason for each. A
    stranded device counts as critical, an unproven or unknown start as a warning.
    """
    site = Site(site_folder)
    devices = Devices(site, site.snapshot(snapshot_file), device)
    walks = [walk_device(judge_device(one, judge)) for one, judge in devices]
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.bootwalk(walks)])
    else:
        from ovek.render.bootwalk import bootwalk

        write_lines(bootwalk(walks))
    if any(reaches(SEVERITIES.get(walk.reload), fail_on) for walk in walks):
        sys.exit(1)

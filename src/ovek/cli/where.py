"""`ovek where`: which devices and shelf folders hold this image, version or digest?"""

from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.cli.options import Devices, exit_code, snapshot_options, write_bytes, write_lines
from ovek.cli.shelf import SHELVES, judged_shelf, shelves_of
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import judge_device
from ovek.engine.where import Sought, on_device, on_shelf
from ovek.files.site import Site
from ovek.model.where import Holding
from ovek.render.unread import Unreads


@click.command("where")
@click.argument("sought", metavar="IMAGE|VERSION|DIGEST|GLOB")
@SHELVES
@snapshot_options("csv")
def command(
    sought: str,
    shelves: tuple[Path, ...],
    site_folder: Path,
    snapshot_file: str | None,
    format_: str,
) -> None:
    """Which devices and shelf folders hold this image, version or digest?

    A name (or glob) means files of that name, and whatever is proven to be that release; a digest,
    or its first six characters or more, whatever has it. Exit code 1 where nothing does.
    """
    site = Site(site_folder)
    devices, wanted = Devices(site, site.state(snapshot_file)), Sought(sought)
    found: list[Holding] = []
    for device, judge in devices:
        judged = judge_device(device, judge)
        found += on_device(judged, walk_device(judged), wanted)
    for name, folder in shelves_of(site, shelves):
        found += on_shelf(
            name, judged_shelf(site, devices.releases, folder, wanted.algorithms), wanted
        )
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.where(sought, found, devices.not_read)])
    elif format_ == "csv":
        from ovek.render.where import as_csv

        write_bytes(as_csv(found))
    else:
        from ovek.render.where import where

        write_lines(where(sought, found, Unreads(devices.not_read, datetime.now(UTC))))
    exit_code(not found, devices)

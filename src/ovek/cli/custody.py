"""`ovek custody`: where did this image go wrong?"""

from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.cli.options import Devices, exit_code, snapshot_options, write_bytes, write_lines
from ovek.cli.shelf import SHELVES, judged_shelf, shelves_of
from ovek.engine import custody
from ovek.engine.verdicts import judge_device
from ovek.files.site import Site
from ovek.render.unread import Unreads


@click.command("custody")
@click.argument("image", required=False, metavar="[IMAGE|VERSION|DIGEST]")
@SHELVES
@click.option("-v", "--verbose", is_flag=True, help="Show images without a wrong copy, too.")
@snapshot_options()
def command(
    image: str | None,
    shelves: tuple[Path, ...],
    verbose: bool,
    site_folder: Path,
    snapshot_file: str | None,
    format_: str,
) -> None:
    """Where did this image go wrong? (default: all images)

    Follows each image from the catalog over the shelf folders, in the order given, to every flash
    of the snapshot, its copies grouped by equal digest, and names the first hop with a wrong one.
    What no source lists is compared with its other copies. Exit code 1 where a copy is wrong.
    """
    site = Site(site_folder)
    devices = Devices(site, site.state(snapshot_file))
    copies = [
        copy for device, judge in devices for copy in custody.on_flash(judge_device(device, judge))
    ]
    measured = {name for _, copy in copies for name, _ in copy.digests}
    for order, (name, folder) in enumerate(shelves_of(site, shelves)):
        judged = judged_shelf(site, devices.releases, folder, measured)
        copies += custody.on_shelf(judged, name, order)
    found = custody.follow(devices.releases, copies)
    if image is not None:
        found = [one for one in found if custody.matches(one, image)]
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.custody(found, devices.not_read)])
    else:
        from ovek.render.custody import custody as lines

        now = datetime.now(UTC)
        write_lines(lines(found, Unreads(devices.not_read, now), verbose=verbose))
    wrong = any(one.first_wrong is not None for one in found)
    exit_code(wrong or (image is not None and not found), devices)

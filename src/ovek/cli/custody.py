"""`ovek custody`: where did this image go wrong?"""

from pathlib import Path

import click

from ovek.app.devices import Devices
from ovek.app.shelves import judged_shelves
from ovek.app.work import Work
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.fleetwide import each_part
from ovek.cli.options import exit_code, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, device_options, on_option
from ovek.cli.shelf import SHELVES
from ovek.engine import custody
from ovek.engine.verdicts import Judge, judge_device
from ovek.files.shelves import records
from ovek.files.site import Site
from ovek.model.custody import Sighting
from ovek.model.snapshot import Device
from ovek.render.unread import Unreads


@click.command(
    "custody",
    cls=Command,
    examples=("custody ox40-full-7.4.2.img", "custody '*' --where site=Brackness --format json"),
)
@click.argument(
    "image", required=False, metavar="[IMAGE|VERSION|DIGEST|GLOB]", shell_complete=images
)
@SHELVES
@click.option("-v", "--verbose", is_flag=True, help="Show images without a wrong copy, too.")
@as_of_options
@on_option
@device_options()
def command(
    image: str | None,
    shelves: tuple[Path, ...],
    verbose: bool,
    selected: Selection,
    format_: str,
) -> None:
    """Where did this image go wrong? (default: all images)

    Follows each image from the catalog over the shelf folders, in the order given, to every flash
    (or that of each DEVICE), its copies grouped by equal digest, and names the first hop with a
    wrong one. What no source lists is compared with its other copies. Exit code 1 where a copy is
    wrong.
    """
    site, devices = selected.site, selected.devices()
    now = selected.now
    copies = [copy for part in each_part(devices, Following) for copy in part]
    measured = {name for _, copy in copies for name, _ in copy.digests}
    for order, (name, judged, seen) in enumerate(
        judged_shelves(site, devices.releases, shelves, measured, bar=bytes_bar)
    ):
        copies += custody.on_shelf(judged, name, order, seen)
    followed = custody.follow(devices.releases, copies, unread=_some_unread(site))
    if image is not None:
        followed = [one for one in followed if custody.matches(one, image)]
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        context = devices.context(now, selected.told())
        write_json(json.custody(context, followed, devices.not_read), format_, "images")
    else:
        from ovek.render.custody import custody as lines

        write_lines(lines(followed, Unreads(devices.not_read, now), verbose=verbose))
    wrong = any(one.first_wrong is not None for one in followed)
    exit_code(wrong or (image is not None and not followed), devices)


def _some_unread(site: Site) -> bool:
    """Whether some shelf of the site was never read, so that copies may lie there."""
    known = {record.at for record in records(site.folder, site.fleet.shelf)}
    return any(not shelf.is_local and shelf.at not in known for shelf in site.fleet.shelf)


class Following(Work[list[tuple[str | None, Sighting]]]):
    """Finds the copies on the devices of a site."""

    makes = list[tuple[str | None, Sighting]]

    def __init__(self, devices: Devices) -> None:
        self.found: list[tuple[str | None, Sighting]] = []

    def take(self, device: Device, judge: Judge) -> None:
        """Find those on one device."""
        self.found += custody.on_flash(judge_device(device, judge))

    def result(self) -> list[tuple[str | None, Sighting]]:
        """The copies on the devices taken since the last call."""
        found, self.found = self.found, []
        return found

"""Where copies of images are: by name, version or digest, or followed from where they began."""

from collections.abc import Iterable
from pathlib import Path

from ovek.app.devices import Devices
from ovek.app.progress import Bar
from ovek.app.runner import each_part
from ovek.app.shelves import judged_shelves
from ovek.app.work import Work
from ovek.engine import custody as engine
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import Judge, judge_device
from ovek.engine.where import Sought, on_device, on_shelf
from ovek.files.shelves import records
from ovek.files.site import Site
from ovek.model.custody import Custody, Sighting
from ovek.model.snapshot import Device
from ovek.model.where import Holding


def locate(
    devices: Devices, sought: str, shelves: Iterable[Path] = (), *, bar: Bar | None = None
) -> list[Holding]:
    """Where an image, version or digest is: on devices, on the site's shelves and on others.

    A name (or glob) means files of that name, and whatever is proven to be that release; a digest,
    or its first six characters or more, whatever has it. Raises InputError.

    >>> from ovek import locate, open_site, select
    >>> holdings = locate(select(open_site("skerrow-ferries"), ["arle-core"]), "7.4.2")
    >>> holdings[0].device, holdings[0].verdict
    ('arle-core', 'proven')
    """
    wanted = Sought(sought)
    holdings = [one for part in each_part(devices, Seeking, sought, bar=bar) for one in part]
    judged = judged_shelves(devices.site, devices.releases, shelves, wanted.algorithms, bar)
    for name, files, seen in judged:
        holdings += on_shelf(name, files, wanted, seen)
    return holdings


def custody(
    devices: Devices,
    image: str | None = None,
    shelves: Iterable[Path] = (),
    *,
    bar: Bar | None = None,
) -> list[Custody]:
    """Each image (or one) followed from the catalog over the shelves, in turn, to every flash.

    Its copies are put together by equal digest; `first_wrong` is the first hop with another one.
    Raises InputError.

    >>> from ovek import custody, open_site, select
    >>> devices = select(open_site("skerrow-ferries"))
    >>> any(one.first_wrong is not None for one in custody(devices))
    True
    """
    site = devices.site
    copies = [copy for part in each_part(devices, Following, bar=bar) for copy in part]
    measured = {name for _, copy in copies for name, _ in copy.digests}
    judged = judged_shelves(site, devices.releases, shelves, measured, bar)
    for order, (name, files, seen) in enumerate(judged):
        copies += engine.on_shelf(files, name, order, seen)
    followed = engine.follow(devices.releases, copies, unread=_some_unread(site))
    return [one for one in followed if image is None or engine.matches(one, image)]


def _some_unread(site: Site) -> bool:
    """Whether some shelf of the site was never read, so that copies may lie there."""
    known = {record.at for record in records(site.folder, site.fleet.shelf)}
    return any(not shelf.is_local and shelf.at not in known for shelf in site.fleet.shelf)


class Seeking(Work[list[Holding]]):
    """Looks for something on the devices of a site."""

    makes = list[Holding]

    def __init__(self, devices: Devices, sought: str) -> None:
        self.sought, self.found = Sought(sought), list[Holding]()

    def take(self, device: Device, judge: Judge) -> None:
        """Look on one device."""
        judged = judge_device(device, judge)
        self.found += on_device(judged, walk_device(judged), self.sought)

    def result(self) -> list[Holding]:
        """What was found on the devices taken since the last call."""
        found, self.found = self.found, []
        return found


class Following(Work[list[tuple[str | None, Sighting]]]):
    """Finds the copies on the devices of a site."""

    makes = list[tuple[str | None, Sighting]]

    def __init__(self, devices: Devices) -> None:
        self.found: list[tuple[str | None, Sighting]] = []

    def take(self, device: Device, judge: Judge) -> None:
        """Find those on one device."""
        self.found += engine.on_flash(judge_device(device, judge))

    def result(self) -> list[tuple[str | None, Sighting]]:
        """The copies on the devices taken since the last call."""
        found, self.found = self.found, []
        return found

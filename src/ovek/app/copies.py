"""Where copies of images are: by name, version or digest, or followed from where they began."""

from collections.abc import Iterable
from pathlib import Path

from msgspec.structs import asdict

from ovek.app.advisories import affected_by
from ovek.app.devices import Devices
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.shelves import judged_shelves
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine import custody as engine
from ovek.engine.bootwalk import walk_device
from ovek.engine.where import Sought, on_device, on_shelf
from ovek.files.shelves import records
from ovek.files.site import Site
from ovek.model.custody import Sighting
from ovek.model.results.copies import FleetCustody, Located
from ovek.model.where import Holding


def locate(
    devices: Devices, sought: str, shelves: Iterable[Path] = (), *, by_advisory: bool = False
) -> Located:
    """Where an image, version or digest is: on devices, on the site's shelves and on others.

    A name (or glob) means files of that name, and whatever is proven to be that release; a digest,
    or its first six characters or more, whatever has it. With `by_advisory` it is the id of an
    advisory, which means the images that it says are affected. Raises InputError.

    >>> from ovek import locate, open_site, select
    >>> located = locate(select(open_site("skerrow-ferries"), ["arle-core"]), "7.4.2")
    >>> located.copies[0].device, located.copies[0].verdict
    ('arle-core', 'proven')
    """
    wanted = Sought(sought)
    if by_advisory:
        affected = affected_by(devices.site, devices.releases, sought)
        wanted = Sought(affected.advisory, affected)
    holdings = [one for part in each_part(devices, _SEEKING, wanted) for one in part]
    judged = judged_shelves(devices.site, devices.releases, shelves, wanted.algorithms, devices.bar)
    for name, files, seen in judged:
        holdings += on_shelf(name, files, wanted, seen)
    return Located(
        **asdict(devices.context(now_of(devices.site))),
        not_read=devices.not_read,
        sought=wanted.text,
        by_advisory=by_advisory,
        copies=holdings,
    )


def custody(
    devices: Devices, image: str | None = None, shelves: Iterable[Path] = ()
) -> FleetCustody:
    """Each image (or one) followed from the catalog over the shelves, in turn, to every flash.

    Its copies are put together by equal digest; `first_bad` is the first hop with another one.
    Raises InputError.

    >>> from ovek import custody, open_site, select
    >>> devices = select(open_site("skerrow-ferries"))
    >>> any(image.first_bad is not None for image in custody(devices).images)
    True
    """
    site = devices.site
    copies = [copy for part in each_part(devices, _FOLLOWING) for copy in part]
    measured = {name for _, copy in copies for name, _ in copy.digests}
    judged = judged_shelves(site, devices.releases, shelves, measured, devices.bar, signatures=True)
    for order, (name, files, seen) in enumerate(judged):
        copies += engine.on_shelf(files, name, order, seen)
    followed = engine.follow(devices.releases, copies, unread=_some_unread(site))
    return FleetCustody(
        **asdict(devices.context(now_of(site))),
        not_read=devices.not_read,
        images=[one for one in followed if image is None or engine.matches(one, image)],
    )


def _some_unread(site: Site) -> bool:
    """Whether some shelf of the site was never read, so that copies may lie there."""
    known = {record.at for record in records(site.folder, site.head.shelf)}
    return any(not shelf.is_local and shelf.at not in known for shelf in site.head.shelf)


Sightings = list[tuple[str | None, Sighting]]


def _seeking(devices: Devices, wanted: Sought) -> Part[list[Holding]]:
    def seek(lines: Iterable[DeviceLine]) -> list[Holding]:
        judged = (one.judged() for one in lines)
        return [held for one in judged for held in on_device(one, walk_device(one), wanted)]

    return seek


def _following(devices: Devices) -> Part[Sightings]:
    return lambda lines: [copy for one in lines for copy in engine.on_flash(one.judged())]


_SEEKING = Work(_seeking, list[Holding])
_FOLLOWING = Work(_following, Sightings)

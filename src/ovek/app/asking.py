"""Open a site, and ask for the answer of each device: what a script begins with."""

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from ovek.app.answering import Answering
from ovek.app.devices import Devices
from ovek.app.selection import now_of
from ovek.app.shelves import shelf_of
from ovek.files.site import Site
from ovek.model.answer import Answered

__all__ = ["Site", "answers", "open_site"]


def open_site(
    folder: Path | str = ".", *, as_of: datetime | None = None, knowing: str = "then"
) -> Site:
    """The site in a folder; as it was at a time, by what was known `then`, or is `now`.

    Raises InputError.

    >>> from ovek import open_site
    >>> open_site("skerrow-ferries").fleet.name
    'Skerrow Ferries'
    """
    if as_of is None:
        return Site(Path(folder))
    from ovek.app.history import site_as_of  # a database, which most never need

    return site_as_of(Path(folder), as_of, knowing)


def answers(devices: Devices, now: datetime | None = None) -> Iterator[Answered]:
    """Go through the answers for devices that were read: `go`, `no-go` or `unclear`, and why.

    It is what an audit says first, without its findings and plans. Raises InputError.

    >>> from ovek import answers, open_site, select
    >>> [one.answer for one in answers(select(open_site("skerrow-ferries"), ["arle-quay"]))]
    ['no-go']
    """
    shelf = shelf_of(devices)
    answering = Answering(devices, now or now_of(devices.site), shelf)
    return map(answering.answer, devices.judged())

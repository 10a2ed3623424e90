"""Open a site, choose devices of it, and ask: the use cases that a script begins with."""

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path

from ovek.app.answering import Answering
from ovek.app.devices import Devices
from ovek.app.history import site_as_of
from ovek.app.policy import contradiction
from ovek.app.shelves import shelf_facts
from ovek.engine.audit import audit_judged
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.site import Site
from ovek.model.answer import Answered
from ovek.model.finding import DeviceAudit
from ovek.model.walk import DeviceWalk


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
    return site_as_of(Path(folder), as_of, knowing)


def select(site: Site, names: Iterable[str] = (), *, snapshot: str | None = None) -> Devices:
    """The devices of a site by names and globs (all where none is told), as they were last read.

    `snapshot` is a file, or a glob of files, of which the newest line of each device counts. Raises
    InputError for a name that means nothing.

    >>> from ovek import open_site, select
    >>> select(open_site("skerrow-ferries"), ["arle-*"]).names[:2]
    ['arle-core', 'arle-stack']
    """
    devices = Devices(site, site.state(snapshot), names)
    devices.check()
    return devices


def audit(devices: Devices, now: datetime | None = None) -> Iterator[DeviceAudit]:
    """Go through the audits of devices that were read, each with its answer and findings.

    `now` is what ages count against; of a device that was never read see `devices.not_read`. Raises
    InputError.

    >>> from ovek import audit, open_site, select
    >>> (one,) = audit(select(open_site("skerrow-ferries"), ["arle-quay"]))
    >>> one.answer, one.findings[0].rule
    ('no-go', 'boot-target-missing')
    """
    answering = _answering(devices, now, plans=True)
    for device, judge in devices:
        terms = answering.terms_of(device.device)
        try:
            yield audit_judged(judge_device(device, judge), answering.wants, terms)
        except ContradictionError as error:
            raise contradiction(devices.site, error) from None


def answers(devices: Devices, now: datetime | None = None) -> Iterator[Answered]:
    """Go through the answers for devices that were read: `go`, `no-go` or `unclear`, and why.

    It is what an audit says first, without its findings and plans. Raises InputError.

    >>> from ovek import answers, open_site, select
    >>> [one.answer for one in answers(select(open_site("skerrow-ferries"), ["arle-quay"]))]
    ['no-go']
    """
    answering = _answering(devices, now)
    for device, judge in devices:
        yield answering.answer(judge_device(device, judge))


def boot_walks(devices: Devices) -> Iterator[DeviceWalk]:
    """Go through the boot walks of devices: what each member starts next, and why not another.

    Raises InputError.

    >>> from ovek import boot_walks, open_site, select
    >>> (one,) = boot_walks(select(open_site("skerrow-ferries"), ["arle-quay"]))
    >>> one.runs, one.member("1").starts.version
    ('7.4.1', '7.2.5')
    """
    for device, judge in devices:
        yield walk_device(judge_device(device, judge))


def _answering(devices: Devices, now: datetime | None, *, plans: bool = False) -> Answering:
    now = datetime.now(UTC).replace(microsecond=0) if now is None else now
    site, releases = devices.site, devices.releases
    shelf = shelf_facts(site, releases, devices.state.lines.keys())
    return Answering(devices, now, shelf, plans=plans)

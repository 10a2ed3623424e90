"""What is remembered: readings taken into the store, and a site as it was at a time."""

import atexit
import logging
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from datetime import UTC, date, datetime
from pathlib import Path

from ovek.app.answering import Answering
from ovek.app.devices import Devices, releases_of
from ovek.app.means import Bar, shown
from ovek.app.policy import contradiction
from ovek.engine.audit import audit_judged
from ovek.engine.history import days, facts_of, open_on
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.atomic import write_whole
from ovek.files.errors import DamagedError, InputError, ManyInputError
from ovek.files.history import HistoryStore, StoredClaims, StoredReading, open_store
from ovek.files.site import Site
from ovek.files.state import state_in
from ovek.model.age import parse_age
from ovek.model.history import Day, OpenOn

_LOG = logging.getLogger(__name__)

_LARGE = 4 * 2**20


def store_of(site: Site, *, make: bool = True) -> HistoryStore | None:
    """The store of a site; None where there is none and none is to be made. Raises InputError."""
    return open_store(site.folder, site.head.history, make=make)


@contextmanager
def claims_of(site: Site) -> Iterator[StoredClaims | None]:
    """Who reads which device now, where several collectors share a database; else None."""
    if site.head.history is None:
        yield None
        return
    with ExitStack() as stack:
        claims: StoredClaims | None = None
        try:
            store = store_of(site)
            assert store is not None
            claims = stack.enter_context(store.claims())
        except InputError as error:
            text = f"it is unknown whether another collector reads the same devices: {error}"
            _LOG.warning(text)
        yield claims


def remember(
    site: Site, store: HistoryStore, files: Iterable[Path] | None = None, bar: Bar | None = None
) -> Iterator[tuple[Path, int]]:
    """Take snapshots into the store, those that it lacks: how many readings of each were new.

    By default all that lie in snapshots/. What they are judged by is kept, too; `bar` shows how
    far a large one is. Raises InputError.
    """
    now = datetime.now(UTC)
    store.mark(site.known_files(), now)
    found = sorted((site.folder / "snapshots").glob("*.jsonl")) if files is None else list(files)
    held = store.holds(found)
    for file in found:
        if file in held:
            yield file, 0
        else:
            size = file.stat().st_size
            with shown(bar if size >= _LARGE else None, size) as advance:
                number = store.add(file, readings_in(site, file, advance), now)
            yield file, number


def days_of(site: Site, store: HistoryStore, last: str) -> list[Day]:
    """How a fleet stood on each of its last days, so long back, counted as the audit counts it.

    Raises InputError where nothing was read, AgeError or OverflowError for what is no age.
    """
    state = store.state()
    if state.first is None or state.last is None:
        raise InputError(store.where, "has no reading", "Read the fleet first: ovek survey")
    first = max((state.last - parse_age(last)).date(), state.first.date())
    devices = Devices(site, site.state(), releases=releases_of(site))
    fleet = {*devices.names, *(one.device for one in devices.not_read)}
    spans = store.spans("answer", "proven", "target")
    return days(spans, first, state.last.date(), fleet, devices.stale)


def open_of(store: HistoryStore, told: Sequence[Day]) -> list[OpenOn]:
    """What was open at the end of each of some days."""
    first, last = (date.fromisoformat(told[at].day) for at in (0, -1))
    return open_on(store.spans("finding"), first, last)


def caught_up(site: Site, bar: Bar | None = None) -> HistoryStore:
    """The store, with every snapshot in it that lies in the site; raise InputError."""
    store = store_of(site)
    assert store is not None
    for _ in remember(site, store, bar=bar):
        pass
    return store


def mark(site: Site) -> bool:
    """Keep what is known now, where the site has a history; what keeps that from being is told."""
    try:
        store = store_of(site, make=False)
        if store is not None:
            store.mark(site.known_files(), datetime.now(UTC))
    except DamagedError as damaged:
        _LOG.warning("%s.", damaged.put_aside())
        return False
    except (InputError, ManyInputError) as error:
        text = f"today's catalog and policy were not written to the history: {error}"
        _LOG.warning(text)
        return False
    return True


def _silent(size: int) -> None:
    """A small snapshot is done before a bar could be read."""


def readings_in(
    site: Site, file: Path, advance: Callable[[int], None] = _silent
) -> Iterator[StoredReading]:
    """Go through the readings of a snapshot, each judged as at the time when it was read.

    `advance` is told the bytes that were gone through. A device of which the sheet is not there
    is left out, and told.
    """
    devices = Devices(site, state_in(file), releases=releases_of(site))
    answering = Answering(devices, datetime.now(UTC), None)
    unknown: dict[str, list[str]] = {}
    for device in devices.read(devices.chosen.lines.items()):
        advance(devices.chosen.lines[device.device].length)
        if site.sheet(device.sheet) is None:
            unknown.setdefault(device.sheet, []).append(device.device)
            continue
        judged = judge_device(device, devices.judge(device))
        terms = answering.terms_at(device)
        try:
            audit = audit_judged(judged, answering.wants, terms)
        except ContradictionError as error:
            raise contradiction(site, error) from None
        yield StoredReading(device.device, device.taken_at, frozenset(facts_of(judged, audit)))
    for sheet, names in unknown.items():
        text = (
            f"{file.name}: {len(names)} devices with the unknown sheet {sheet!r} were not recorded"
        )
        _LOG.warning(text)


def site_as_of(folder: Path, at: datetime, knowing: str) -> Site:
    """A site as it was at a time: its snapshots of then, its other files of then or of now.

    Raises InputError where the history does not reach back so far.
    """
    site = Site(folder)
    if knowing == "now":
        return Site(folder, until=at)
    store = store_of(site, make=False)
    since = store.known_since() if store is not None else None
    if store is None or since is None or since > at:
        known = "nothing" if since is None else f"nothing older than {since:%Y-%m-%d %H:%M} UTC"
        text = f"the history has {known} of catalog and policy"
        raise InputError(folder, text, "Use today's instead: add --knowing now")
    made = Path(tempfile.mkdtemp(prefix="ovek-as-of-"))
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    for name, data in store.known(at).items():
        if ".." not in Path(name).parts and not Path(name).is_absolute():
            write_whole(made / name, [data])
    return Site(made, until=at, lies=folder)

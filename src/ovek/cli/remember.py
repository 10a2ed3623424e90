"""What is remembered: readings taken into the store, and a site as it was at a time."""

import atexit
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager
from datetime import UTC, datetime, time
from pathlib import Path
from typing import Any

import click

from ovek.cli.answering import Answering
from ovek.cli.command import OneOf
from ovek.cli.options import Devices, releases_of
from ovek.engine.audit import audit_judged
from ovek.engine.compare import compare_device
from ovek.engine.history import facts_of
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.errors import InputError, ManyInputError
from ovek.files.history import Claims, Reading, Store, open_store
from ovek.files.site import Site
from ovek.files.state import state_in
from ovek.files.whole import write_whole
from ovek.render.visible import visible


def store_of(site: Site, *, make: bool = True) -> Store | None:
    """The store of a site; None where there is none and none is to be made. Raises InputError."""
    return open_store(site.folder, site.fleet.history, make=make)


@contextmanager
def claims_of(site: Site) -> Iterator[Claims | None]:
    """Who reads which device now, where several collectors share a database; else None."""
    if site.fleet.history is None:
        yield None
        return
    with ExitStack() as stack:
        claims: Claims | None = None
        try:
            store = store_of(site)
            assert store is not None
            claims = stack.enter_context(store.claims())
        except InputError as error:
            told = f"whether another collector reads the same devices is not known: {error}"
            click.echo(f"ovek: {visible(told)}", err=True)
        yield claims


def remember(
    site: Site, store: Store, files: Iterable[Path] | None = None
) -> Iterator[tuple[Path, int]]:
    """Take snapshots into the store, those that it lacks: how many readings of each were new.

    By default all that lie in snapshots/. What they are judged by is kept, too. Raises InputError.
    """
    now = datetime.now(UTC)
    store.mark(site.known_files(), now)
    found = sorted((site.folder / "snapshots").glob("*.jsonl")) if files is None else list(files)
    held = store.holds(found)
    for file in found:
        if file in held:
            yield file, 0
        else:
            yield file, store.add(file, readings_in(site, file), now)


def mark(site: Site) -> None:
    """Keep what is known now, where the site has a history; what keeps that from being is told."""
    try:
        store = store_of(site, make=False)
        if store is not None:
            store.mark(site.known_files(), datetime.now(UTC))
    except (InputError, ManyInputError) as error:
        told = f"what is known now was not written to the history: {error}"
        click.echo(f"ovek: {visible(told)}", err=True)


def readings_in(site: Site, file: Path) -> Iterator[Reading]:
    """Go through the readings of a snapshot, each judged as at the time when it was read."""
    devices = Devices(site, state_in(file), releases=releases_of(site))
    answering = Answering(devices, datetime.now(UTC), None)
    for device, judge in devices:
        judged = judge_device(device, judge)
        terms = answering.terms_at(device)
        try:
            audit = audit_judged(judged, answering.wants, terms)
            target = answering.wants.of(judged).target
        except ContradictionError:
            continue
        done = compare_device(None, judged, target).members if target is not None else ()
        yield Reading(device.device, device.taken_at, frozenset(facts_of(judged, audit, done)))


def as_of_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add --as-of and --knowing."""
    as_of = click.option(
        "--as-of",
        metavar="DATE",
        callback=_date,
        help="As it was at the end of this day, or at this time (2026-03-01, 2026-03-01T12:00).",
    )
    knowing = click.option(
        "--knowing",
        type=OneOf(["then", "now"]),
        default="then",
        help="With --as-of: by the catalog, policy and waivers of then, or of now (default: then).",
    )
    return as_of(knowing(function))


def _date(ctx: click.Context, param: click.Parameter, value: str | None) -> datetime | None:
    return None if value is None else moment(value)


def moment(text: str) -> datetime:
    """Read a day (its end counts) or a time, in UTC where no zone is told; raise BadParameter.

    >>> str(moment("2026-03-01"))
    '2026-03-01 23:59:59+00:00'
    """
    try:
        if len(text) == 10:
            day = datetime.strptime(text, "%Y-%m-%d").date()
            found = datetime.combine(day, time(23, 59, 59), UTC)
            return (
                min(found, datetime.now(UTC).replace(microsecond=0))
                if (day == datetime.now(UTC).date())
                else _past(found, text)
            )
        found = datetime.fromisoformat(text)
        return _past(found if found.tzinfo is not None else found.replace(tzinfo=UTC), text)
    except ValueError:
        met = f"{text!r} is no date; write it like 2026-03-01 or 2026-03-01T12:00 (UTC)"
        raise click.BadParameter(met) from None


def _past(at: datetime, text: str) -> datetime:
    if at > datetime.now(UTC):
        raise click.BadParameter(f"{text} is in the future; name a day that has been")
    return at


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
        known = "nothing" if since is None else f"nothing before {since:%Y-%m-%d %H:%M} UTC"
        met = f"the history knows {known} of catalog and policy"
        raise InputError(folder, met, "Ask by what is known today: --knowing now")
    made = Path(tempfile.mkdtemp(prefix="ovek-as-of-"))
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    for name, data in store.known(at).items():
        if ".." not in Path(name).parts and not Path(name).is_absolute():
            write_whole(made / name, [data])
    return Site(made, until=at, lies=folder)

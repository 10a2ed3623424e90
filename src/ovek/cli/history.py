"""`ovek history`: since when, and for how long?"""

import sys
from collections.abc import Callable
from datetime import UTC, datetime, time, timedelta
from pathlib import Path
from typing import Any

import click

from ovek.app.devices import no_device, releases_of, site_context
from ovek.app.history import caught_up, days_of, remember, store_of
from ovek.cli.command import Group
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import images
from ovek.cli.completing import rules as complete_rules
from ovek.cli.options import SITE, format_option, unknown_rule, write_bytes, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.engine import history
from ovek.engine.rules.every import RULES
from ovek.files.history import Store
from ovek.files.site import Site
from ovek.model.age import AgeError, parse_age
from ovek.model.history import Vouched


@click.group("history", cls=Group)
def command() -> None:
    """Since when, and for how long? What was read before is remembered beside the site.

    Each survey adds what it read; `ovek history add` takes in snapshots from before. SQLite in the
    site (history.db), or PostgreSQL where fleet.toml names it.
    """


def _options(function: Callable[..., Any]) -> Callable[..., Any]:
    return SITE(format_option("csv")(function))


@command.command("add", examples=("history add", "history add baselines/before-7.4.2.jsonl"))
@click.argument("snapshot", nargs=-1, type=click.Path(path_type=Path))
@SITE
@format_option()
def add_command(snapshot: tuple[Path, ...], site_folder: Path, format_: str) -> None:
    """Take snapshots into the history: each SNAPSHOT, or all in snapshots/ that it lacks.

    A snapshot that is there already is not taken twice, whatever it is called, and any order will
    do.
    """
    site = Site(site_folder)
    store = store_of(site)
    assert store is not None
    files = [file if file.exists() else site.snapshot(str(file)) for file in snapshot] or None
    added = [(file, number) for file, number in remember(site, store, files, bytes_bar)]
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.history_added(site_context(site), added, store.state()), format_, "added")
        return
    from ovek.render.history import added as lines

    write_lines(lines(added, store.state()))


@command.command("device", examples=("history device arle-core", "history device arle-quay -v"))
@click.argument("device", shell_complete=complete_devices)
@click.option("-v", "--verbose", is_flag=True, help="Findings that are notes, too.")
@_options
def device_command(device: str, verbose: bool, site_folder: Path, format_: str) -> None:
    """A line of one DEVICE's life: versions, images, boot settings, rot, findings."""
    site = Site(site_folder)
    store = caught_up(site, bytes_bar)
    readings = store.readings(device)
    if not readings:
        raise no_device(Path(store.where), device, store.devices())
    spans = [span for _, span in store.spans(device=device)]
    events = history.life(spans)
    shown = events if verbose else [one for one in events if not _is_note(one.was, one.now)]
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        whole = json.history_device(site_context(site), device, readings, events)
        write_json(whole, format_, "events")
    elif format_ == "csv":
        from ovek.render.history import life_csv

        write_bytes(life_csv(device, events))
    else:
        from ovek.render.history import life

        write_lines(life(device, readings, shown, len(events) - len(shown)))


def _is_note(was: str | None, now: str | None) -> bool:
    return {was, now} - {None} == {"note"}


@command.command(
    "image", examples=("history image ox40-full-7.4.2.img", "history image 7.4.1 --format csv")
)
@click.argument("image", shell_complete=images, metavar="IMAGE|VERSION|DIGEST")
@_options
def image_command(image: str, site_folder: Path, format_: str) -> None:
    """Which devices had an image, from when to when, and who vouches for it since when?

    Exit code 1 where none ever had it.
    """
    site = Site(site_folder)
    store = caught_up(site, bytes_bar)
    spans = store.spans("image", "set", "bank", "running")
    held = [history.held(device, span) for device, span in spans if history.means(span, image)]
    copies = history.joined(one for one in held if not one.runs)
    versions = {image, *_versions(site, image)}
    version_spans = store.spans("version")
    ran = [
        history.ran(device, span) for device, span in version_spans if span.fact.value in versions
    ]
    known = {(one.device, one.member) for one in ran}
    ran += [one for one in held if one.runs and (one.device, one.member) not in known]
    ran = history.joined(ran)
    seen = store.last_readings()
    vouched = _vouched(site, store, image)
    members: dict[str, set[str]] = {}
    for device, span in store.spans("starts", "version"):
        members.setdefault(device, set()).add(span.fact.member)
    several = {device for device, ids in members.items() if len(ids) > 1}
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        whole = json.history_image(site_context(site), image, copies, vouched, ran)
        write_json(whole, format_, "copies")
    elif format_ == "csv":
        from ovek.render.history import copies_csv

        write_bytes(copies_csv([*copies, *ran]))
    else:
        from ovek.render.history import image as lines

        write_lines(lines(image, copies, ran, vouched, several, seen))
    if not copies and not ran:
        sys.exit(1)


def _versions(site: Site, image: str) -> set[str]:
    """The versions of the releases that a name means."""
    known = releases_of(site)
    named = known.named(image, case_blind=True)
    return {one.version for one in named if one.version is not None}


def _vouched(site: Site, store: Store, image: str) -> list[Vouched]:
    """Which sources tell of an image, each with since when the history knows it."""
    since, known = store.first_known("catalog/"), releases_of(site)
    sources: dict[str, datetime] = {}
    for one in (*known.releases, *known.ours):
        digests = len(image) >= 6 and any(
            d.startswith(image) for v in one.digests.values() for d in v
        )
        if image not in (one.file, one.version) and not digests:
            continue
        for origin in one.origins:
            at = since.get(f"catalog/{origin.file}")
            if at is None and one.since is not None:  # it was imported from a file elsewhere
                at = datetime.combine(one.since, time(), UTC)
            if at is not None:
                sources[origin.file] = min(at, sources.get(origin.file, at))
    told = [Vouched(source=name, since=at) for name, at in sorted(sources.items())]
    return sorted(told, key=lambda one: one.since)


@command.command(
    "finding", examples=("history finding no-fallback", "history finding boot-target-missing")
)
@click.argument("rule", shell_complete=complete_rules)
@_options
def finding_command(rule: str, site_folder: Path, format_: str) -> None:
    """Where is or was this RULE's finding, since when, how long, and did it come back?"""
    if rule not in RULES:
        raise unknown_rule(rule, RULES, "RULE")
    site = Site(site_folder)
    store, now = caught_up(site, bytes_bar), datetime.now(UTC).replace(microsecond=0)
    places: dict[str, tuple[str | None, str | None]] = {}
    for device, span in store.spans("site", "role"):
        if span.last is None:
            place, role = places.get(device, (None, None))
            told = span.fact.value
            places[device] = (told, role) if span.fact.kind == "site" else (place, told)
    for one in site.fleet.device:
        place, role = places.get(one.name, (None, None))
        places[one.name] = (one.site or place, one.role or role)
    spans = [
        (device, span)
        for device, span in store.spans("finding", like=[f'"{rule}"'])
        if span.fact.key.startswith(f'["{rule}"')
    ]
    found = history.opened(spans, places)
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.history_finding(site_context(site), rule, found), format_, "findings")
    elif format_ == "csv":
        from ovek.render.history import findings_csv

        write_bytes(findings_csv(found))
    else:
        from ovek.render.history import finding

        write_lines(finding(rule, found, now))


@command.command("trend", examples=("history trend", "history trend --last 4w --format csv"))
@click.option("--last", metavar="AGE", default="30d", help="So long back (default: 30d).")
@_options
def trend_command(last: str, site_folder: Path, format_: str) -> None:
    """How the fleet stood each day: go, no-go and unclear, proven starts, on the target."""
    site = Site(site_folder)
    try:
        days = days_of(site, caught_up(site, bytes_bar), last)
    except (AgeError, OverflowError) as error:
        raise click.BadParameter(str(error), param_hint="--last") from None
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.history_trend(site_context(site), days), format_, "days")
    elif format_ == "csv":
        from ovek.render.history import days_csv

        write_bytes(days_csv(days))
    else:
        from ovek.render.history import trend

        write_lines(trend(days))


@command.command("purge", examples=("history purge --older 2000d", "history purge --older 52w"))
@click.option("--older", metavar="AGE", help="What ended so long ago (default: policy's).")
@click.option("--yes", is_flag=True, help="Remove it; without, only say what would go.")
@SITE
def purge_command(older: str | None, yes: bool, site_folder: Path) -> None:
    """Forget what ended long ago. Says what would go, and removes it with --yes only.

    The last reading of each device stays, and so does whatever is so still.
    """
    site = Site(site_folder)
    age = older or site.policy.history_age
    if age is None:
        raise click.UsageError("say how old: --older AGE, or history_age in policy.toml")
    try:
        limit = datetime.now(UTC) - parse_age(age)
    except AgeError as error:
        raise click.BadParameter(str(error), param_hint="--older") from None
    except OverflowError:
        limit = datetime.min.replace(tzinfo=UTC) + timedelta(days=1)
    readings, spans = caught_up(site, bytes_bar).purge(limit, look=not yes)
    from ovek.render.history import purged

    write_lines(purged(readings, spans, limit, done=yes))

"""What the history tells: of a device, an image, a finding, the days of a fleet."""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime, time, timedelta
from pathlib import Path

from msgspec.structs import asdict

from ovek.app.advisories import affected_by
from ovek.app.devices import no_device, releases_of, site_context
from ovek.app.history import caught_up, days_of, open_of, remember, store_of
from ovek.app.means import Bar
from ovek.app.rules import known_rule
from ovek.engine import history
from ovek.files.history import HistoryStore
from ovek.files.site import Site
from ovek.model.age import AgeError, parse_age
from ovek.model.history import ListedSince, Span
from ovek.model.results.histories import (
    DeviceHistory,
    FindingHistory,
    HistoryAdded,
    ImageHistory,
    Purged,
    Taken,
    Trend,
)
from ovek.model.usage import UsageError


def open_history(site: Site, *, bar: Bar | None = None) -> "History":
    """What is remembered of a site; snapshots that it lacks are taken in when it is asked.

    >>> from ovek import open_history, open_site
    >>> history = open_history(open_site("skerrow-ferries"))
    >>> history.device("arle-core").device
    'arle-core'
    """
    return History(site, bar)


class History:
    """What was read of a site, and when. Each question raises InputError."""

    def __init__(self, site: Site, bar: Bar | None = None) -> None:
        self.site, self._bar = site, bar
        self._context = asdict(site_context(site))

    def add(self, snapshots: Sequence[Path] = ()) -> HistoryAdded:
        """Take snapshots in, by default all of the site; none is taken twice."""
        site, store = self.site, store_of(self.site)
        assert store is not None
        files = [file if file.exists() else site.snapshot(str(file)) for file in snapshots] or None
        added = tuple(
            Taken(file=file.name, readings=number)
            for file, number in remember(site, store, files, self._bar)
        )
        return HistoryAdded(**self._context, added=added, store=store.state())

    def device(self, name: str) -> DeviceHistory:
        """The life of one device: versions, images, boot settings, rot, findings."""
        store = self._store()
        readings = store.readings(name)
        if not readings:
            raise no_device(Path(store.where), name, store.devices())
        events = history.life([span for _, span in store.spans(device=name)])
        return DeviceHistory(**self._context, device=name, readings=readings, events=events)

    def image(self, image: str) -> ImageHistory:
        """Which devices had an image, from when to when, and who vouches for it since when."""
        versions = {image, *_versions(self.site, image)}
        return self._copies(
            image,
            lambda span: history.means(span, image),
            lambda device, span: span.fact.value in versions,
        )

    def affected(self, advisory: str) -> ImageHistory:
        """Which devices had an image that an advisory affects, from when to when.

        Raises InputError: no such advisory.
        """
        affected = affected_by(self.site, releases_of(self.site), advisory)
        models = {
            device: span.fact.value
            for device, span in self._store().spans("model")
            if span.last is None
        }
        return self._copies(
            affected.advisory,
            lambda span: history.is_affected(span, affected),
            lambda device, span: affected.runs(span.fact.value or "", models.get(device)),
            by_advisory=True,
        )

    def _copies(
        self,
        image: str,
        means: Callable[[Span], bool],
        runs: Callable[[str, Span], bool],
        *,
        by_advisory: bool = False,
    ) -> ImageHistory:
        """The copies that are meant, and who ran one: by the copy, or by the version alone."""
        site, store = self.site, self._store()
        spans = store.spans("image", "set", "bank", "running")
        held = [history.held(device, span) for device, span in spans if means(span)]
        ran = [
            history.ran(device, span)
            for device, span in store.spans("version")
            if runs(device, span)
        ]
        known = {(one.device, one.member) for one in ran}
        ran += [one for one in held if one.running and (one.device, one.member) not in known]
        members: dict[str, set[str]] = {}
        for device, span in store.spans("starts", "version"):
            members.setdefault(device, set()).add(span.fact.member)
        return ImageHistory(
            **self._context,
            image=image,
            copies=history.joined(one for one in held if not one.running),
            ran=history.joined(ran),
            listed=[] if by_advisory else _listed_since(site, store, image),
            by_advisory=by_advisory,
            several={device for device, ids in members.items() if len(ids) > 1},
            seen=store.last_readings(),
        )

    def finding(self, rule: str) -> FindingHistory:
        """Where a rule's finding is or was, since when, how long; UsageError: no such rule."""
        known_rule(rule, "RULE")
        store = self._store()
        places: dict[str, tuple[str | None, str | None]] = {}
        for device, span in store.spans("site", "role"):
            if span.last is None:
                place, role = places.get(device, (None, None))
                told = span.fact.value
                places[device] = (told, role) if span.fact.kind == "site" else (place, told)
        for one in self.site.fleet.device:
            place, role = places.get(one.name, (None, None))
            places[one.name] = (one.site or place, one.role or role)
        spans = [
            (device, span)
            for device, span in store.spans("finding", like=[f'"{rule}"'])
            if span.fact.key.startswith(f'["{rule}"')
        ]
        return FindingHistory(**self._context, rule=rule, findings=history.opened(spans, places))

    def trend(self, last: str = "30d", *, opened: bool = False) -> Trend:
        """How the fleet stood each day, so long back; what was open, where that is asked for."""
        site = self.site
        try:
            parse_age(last)
            store = self._store()
            days = days_of(site, store, last)
            found = open_of(store, days) if opened else []
        except (AgeError, OverflowError) as error:
            raise UsageError(str(error), "--last") from None
        span = f"{site.head.name}, history of {days[0].day} to {days[-1].day}"
        return Trend(**self._context, days=days, opened=found, caption=f"{span}; ovek chart trend")

    def purge(self, older: str | None = None, *, look: bool = True) -> Purged:
        """Forget what ended so long ago (by default what policy says); or only look what would."""
        age = older or self.site.policy.history_age
        if age is None:
            raise UsageError("give --older AGE, or set history_age in policy.toml")
        try:
            limit = datetime.now(UTC) - parse_age(age)
        except AgeError as error:
            raise UsageError(str(error), "--older") from None
        except OverflowError:
            limit = datetime.min.replace(tzinfo=UTC) + timedelta(days=1)
        readings, spans = self._store().purge(limit, look=look)
        return Purged(readings=readings, spans=spans, limit=limit, done=not look)

    def _store(self) -> HistoryStore:
        """The store, with every snapshot of the site in it."""
        return caught_up(self.site, self._bar)


def _versions(site: Site, image: str) -> set[str]:
    """The versions of the releases that a name means."""
    known = releases_of(site)
    named = known.named(image, case_blind=True)
    return {one.version for one in named if one.version is not None}


def _listed_since(site: Site, store: HistoryStore, image: str) -> list[ListedSince]:
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
    parts = [ListedSince(source=name, since=at) for name, at in sorted(sources.items())]
    return sorted(parts, key=lambda one: one.since)

"""Answers out of the catalog.

- find: by name, version, hardware, or a digest or its beginning.
- mistakes: one digest under two names, one name with two digests, facts that two sources tell
  differently, rows that shadow each other, dates in the future, a version that does not fit the
  name, upgrade steps that no release offers.
- path: the shortest chain between two versions (see `route`).
- pick: the release for a device, by `fit`: what policy wants of it where that fits, else a
  recommended one before a current one before others, then the newest; and the `route` to it. A
  part's own version may lag the image's: only what a release needs and carries decides.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from datetime import date
from difflib import get_close_matches
from fnmatch import fnmatchcase
from itertools import combinations

from msgspec.structs import asdict, replace

from ovek.engine.fit import Standing, fit_all, leads_from, standings
from ovek.engine.releases import ReleaseIndex
from ovek.engine.route import route
from ovek.engine.verdicts import JudgedDevice
from ovek.engine.wanted import Wanted, best_first, is_affected, may_be_for, release_for
from ovek.model.annotation import Annotation
from ovek.model.catalog import Needs, Origin, Published, Release
from ovek.model.choice import CatalogMistake, Pick, Picked
from ovek.model.digest import TITLES
from ovek.model.fit import REACHING, Fit, Route
from ovek.model.naming import Naming
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Hardware
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare

_DIGEST_START = re.compile(r"[0-9a-f]{6,128}")


def find(releases: ReleaseIndex, text: str) -> list[KnownRelease]:
    """The releases that a text may mean: name, part of it or glob, version, model, or digest."""
    wanted = text.strip().casefold()
    found = []
    for one in (*releases.releases, *releases.ours):
        names = one.file.casefold()
        digests = [digest for values in one.digests.values() for digest in values]
        plain = re.sub(r"[\s:]", "", wanted)
        if (
            wanted in names
            or fnmatchcase(names, wanted)
            or wanted == (one.version or "").casefold()
            or any(fnmatchcase(text.strip(), glob) for glob in one.hardware or ())
            or (_DIGEST_START.fullmatch(plain) and any(d.startswith(plain) for d in digests))
        ):
            found.append(one)
    return found


def mistakes(
    releases: ReleaseIndex,
    today: date,
    namings: Iterable[Naming] = (),
    published: Iterable[Published] = (),
) -> Iterator[CatalogMistake]:
    """Go through what is wrong in the catalog; `published` are the entries as sources tell them."""
    namings, told = list(namings), list(published)
    yield from _shared_digests(releases)
    yield from _contradictions(told)
    for one in releases.releases:
        for algorithm in sorted(one.disputed):
            values = " and ".join(sorted(one.digests[algorithm]))
            yield _mistake(
                "two-digests",
                one,
                f"the sources list two different {TITLES[algorithm]} digests: {values}",
                "Ask the publisher which is right, and correct or remove the other",
            )
        if one.published is not None and one.published > today:
            yield _mistake(
                "future-date",
                one,
                f"its publication date {one.published} is in the future",
                "Correct the date",
            )
        for named in _named_versions(one, namings):
            yield _mistake(
                "version-and-name",
                one,
                f"its version is {one.version}, but its file name says {named}",
                "Correct the version, or check whether the file was renamed",
            )
        for start in one.reached_from or ():
            known = [each for each in releases.releases if each.version is not None]
            family = [each for each in known if _share_hardware(each, one)]
            if not any(leads_from(each.version or "", start) for each in family):
                versions = [each.version for each in family if each.version is not None]
                near = get_close_matches(start, versions, n=2, cutoff=0.5)
                told_near = f" (similar: {' and '.join(near)})" if near else ""
                yield _mistake(
                    "unreachable-step",
                    one,
                    f"it can be installed over {start}, but the catalog has no release of "
                    "that version" + told_near,
                    "Import the releases of that version, or correct `from`",
                )


def unused(annotations: Iterable[Annotation], releases: ReleaseIndex) -> Iterator[CatalogMistake]:
    """The annotations of which no release is the glob's."""
    known = [one.file for one in (*releases.releases, *releases.ours)]
    for number, one in enumerate(annotations):
        if not any(fnmatchcase(name, one.files) for name in known):
            yield CatalogMistake(
                kind="annotation-unused",
                file=one.files,
                origins=(Origin(f"annotations.toml, annotation[{number}]", 1),),
                seen="the catalog has no release of that name",
                do="Correct the name in catalog/annotations.toml, or remove it",
            )


def _share_hardware(release: KnownRelease, other: KnownRelease) -> bool:
    """Whether two releases may be for the same hardware, as far as is told."""
    if release.hardware is None or other.hardware is None:
        return True
    pairs = ((ours, theirs) for ours in release.hardware for theirs in other.hardware)
    return any(fnmatchcase(ours, theirs) or fnmatchcase(theirs, ours) for ours, theirs in pairs)


# What two sources of one release may not tell differently, and how that is called.
_FACTS = {
    "version": "version", "variant": "variant", "kind": "kind", "status": "status",
    "track": "track", "size": "size", "from_": "from", "needs": "needs", "carries": "carries",
}  # fmt: skip


def _contradictions(published: Iterable[Published]) -> Iterator[CatalogMistake]:
    """Facts of one release that its sources tell differently, and rows that shadow each other."""
    rows: dict[tuple[str, str | None], list[Published]] = {}
    for entry in published:
        if entry.trust != "own":
            rows.setdefault((entry.release.file, entry.publisher), []).append(entry)
    for (file, _), entries in rows.items():
        origins = tuple(entry.origin for entry in entries)
        for name, title in _FACTS.items():
            said: dict[str, Origin] = {}
            for entry in entries:
                value = getattr(entry.release, name)
                if value is not None and not (name == "needs" and _rows_differ(entries)):
                    said.setdefault(_shown(value), entry.origin)
            if len(said) > 1:
                text = " and ".join(f"{value} ({origin})" for value, origin in said.items())
                yield CatalogMistake(
                    kind="facts-differ",
                    file=file,
                    origins=origins,
                    seen=f"the sources disagree on its {title}: {text}",
                    do="Find out which source is right, and correct the other",
                )
        for one, other in combinations(entries, 2):
            if _shadows(one.release, other.release):
                yield CatalogMistake(
                    kind="rows-shadow",
                    file=file,
                    origins=(one.origin, other.origin),
                    seen=f"the row for {' '.join(one.release.hardware or ())} hides the row for "
                    f"{' '.join(other.release.hardware or ())}, which needs something else",
                    do="Put the narrower row first, or make them exclude each other",
                )


def _rows_differ(entries: list[Published]) -> bool:
    """Whether the entries are rows for several hardware, each with needs of its own."""
    return len({entry.release.hardware for entry in entries}) > 1


def _shadows(release: Release, other: Release) -> bool:
    """Whether all hardware of a later row is that of an earlier one, which needs something else."""
    if release.hardware is None or other.hardware is None or release.hardware == other.hardware:
        return False
    hidden = all(
        any(fnmatchcase(each, glob) for glob in release.hardware) for each in other.hardware
    )
    return hidden and release.needs != other.needs


def _shown(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(str, value)) or "none"
    if isinstance(value, Needs):
        parts = [f"{name} {told}" for name, told in asdict(value).items() if told]
        return ", ".join(parts) or "nothing"
    if isinstance(value, dict):
        return ", ".join(f"{part} {version}" for part, version in value.items()) or "nothing"
    return str(value)


def _mistake(kind: str, release: KnownRelease, seen: str, do: str) -> CatalogMistake:
    return CatalogMistake(kind=kind, file=release.file, origins=release.origins, seen=seen, do=do)


def _shared_digests(releases: ReleaseIndex) -> Iterator[CatalogMistake]:
    seen = set[tuple[str, ...]]()
    for digest, sharing in releases.by_digest.items():
        names = tuple(sorted({one.file for one in sharing}))
        if len(names) > 1 and names not in seen:
            seen.add(names)
            origins = tuple(origin for one in sharing for origin in one.origins)
            yield CatalogMistake(
                kind="shared-digest",
                file=names[0],
                origins=origins,
                seen=f"the digest {digest} is also listed for {', '.join(names[1:])}",
                do="Find out which name is right; one of them has the digest of another file",
            )


def _named_versions(release: KnownRelease, namings: list[Naming]) -> list[str]:
    """What the name says where it says another version than the release does."""
    if release.version is None:
        return []
    told = {naming.of(release.file, case_blind=False).version for naming in namings} - {None}
    agrees = any(compare(version or "", release.version) == 0 for version in told)
    return [] if agrees else sorted(version for version in told if version is not None)


class NoSuchVersionError(Exception):
    """A version that no source lists; `near` are those that are."""

    def __init__(self, version: str, near: Sequence[str]) -> None:
        super().__init__(version)
        self.version, self.near = version, tuple(near)


def path(
    releases: Iterable[KnownRelease], start: str, target: str, sheet: Sheet | None = None
) -> Route:
    """The shortest chain from one version to another, and for which hardware and variant it holds.

    What a device needs besides is left out. Raises NoSuchVersionError.
    """
    scheme = sheet.versions.pattern if sheet is not None else None
    known = [one for one in releases if one.version is not None]
    named = any(leads_from(start, line) for one in known for line in one.reached_from or ())
    for version in (target,) if named else (start, target):
        if not any(compare(one.version or "", version, scheme) == 0 for one in known):
            versions = list(dict.fromkeys(one.version or "" for one in known))
            raise NoSuchVersionError(version, get_close_matches(version, versions, n=2))
    targets = [
        one
        for one in known
        if one.kind in (None, "system-image") and compare(one.version or "", target, scheme) == 0
    ]
    if not targets:
        missing = f"the catalog has no system image of version {target}"
        return Route(start=start, target=target, hops=None, missing=missing)
    ways = list[Route]()
    # One maker's versions lead nowhere in another's, nor one variant's in another's.
    for publisher, variant in dict.fromkeys((t.publisher, t.variant) for t in targets):
        ours = [one for one in known if one.publisher == publisher]
        ours = [one for one in ours if one.variant in (None, variant)]
        for hardware in _hardware_of(ours, [one for one in ours if one in targets]):
            family = {
                one: replace(one, hardware=None, revisions=None, needs=Needs())
                for one in ours
                if hardware is None or one.hardware is None or _covers(one.hardware, hardware)
            }
            goals = [family[one] for one in targets if one in family]
            standing = Standing(
                hardware=Hardware(), version=start, variant=variant, components=(), scheme=scheme
            )
            way = route(standing, goals, family.values())
            models = () if hardware is None else (hardware,)
            ways.append(replace(way, hardware=models, variant=variant))
    # Ways of the same files are one, for all hardware that they hold for.
    files: dict[object, list[Route]] = {}
    for way in ways:
        files.setdefault((_files(way), way.variant), []).append(way)
    found = [
        replace(same[0], hardware=tuple(dict.fromkeys(h for way in same for h in way.hardware)))
        for same in files.values()
    ]
    found.sort(key=_shortest_first)
    return replace(found[0], also=tuple(way for way in found[1:] if way.hops is not None))


def _files(way: Route) -> tuple[str, ...] | None:
    return None if way.hops is None else tuple(hop.release.file for hop in way.hops)


def _hardware_of(known: list[KnownRelease], targets: list[KnownRelease]) -> list[str | None]:
    """Every hardware, as some release names it, that a target is for; None: any."""
    if not targets:
        return []
    globs = dict.fromkeys(glob for one in known for glob in one.hardware or ())
    found: list[str | None] = [
        glob
        for glob in globs
        if any(one.hardware is None or _covers(one.hardware, glob) for one in targets)
    ]
    return found or [None]


def _covers(globs: tuple[str, ...], hardware: str) -> bool:
    """Whether all that a glob of hardware names is among these."""
    return any(fnmatchcase(hardware, glob) for glob in globs)


def way(judged: JudgedDevice, target: str, wanted: Wanted) -> Route:
    """The shortest chain from what a device runs to a version; that of the worst member counts.

    The file of the version is the one that `pick` and the audit take for each member. Raises
    NoSuchVersionError.
    """
    releases, scheme = judged.judge.releases, judged.judge.sheet.versions.pattern
    versions = list(releases.by_version)
    if not any(compare(version, target, scheme) == 0 for version in versions):
        raise NoSuchVersionError(target, get_close_matches(target, versions, n=2))
    ways = []
    for standing in standings(judged, wanted.variant, wanted.track):
        known = releases.for_model(standing.hardware.model)
        release, unfit = release_for(target, judged, wanted, standing.member or "")
        models = tuple(filter(None, (standing.hardware.model,)))
        if release is None:
            missing = f"not exactly one file of version {target} is for it"
            if unfit is not None:
                missing = f"{unfit.release.file}: {'; '.join(unfit.against)}"
            way = Route(start=standing.version, target=target, hops=None, missing=missing)
        else:
            way = route(standing, [release], known)
        ways.append(replace(way, hardware=models, variant=standing.variant))
    return max(ways, key=_shortest_first)


def _shortest_first(way: Route) -> tuple[bool, bool, int]:
    return way.hops is None, not way.known, len(way.hops or ())


def pick(judged: JudgedDevice, wanted: Wanted) -> Pick:
    """The release for a device, why the others are not, the way to it, and the component images."""
    releases, scheme = judged.judge.releases, judged.judge.sheet.versions.pattern
    stand = standings(judged, wanted.variant, wanted.track)
    able, others = [], []
    for one in releases.releases:
        if one.kind not in (None, "system-image"):
            continue
        found = fit_all(stand, one)
        if any(
            condition.of == "hardware" and condition.holds is False
            for condition in found.conditions
        ):
            continue
        if one.hardware is None:
            others.append(Picked(release=one, against=(NOT_TOLD,)))
        elif not may_be_for(found) or one.version is None:
            others.append(
                Picked(release=one, against=_identity(found) or ("its version is unknown",))
            )
        else:
            able.append(one)

    able = releases.once_each(sorted(able, key=best_first(releases, scheme)))
    goals = {one.member: wanted.goal_of(one.member or "") for one in stand}
    chosen = next((one for one in goals.values() if one is not None), None)
    if chosen is None and wanted.target is None:
        chosen = _best(able, stand)
    if chosen is not None:
        ours = [chosen, *(one for one in goals.values() if one is not None)]
        left = [one for one in able if not any(one.same_bytes(other) for other in ours)]
        others += [Picked(release=one, against=(_behind(one, chosen, releases),)) for one in left]
    parts = [
        one
        for one in releases.releases
        if one.kind == "component-image" and fit_all(stand, one).is_for is not False
    ]
    ways = tuple(
        route(one, [goal], releases.releases)
        for one in stand
        if (goal := goals[one.member] or chosen) is not None
    )
    several = {one for one in goals.values() if one is not None}
    return Pick(
        device=judged.device.device,
        chosen=chosen,
        unsure=_unsure(stand, chosen, wanted),
        others=tuple(others),
        parts=tuple(parts),
        by_member={str(name): one for name, one in goals.items() if one}
        if several > {chosen}
        else {},
        path=max(ways, key=_shortest_first) if ways else None,
    )


def _unsure(
    stand: Sequence[Standing], chosen: KnownRelease | None, wanted: Wanted
) -> tuple[str, ...]:
    """What is not known of whether the chosen one fits, or why none is chosen of what is wanted."""
    if chosen is not None:
        ours = [fit_all((one,), wanted.goal_of(one.member or "") or chosen) for one in stand]
        return tuple(dict.fromkeys(told for found in ours for told in _identity(found)))
    if wanted.unlisted is not None:
        return (f"policy wants {wanted.unlisted}, which is not in the catalog",)
    return (
        (f"policy wants {wanted.target}, and not exactly one of its files is for this device",)
        if wanted.target
        else ()
    )


def _best(able: list[KnownRelease], stand: Sequence[Standing]) -> KnownRelease | None:
    """The first that surely fits; else the first, where not only its variant would tell."""
    alike = [one for one in able if one.version == able[0].version]
    sure = next((one for one in alike if fit_all(stand, one).is_for), None)
    if sure is None and len({one.variant for one in alike}) > 1:
        return None
    return sure if sure is not None else next(iter(alike), None)


NOT_TOLD = "the catalog does not say which hardware it is for"


def _identity(fit: Fit) -> tuple[str, ...]:
    """What speaks against a release as one for a device, however it would be reached."""
    ours = [each for each in fit.conditions if each.of not in REACHING]
    return Fit(release=fit.release, conditions=tuple(ours)).against


def _behind(release: KnownRelease, chosen: KnownRelease, releases: ReleaseIndex) -> str:
    """Why a release is not the chosen one, though it is for the device."""
    if release.status != chosen.status:
        return f"its status is {release.status or 'unknown'}; {chosen.file} is {chosen.status}"
    if release.version == chosen.version:
        return (
            f"{chosen.file} is the same version; choose by variant ({release.variant or 'unknown'})"
        )
    newer = (compare(release.version or "", chosen.version or "") or 0) > 0
    if newer and is_affected(release, releases) and not is_affected(chosen, releases):
        return f"an advisory affects it, and policy prefers {chosen.file}, which none affects"
    return f"{chosen.file} is newer"

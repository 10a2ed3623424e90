"""Answers out of the catalog.

- find: by name, version, hardware, or a digest or its beginning.
- mistakes: one digest under two names, one name with two digests, dates in the future, a version
  that does not fit the name, upgrade steps that no release offers.
- path: the shortest chain of direct upgrades, the newest steps preferred.
- pick: the release for a device: it fits model, revision, memory, volume and variant; a recommended
  one before a current one before others, then the newest. A part's own version may lag the image's:
  only what a release needs and carries decides.
"""

import re
from collections import deque
from collections.abc import Iterable, Iterator
from datetime import date
from fnmatch import fnmatchcase
from functools import cmp_to_key

from ovek.engine.releases import ReleaseIndex
from ovek.engine.runs import variant_of
from ovek.engine.verdicts import fits
from ovek.model.choice import CatalogMistake, Pick, Picked, UpgradePath
from ovek.model.digest import TITLES
from ovek.model.naming import Naming
from ovek.model.sheet import Sheet
from ovek.model.size import show_size
from ovek.model.snapshot import Device
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare, runs

_STATUSES = ("recommended", "current", None, "old", "withdrawn")
_DIGEST_START = re.compile(r"[0-9a-f]{6,128}")


def find(releases: ReleaseIndex, text: str) -> list[KnownRelease]:
    """The releases that a text may mean: name, part of it or glob, version, model, or digest."""
    wanted = text.strip().casefold()
    found = []
    for one in releases.releases:
        names = one.file.casefold()
        digests = [digest for values in one.digests.values() for digest in values]
        plain = re.sub(r"[\s:]", "", wanted)
        if (
            wanted in names
            or fnmatchcase(names, wanted)
            or wanted == (one.version or "").casefold()
            or any(fnmatchcase(text.strip(), glob) for glob in one.fits or ())
            or (_DIGEST_START.fullmatch(plain) and any(d.startswith(plain) for d in digests))
        ):
            found.append(one)
    return found


def mistakes(
    releases: ReleaseIndex, today: date, namings: Iterable[Naming] = ()
) -> Iterator[CatalogMistake]:
    """Go through what is wrong in the catalog."""
    namings = list(namings)
    yield from _shared_digests(releases)
    for one in releases.releases:
        for algorithm in sorted(one.disputed):
            values = " and ".join(sorted(one.digests[algorithm]))
            yield _mistake(
                "two-digests",
                one,
                f"sources give two {TITLES[algorithm]} digests: {values}",
                "Ask the publisher which is right, and correct or remove the other",
            )
        if one.published is not None and one.published > today:
            yield _mistake(
                "future-date",
                one,
                f"it is published on {one.published}, which is to come",
                "Correct the date",
            )
        for named in _named_versions(one, namings):
            yield _mistake(
                "version-and-name",
                one,
                f"its version is {one.version}, its name says {named}",
                "Correct the version, or see whether the file was renamed",
            )
        for start in one.reached_from or ():
            known = [each for each in releases.releases if each.version is not None]
            family = [each for each in known if each.fits == one.fits]
            if not any(leads_from(each.version or "", start) for each in family):
                yield _mistake(
                    "unreachable-step",
                    one,
                    f"it can be reached from {start}, and no release of that version is known",
                    "Import the releases of that version, or correct from",
                )


def _mistake(kind: str, one: KnownRelease, saw: str, do: str) -> CatalogMistake:
    return CatalogMistake(kind=kind, file=one.file, origins=one.origins, saw=saw, do=do)


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
                saw=f"the digest {digest} is also that of {', '.join(names[1:])}",
                do="See which name is right; one of them has another file's digest",
            )


def _named_versions(one: KnownRelease, namings: list[Naming]) -> list[str]:
    """What the name says where it says another version than the release does."""
    if one.version is None:
        return []
    told = {naming.of(one.file, case_blind=False).version for naming in namings} - {None}
    agrees = any(compare(version or "", one.version) == 0 for version in told)
    return [] if agrees else sorted(version for version in told if version is not None)


def leads_from(version: str, start: str) -> bool:
    """Whether a version is of a line: `7.4.1` is of `7.4`, and of `7.4.1` itself.

    >>> leads_from("7.4.1", "7.4"), leads_from("7.40", "7.4"), leads_from("7", "7.4")
    (True, False, False)
    """
    whole, front = runs(version) or (), runs(start) or ()
    return bool(front) and whole[: len(front)] == front


def path(
    releases: Iterable[KnownRelease], start: str, target: str, sheet: Sheet | None = None
) -> UpgradePath:
    """The shortest chain of direct upgrades from one version to another."""
    scheme = sheet.versions.pattern if sheet is not None else None
    known = [one for one in releases if one.version and one.kind in (None, "system-image")]

    def newer_first(one: KnownRelease, other: KnownRelease) -> int:
        return compare(other.version or "", one.version or "", scheme) or 0

    known.sort(key=cmp_to_key(newer_first))
    targets = [one for one in known if compare(one.version or "", target, scheme) == 0]
    if not targets:
        missing = f"no release of version {target} is known"
        return UpgradePath(start=start, target=target, steps=None, missing=missing)
    # One maker's versions lead nowhere in another's.
    families = {(one.publisher, one.fits) for one in targets}
    known = [one for one in known if (one.publisher, one.fits) in families]
    if compare(start, target, scheme) == 0:
        return UpgradePath(start=start, target=target, steps=())
    waiting: deque[tuple[str, tuple[KnownRelease, ...]]] = deque([(start, ())])
    seen = {start}
    while waiting:
        version, steps = waiting.popleft()
        for one in known:
            there = one.version or ""
            allowed = one.reached_from
            if there in seen or (
                allowed is not None and not any(leads_from(version, each) for each in allowed)
            ):
                continue
            order = compare(there, version, scheme)
            beyond = compare(there, target, scheme)
            if order is None or order <= 0 or beyond is None or beyond > 0:
                continue
            if beyond == 0:
                return UpgradePath(start=start, target=target, steps=(*steps, one))
            seen.add(there)
            waiting.append((there, (*steps, one)))
    wanted = " or ".join(dict.fromkeys(", ".join(one.reached_from or ()) for one in targets))
    reached = ", ".join(sorted(seen))
    if compare(start, target, scheme) == 1:
        missing = f"{target} is earlier than {start}; no release says how to go back"
    else:
        missing = f"{target} is reached from {wanted or 'nothing'}; from {start} lead: {reached}"
    return UpgradePath(start=start, target=target, steps=None, missing=missing)


def pick(releases: ReleaseIndex, device: Device, sheet: Sheet) -> Pick:
    """The release for a device, why the others are not, and the part images that go with it."""
    scheme, variant = sheet.versions.pattern, variant_of(device, Naming(sheet))
    able, others = [], []
    for one in releases.releases:
        if one.kind not in (None, "system-image") or fits(one, device.hardware) is False:
            continue
        against = tuple(_against(one, device, variant))
        if against:
            others.append(Picked(release=one, against=against))
        else:
            able.append(one)

    def better_first(one: KnownRelease, other: KnownRelease) -> int:
        rank = _STATUSES.index(one.status) - _STATUSES.index(other.status)
        return rank or (compare(other.version or "", one.version or "", scheme) or 0)

    able.sort(key=cmp_to_key(better_first))
    chosen = able[0] if able else None
    for one in able[1:]:
        assert chosen is not None
        others.append(Picked(release=one, against=(_behind(one, chosen),)))
    family = [one for one in releases.releases if fits(one, device.hardware) is not False]
    parts = [one for one in family if one.kind == "part-image"]
    runs_now = device.running.version
    way = None
    if chosen is not None and chosen.version is not None and runs_now is not None:
        way = path(family, runs_now, chosen.version, sheet)
    return Pick(
        device=device.device, chosen=chosen, others=tuple(others), parts=tuple(parts), path=way
    )


def _against(one: KnownRelease, device: Device, variant: str | None) -> Iterator[str]:
    hardware = device.hardware
    if one.fits is None:
        yield "what hardware it is for is not told"
    elif fits(one, hardware) is None:
        yield "whether it is for this hardware is not known"
    if one.status == "withdrawn":
        yield "it is withdrawn"
    if one.variant is not None and variant is not None and one.variant != variant:
        yield f"it is the variant {one.variant}, {variant} runs"
    if one.needs.memory:
        if hardware.memory is None:
            need = show_size(one.needs.memory)
            yield f"it needs {need} of memory, and how much there is, is not known"
        elif hardware.memory < one.needs.memory:
            have, need = show_size(hardware.memory), show_size(one.needs.memory)
            yield f"it needs {need} of memory, there are {have}"
    if one.needs.volume:
        for member in device.members or ():
            sizes = [volume.capacity for volume in member.volumes or () if volume.capacity]
            if sizes and max(sizes) < one.needs.volume:
                need, have = show_size(one.needs.volume), show_size(max(sizes))
                yield f"it needs a volume of {need}, member {member.id} has {have}"
    running = [part for member in device.members or () for part in member.parts or ()]
    for part, version in (one.needs.parts or {}).items():
        if part in one.carries:
            continue
        known = [each for each in running if each.part == part and each.version is not None]
        if not known:
            yield f"it needs {part} {version}, and what runs is not known"
        for each in known:
            if compare(each.version or "", version) == -1:
                yield f"it needs {each.shown} {version}, {each.version} runs"


def _behind(one: KnownRelease, chosen: KnownRelease) -> str:
    if one.status != chosen.status:
        return f"its status is {one.status or 'not told'}, {chosen.file} is {chosen.status}"
    if one.version == chosen.version:
        return f"{chosen.file} is the same version; choose by variant ({one.variant or 'not told'})"
    return f"{chosen.file} is newer"

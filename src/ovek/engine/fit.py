"""May a release be brought to a member? Condition by condition, each yes, no or not known.

1. `status`: it is not withdrawn. `track`: it is of the wanted one.
2. `hardware` and `revision` of that member; a release that tells of none is for any.
3. `variant`: the wanted one, else the one that runs.
4. `memory` of the member, and the capacity of the `volume` that its images lie on.
5. `from`: what runs is of a line that it can be loaded over, or it runs already.
6. `components`: every component by slot is new enough, or the release brings what it needs itself.

Insufficient is no, not known is not known. The first four say whether a release is *for* a member,
the last two whether it can be reached from where the member stands.
"""

from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase

from msgspec import Struct

from ovek.engine.components import at_reload
from ovek.engine.layouts.writing import image_volume
from ovek.engine.runs import Runs, runs_of, variant_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.catalog import Track
from ovek.model.fit import Fit, FitCondition, Of
from ovek.model.pattern import Pattern
from ovek.model.size import show_size
from ovek.model.snapshot import Component, Hardware
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare, running


class Standing(Struct, frozen=True, kw_only=True):
    """Where one member stands: what it is, what it runs, and what is wanted of it.

    `member` is its id where there are several. `capacity` is that of the volume for images, in
    bytes; `has_volume` is whether it has one. None is not known. `scheme` orders versions of
    images, `component_scheme` those of components; None is the usual order.
    """

    hardware: Hardware
    version: str | None
    variant: str | None = None
    track: Track | None = None
    components: tuple[Component, ...] | None = None
    capacity: int | None = None
    has_volume: bool = True
    member: str | None = None
    scheme: Pattern | None = None
    component_scheme: Pattern | None = None


def standings(
    judged: JudgedDevice,
    variant: str | None = None,
    track: Track | None = None,
    running: tuple[Runs, ...] | None = None,
) -> tuple[Standing, ...]:
    """Where each member of a device stands; `variant` and `track` are those that are wanted.

    `running` is what each runs, where that was worked out before.
    """
    each_runs = runs_of(judged) if running is None else running
    found = tuple(
        _of_member(judged, one, running, variant, track)
        for one, running in zip(judged.members or (), each_runs, strict=True)
    )
    return found or (_of_device(judged, variant, track),)


def _of_member(
    judged: JudgedDevice,
    one: JudgedMember,
    running: Runs,
    variant: str | None,
    track: Track | None,
) -> Standing:
    sheet, several = judged.judge.sheet, len(judged.members or ()) > 1
    volume = image_volume(sheet, one.member)
    return Standing(
        scheme=sheet.versions.pattern,
        component_scheme=sheet.versions.components.pattern,
        hardware=one.hardware,
        version=running.version,
        variant=variant or (running.variant if judged.judge.releases.by_variant else None),
        track=track,
        components=at_reload(judged, one),
        capacity=volume.capacity if volume is not None else None,
        has_volume=one.member.volumes is None or volume is not None,
        member=one.member.id if several else None,
    )


def _of_device(judged: JudgedDevice, variant: str | None, track: Track | None) -> Standing:
    """A device whose members are not known."""
    return Standing(
        scheme=judged.judge.sheet.versions.pattern,
        component_scheme=judged.judge.sheet.versions.components.pattern,
        hardware=judged.device.hardware,
        version=judged.device.running.version,
        variant=variant or variant_of(judged.device, judged.judge.naming),
        track=track,
    )


def fit(standing: Standing, release: KnownRelease) -> Fit:
    """Hold a release against one member."""
    return Fit(release=release, conditions=tuple(_conditions(standing, release)))


def fit_all(several: Iterable[Standing], release: KnownRelease) -> Fit:
    """Hold a release against every member of a device; the worst of each condition counts."""
    worst: dict[Of, FitCondition] = {}
    for standing in several:
        for each in _conditions(standing, release):
            known = worst.get(each.of)
            if known is None or _weight(each) < _weight(known):
                worst[each.of] = each
    return Fit(release=release, conditions=tuple(worst.values()))


def _weight(condition: FitCondition) -> int:
    return (False, None, True).index(condition.holds)


def _conditions(standing: Standing, release: KnownRelease) -> Iterator[FitCondition]:
    yield _of("status", release.status != "withdrawn", f"it is {release.status or 'no status'}")
    if standing.track is not None and release.track is not None:
        seen = f"it is from the {release.track} track; policy wants {standing.track}"
        yield _of("track", release.track == standing.track, seen)
    yield from _hardware(standing, release)
    yield from _variant(standing, release)
    yield from _sizes(standing, release)
    yield from _reached(standing, release)
    yield from _components(standing, release)


def _of(of: Of, holds: bool | None, seen: str) -> FitCondition:
    return FitCondition(of=of, holds=holds, seen=seen)


def _hardware(standing: Standing, release: KnownRelease) -> Iterator[FitCondition]:
    model, revision = standing.hardware.model, standing.hardware.revision
    if release.hardware is not None and model is None:
        seen = f"it is for {' '.join(release.hardware)}, and the model of this device is unknown"
        yield _of("hardware", None, seen)
    elif release.hardware is not None:
        holds = any(fnmatchcase(model or "", glob) for glob in release.hardware)
        yield _of("hardware", holds, f"it is for {' '.join(release.hardware)}; this is {model}")
    if release.revisions is not None:
        there = revision or "unknown"
        fits = [fnmatchcase(revision or "", glob) for glob in release.revisions]
        seen = f"it is for the revisions {' '.join(release.revisions)}; this one is {there}"
        yield _of("revision", None if revision is None else any(fits), seen)


def _variant(standing: Standing, release: KnownRelease) -> Iterator[FitCondition]:
    if release.variant is None:
        return
    if standing.variant is None:
        seen = f"it is the variant {release.variant}, and the running variant is unknown"
        yield _of("variant", None, seen)
        return
    seen = f"it is the variant {release.variant}; this device uses {standing.variant}"
    yield _of("variant", release.variant == standing.variant, seen)


def _sizes(standing: Standing, release: KnownRelease) -> Iterator[FitCondition]:
    needs = release.needs_of(standing.hardware.model)
    memory, volume = needs.memory, needs.volume
    if memory:
        have = standing.hardware.memory
        yield _of(
            "memory",
            None if have is None else have >= memory,
            f"it needs {show_size(memory)} of memory, {_has(standing, have)}",
        )
    if volume and standing.has_volume:
        have = standing.capacity
        yield _of(
            "volume",
            None if have is None else have >= volume,
            f"it needs a volume of {show_size(volume)}, {_has(standing, have)}",
        )


def _has(standing: Standing, size: int | None) -> str:
    """What there is, in words."""
    who = "the device has" if standing.member is None else f"member {standing.member} has"
    return f"{who} {'an amount that is unknown' if size is None else show_size(size)}"


def _reached(standing: Standing, release: KnownRelease) -> Iterator[FitCondition]:
    fronts, version = release.reached_from, standing.version
    if fronts is None:
        return
    wanted = ", ".join(fronts)
    if version is None:
        seen = f"it can only be installed over {wanted}, and the running version is unknown"
        yield _of("from", None, seen)
        return
    scheme = standing.scheme
    same = release.version is not None and compare(version, release.version, scheme) == 0
    holds = same or any(leads_from(version, front) for front in fronts)
    yield _of("from", holds, f"it can only be installed over {wanted}; running is {version}")


def _components(standing: Standing, release: KnownRelease) -> Iterator[FitCondition]:
    """What a release needs of components; one that the device surely has not is no obstacle."""
    scheme, known = standing.component_scheme, standing.components
    for name, need in (release.needs_of(standing.hardware.model).components or {}).items():
        brings = release.carries.get(name)
        if brings is not None and compare(brings, need, scheme) in (0, 1):
            continue
        if known is None:
            yield _of(
                "components", None, f"it needs {name} {need}, and the installed version is unknown"
            )
            continue
        for each in known:
            if each.component != name:
                continue
            order = None if each.version is None else compare(each.version, need, scheme)
            have = each.version or "an unknown version"
            holds = None if order is None else order >= 0
            yield _of("components", holds, f"it needs {each.shown} {need}; installed is {have}")


def leads_from(version: str, start: str) -> bool:
    """Whether a version is of a line: `7.4.1` is of `7.4`, and of `7.4.1` itself.

    >>> leads_from("7.4.1", "7.4"), leads_from("7.40", "7.4"), leads_from("7", "7.4")
    (True, False, False)
    """
    whole, front = running(version) or (), running(start) or ()
    return bool(front) and whole[: len(front)] == front

"""The components of a member that are older than its image needs, or goes with."""

from collections.abc import Iterator

from ovek.engine.components import loaded
from ovek.engine.plan.aim import Leg
from ovek.engine.plan.kinds import Difference
from ovek.engine.plan.situation import Situation
from ovek.engine.verdicts import JudgedMember, is_for_hardware
from ovek.model.snapshot import Component
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare


def components_to_load(now: Situation, member: JudgedMember, leg: Leg) -> Iterator[Difference]:
    """Components that are older than the image needs, or goes with, and that no reload updates."""
    scheme = now.judged.judge.sheet.versions.components.pattern
    for hop in leg.loads:
        for name, brings in hop.release.carries.items():
            for component in member.member.components or ():
                if component.component == name and is_older(component.version, brings, scheme):
                    yield Difference("component", leg.member, None, component, hop.release)
    if leg.release is None or leg.home is None or leg.loads:
        return
    for component, need in _lagging(now, member, leg):
        found = component_image(now, member, component.component, need)
        if found is not None:
            yield Difference("component", leg.member, None, component, found)


def _lagging(now: Situation, member: JudgedMember, leg: Leg) -> Iterator[tuple[Component, str]]:
    """The components that will be too old for the image of a leg, and what it needs."""
    assert leg.release is not None
    scheme = now.judged.judge.sheet.versions.components.pattern
    needs = needed_by(now, member, leg.release)
    running = now.runs_on(leg.member)
    if (
        leg.last
        and running.image is not None
        and leg.release.same_bytes(running.image.judgement.release)
    ):
        for name, version in leg.release.carries.items():
            needs.setdefault(name, version)
    carries = {} if running.version == leg.version else leg.release.carries
    for each in loaded(now.judged, member, None):
        component = each.component
        need = needs.get(component.component)
        if need is None or not is_older(component.version, need, scheme):
            continue
        then = each.then if each.place is not None else carries.get(component.component)
        if then is not None and not is_older(then, need, scheme):
            continue
        yield component, need


def needed_by(now: Situation, member: JudgedMember, release: KnownRelease) -> dict[str, str]:
    """The versions of components that a release needs on a member, or is installed with."""
    scheme = now.judged.judge.sheet.versions.components.pattern
    needs = dict(release.needs_of(member.hardware.model).components or {})
    for name, version in _goes_with(now, member, release):
        if name not in needs or compare(version, needs[name], scheme) == 1:
            needs[name] = version
    return needs


def is_older(version: str | None, need: str, scheme: object) -> bool:
    """Whether a version is known and older than what is needed."""
    return version is not None and compare(version, need, scheme) == -1  # type: ignore[arg-type]


def _goes_with(
    now: Situation, member: JudgedMember, release: KnownRelease
) -> Iterator[tuple[str, str]]:
    """The firmware that is installed together with a release on a member."""
    releases = now.judged.judge.releases
    for file in release.with_of(member.hardware.model):
        for other in releases.named(file, case_blind=False):
            if _is_for(other, member):
                yield from other.carries.items()


def _is_for(release: KnownRelease, member: JudgedMember) -> bool:
    return is_for_hardware(release, member.hardware) is not False


def component_image(
    now: Situation, member: JudgedMember, component: str, need: str
) -> KnownRelease | None:
    """The newest image of a component for a member that brings what is needed."""
    scheme = now.judged.judge.sheet.versions.components.pattern
    best: KnownRelease | None = None
    for release in now.judged.judge.releases.for_model(member.hardware.model):
        if (
            release.kind == "component-image"
            and component in release.carries
            and release.status != "withdrawn"
            and _is_for(release, member)
            and not is_older(release.carries[component], need, scheme)
            and (
                best is None
                or compare(release.carries[component], best.carries[component], scheme) == 1
            )
        ):
            best = release
    return best

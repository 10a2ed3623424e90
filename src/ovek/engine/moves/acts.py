"""Moves on the device as a whole: reload, commit, save and back up what is set, load components."""

from collections.abc import Iterable, Iterator

from ovek.engine.layouts import layout_of
from ovek.engine.layouts.paired import TRIAL
from ovek.engine.moves import About, Move, Situation, for_each
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember, fits
from ovek.model.change import BackUp, Change, Commit, LoadComponent, Reload, Save
from ovek.model.pattern import Pattern
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Component
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare


def reload(situation: Situation, about: About) -> Iterator[Move]:
    """Reload, where every member would start, and all that is to start is proven."""
    if situation.walk.reload == "ready":
        starts = [each.starts.at for each in situation.walk.members if each.starts is not None]
        places = frozenset(at for at in starts if at is not None)
        images = [situation.judged.image(at) for at in places]
        releases = [image.judgement.release if image is not None else None for image in images]
        takes = [release.minutes if release is not None else None for release in releases]
        known = [each for each in takes if each is not None]
        minutes = max(known) if known and len(known) == len(takes) else None
        yield Move((Reload(minutes=minutes),), places)


def commit(situation: Situation, about: About) -> Iterator[Move]:
    """Make the trial the committed directory, where it runs and is proven."""
    if not layout_of(situation.judged.judge.sheet.start.layout).pair:
        return
    runs = {each.member: each for each in runs_of(situation.judged)}

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        trial = situation.member(member).banks.get(TRIAL)
        at = Place(BANK, TRIAL, member)
        running = {at, *(file.on(member) for file in trial.parts)} if trial is not None else set()
        if trial is None or trial.judgement.verdict != "proven":
            return
        if running.isdisjoint(runs[member].places):
            return
        yield "commit", Move((Commit(member=member),), frozenset({at}))

    yield from for_each(about, of_member)


def give_up(situation: Situation, about: About) -> Iterator[Move]:
    """Go back to what is committed, where the trial that runs is not what was published."""
    trials = [situation.member(name).banks.get(TRIAL) for name in about.members]
    if any(each is None or each.judgement.verdict != "proven" for each in trials):
        yield from reload(situation, about)


def save_config(situation: Situation, about: About) -> Iterator[Move]:
    """Save the configuration that runs."""
    config = situation.judged.device.config
    if config is not None and config.unsaved_changes:
        yield Move((Save(member=None),))


def back_up_config(situation: Situation, about: About) -> Iterator[Move]:
    """Take the configuration to the shelf."""
    yield Move((BackUp(),))


def load_components(situation: Situation, about: About) -> Iterator[Move]:
    """Load each component that is older than what starts next, or runs, needs or brings."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        one, judged = situation.member(member), situation.judged
        starts = situation.walk_of(member).starts
        image = judged.image(starts.at) if starts is not None and starts.at is not None else None
        release = image.judgement.release if image is not None else None
        if release is None:
            return
        needs = dict(release.needs_of(one.hardware.model).components or {})
        for component, brings in release.carries.items():
            needs.setdefault(component, brings)
        changes: list[Change] = []
        for component, need in needs.items():
            changes += _loads(situation.judged, one, component, need)
        if changes:
            yield "load", Move(tuple(changes))

    return for_each(about, of_member)


def _loads(
    judged: JudgedDevice, one: JudgedMember, component: str, need: str
) -> Iterator[LoadComponent]:
    """Load the newest firmware of a component into every slot that has less than is needed."""
    scheme = judged.judge.sheet.versions.components.pattern
    able = [
        release
        for release in judged.judge.releases.for_model(one.hardware.model)
        if release.kind == "component-image"
        and component in release.carries
        and release.status != "withdrawn"
        and fits(release, one.hardware) is not False
        and compare(release.carries[component], need, scheme) in (0, 1)
    ]
    if able:
        for each in components_below(one, component, need, scheme):
            yield load(one, each, newest(able, component, scheme))


def newest(able: Iterable[KnownRelease], component: str, scheme: Pattern | None) -> KnownRelease:
    """The component image that brings the newest firmware of a component."""
    best, *rest = able
    for one in rest:
        if compare(one.carries[component], best.carries[component], scheme) == 1:
            best = one
    return best


def components_below(
    one: JudgedMember, component: str, need: str, scheme: Pattern | None
) -> Iterator[Component]:
    """The components of a name, slot by slot, that have less than is needed."""
    for each in one.member.components or ():
        if (
            each.component == component
            and each.version
            and compare(each.version, need, scheme) == -1
        ):
            yield each


def load(one: JudgedMember, component: Component, release: KnownRelease) -> LoadComponent:
    """Load the firmware that a component image brings into one slot."""
    return LoadComponent(
        member=one.member.id,
        component=component.component,
        slot=component.slot,
        version=release.carries[component.component],
        image=release.file,
        minutes=release.minutes,
    )

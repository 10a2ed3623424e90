"""Moves on the device as a whole: reload, commit, save and back up what is set, load parts."""

from collections.abc import Iterable, Iterator

from ovek.engine.layouts import layout_of
from ovek.engine.layouts.paired import TRIAL
from ovek.engine.moves import About, Move, Situation, for_each
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember, fits
from ovek.model.change import BackUp, Change, Commit, LoadPart, Reload, Save
from ovek.model.pattern import Pattern
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Part
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
        running = {at, *(part.on(member) for part in trial.parts)} if trial is not None else set()
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


def load_parts(situation: Situation, about: About) -> Iterator[Move]:
    """Load each part that is older than the image that starts next, or runs, needs or brings."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        one, judged = situation.member(member), situation.judged
        starts = situation.walk_of(member).starts
        image = judged.image(starts.at) if starts is not None and starts.at is not None else None
        release = image.judgement.release if image is not None else None
        if release is None:
            return
        needs = dict(release.needs_of(one.hardware.model).parts or {})
        for part, brings in release.carries.items():
            needs.setdefault(part, brings)
        changes: list[Change] = []
        for part, need in needs.items():
            changes += _loads(situation.judged, one, part, need)
        if changes:
            yield "load", Move(tuple(changes))

    return for_each(about, of_member)


def _loads(judged: JudgedDevice, one: JudgedMember, part: str, need: str) -> Iterator[LoadPart]:
    """Load the newest firmware of a part into every slot that has less than is needed."""
    scheme = judged.judge.sheet.versions.parts.pattern
    able = [
        release
        for release in judged.judge.releases.for_model(one.hardware.model)
        if release.kind == "part-image"
        and part in release.carries
        and release.status != "withdrawn"
        and fits(release, one.hardware) is not False
        and compare(release.carries[part], need, scheme) in (0, 1)
    ]
    if able:
        for each in parts_below(one, part, need, scheme):
            yield load(one, each, newest(able, part, scheme))


def newest(able: Iterable[KnownRelease], part: str, scheme: Pattern | None) -> KnownRelease:
    """The part image that brings the newest firmware of a part."""
    best, *rest = able
    for one in rest:
        if compare(one.carries[part], best.carries[part], scheme) == 1:
            best = one
    return best


def parts_below(one: JudgedMember, part: str, need: str, scheme: Pattern | None) -> Iterator[Part]:
    """The parts of a name, slot by slot, that have less than is needed."""
    for each in one.member.parts or ():
        if each.part == part and each.version and compare(each.version, need, scheme) == -1:
            yield each


def load(one: JudgedMember, part: Part, release: KnownRelease) -> LoadPart:
    """Load the firmware that a part image brings into one slot."""
    return LoadPart(
        member=one.member.id,
        part=part.part,
        slot=part.slot,
        version=release.carries[part.part],
        image=release.file,
        minutes=release.minutes,
    )

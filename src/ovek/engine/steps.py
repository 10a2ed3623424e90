"""A plan as steps, each with the changes that it is: what `replay` then tries out.

1. Back up what exists nowhere else.
2. Check the digest of what must stay and start.
3. Delete, the lowest tier first; of a set its set file first, so that no half set is tried.
4. Check the free space.
5. For an image: copy or write it, unless it is there, check its digest, point the next start at it
   as the layout says, and reload in a window.
"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.changes import content_of, taken
from ovek.engine.choose import Unit
from ovek.engine.hold import Told
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.writing import Spot
from ovek.engine.replay import Replay, Stage
from ovek.engine.runs import version_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.change import BackUp, Change, Copy, Delete, WriteBank
from ovek.model.digest import STRONGEST_FIRST, Algorithm
from ovek.model.naming import IMAGE_ROLES
from ovek.model.place import BANK, Place
from ovek.model.plan import Lost, Step
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Volume
from ovek.model.typed import is_plain
from ovek.model.verdict import Image, KnownRelease
from ovek.model.walk import DeviceWalk


class Act(NamedTuple):
    """One step before it is tried out, and the changes that it is; none is only looking."""

    step: Step
    changes: tuple[Change, ...] = ()


class Choice(Struct, frozen=True, kw_only=True):
    """What was chosen for one member: the units that go, and where the image goes, if any.

    `told` are the files of the member, `lost` what a bank holds that is written over. Where it is
    not `enough`, nothing comes after the deletions.
    """

    judged: JudgedDevice
    one: JudgedMember
    volume: Volume | None
    going: Sequence[Unit] = ()
    told: Sequence[Told] = ()
    release: KnownRelease | None = None
    spot: Spot | None = None
    lost: Lost | None = None
    enough: bool = True

    @property
    def sheet(self) -> Sheet:
        """The sheet of the device."""
        return self.judged.judge.sheet

    def deletes(self) -> list[Delete]:
        """The deletions by themselves."""
        member = self.one.member.id
        return [Delete(place=p.on(member)) for unit in self.going for p in unit.places]


def started(walk: DeviceWalk, member: str) -> str | None:
    """What a member starts next, in words; None: nothing, or not known."""
    starts = next(each.starts for each in walk.members if each.member == member)
    if starts is None:
        return None
    return f"{starts.version} from {starts.place}" if starts.version else starts.place


def acts_of(choice: Choice, walks: tuple[DeviceWalk, DeviceWalk]) -> list[Act]:
    """The steps of a plan; `walks` are those before it and after its deletions."""
    acts = list(_back_ups(choice))
    member = choice.one.member.id
    gone = {place for unit in choice.going for place in unit.places}
    if choice.volume is not None:
        acts += _checks(choice, walks[0], gone)
        if started(walks[0], member) != started(walks[1], member):
            acts += _checks(choice, walks[1], gone)
        acts += _deletions(choice)
        if not choice.enough:
            return acts
        acts.append(Act(Step(kind="check-free", place=f"{choice.volume.name}:")))
    if choice.release is not None and choice.spot is not None:
        acts += _bring(choice, choice.release, choice.spot)
    return acts


def _back_ups(choice: Choice) -> Iterator[Act]:
    roles = {each.place: each.role for each in choice.told}
    files = {each.place: each.file for each in choice.told}
    for unit in choice.going:
        if unit.tier >= 4 and roles[unit.places[0]] in (*IMAGE_ROLES, "set-file"):
            for place in unit.places:
                change = BackUp(place=place.on(choice.one.member.id), size=files[place].size)
                yield Act(Step(kind="back-up", place=str(place)), (change,))
    lost, spot = choice.lost, choice.spot
    if lost is None or spot is None or spot.replaces:
        return
    if lost.verdict not in (None, "altered", "cut-short") and not lost.elsewhere:
        bank = Place(BANK, spot.bank or "", choice.one.member.id)
        yield Act(Step(kind="back-up", bank=spot.bank, version=lost.version), (BackUp(place=bank),))


def _checks(choice: Choice, walk: DeviceWalk, gone: set[Place]) -> Iterator[Act]:
    """Check the image that a walk starts and that stays, where a digest of it is known."""
    one = choice.one
    starts = next(each.starts for each in walk.members if each.member == one.member.id)
    if starts is None or starts.at is None or starts.at.member != one.member.id:
        return
    image = choice.judged.image(starts.at)
    for part in image.parts if image is not None and image.parts else (starts.at.on(None),):
        held = one.images.get(part)
        digest = _digest(held)
        if digest is not None and part not in gone:
            name, value = digest
            yield Act(Step(kind="check-digest", place=str(part), algorithm=name, digest=value))


def _digest(image: Image | None) -> tuple[Algorithm, str] | None:
    """The strongest digest of a proven image."""
    if image is None or image.judgement.verdict != "proven" or image.file is None:
        return None
    return next(((name, value) for name, value in image.file.digests or ()), None)


def _published(release: KnownRelease) -> tuple[Algorithm, str] | None:
    """The strongest digest of a release on which its sources agree."""
    for name in STRONGEST_FIRST:
        if name in release.digests and name not in release.disputed:
            return name, min(release.digests[name])
    return None


def _deletions(choice: Choice) -> Iterator[Act]:
    assert choice.volume is not None
    files = {each.place: each.file for each in choice.told}
    for unit in choice.going:
        for place in unit.places:
            frees = taken(files[place].least, choice.volume, choice.sheet)
            step = Step(kind="delete", place=str(place), frees=frees, tier=unit.tier, why=unit.why)
            yield Act(step, (Delete(place=place.on(choice.one.member.id)),))


def _bring(choice: Choice, release: KnownRelease, spot: Spot) -> Iterator[Act]:
    """Bring an image to its place, unless it is there; check it and have it started."""
    member, layout = choice.one.member, layout_of(choice.sheet.start.layout)
    place = None if spot.place is None else str(spot.place.on(None))
    content = content_of(release)
    about = Step(
        kind="copy", place=place, bank=spot.bank, image=release.file, version=release.version
    )
    if not spot.there:
        change: Change
        if spot.place is not None:
            change = Copy(place=spot.place, content=content, bank=spot.bank)
            yield Act(about, (change,))
        else:
            change = WriteBank(member=member.id, bank=spot.bank or "", content=content)
            yield Act(replace(about, kind="write-bank"), (change,))
    digest = _published(release)
    if digest is not None and (place is not None or not spot.there):
        name, value = digest
        yield Act(replace(about, kind="check-digest", algorithm=name, digest=value))
    points = layout.point(member, spot)
    if points:
        yield Act(replace(about, kind="set-boot", once=layout.pair), points)
    if points or not _runs_it(choice, release):
        yield Act(replace(about, kind="reload", place=None, bank=None, commits=layout.pair))


def _runs_it(choice: Choice, release: KnownRelease) -> bool:
    """Whether the member runs a release already, so that nothing is to be reloaded for it."""
    version = version_of(choice.judged, choice.one)
    return version is not None and version == release.version


def finished(choice: Choice, acts: Sequence[Act], replayed: Replay) -> list[Step]:
    """The steps with what is expected after each, and what to type."""
    stages, walk, device = iter(replayed.stages), replayed.before, choice.judged.device
    member, steps = choice.one.member.id, list[Step]()
    left: tuple[str, ...] = ()
    for act in acts:
        done: list[Stage] = [next(stages) for _ in act.changes]
        if done:
            walk, device = done[-1].walk, done[-1].device
        harm, left = _harm(done, left), done[-1].harm if done else left
        one = next(each for each in device.members or () if each.id == member)
        volume = one.volume(choice.volume.name) if choice.volume is not None else None
        words = _words(act.step, member)
        line, plain = choice.sheet.worded(act.step.kind, words), all(map(is_plain, words.values()))
        steps.append(
            replace(
                act.step,
                line=line if plain else None,
                by_hand=line is not None and not plain,
                free=volume.free if volume is not None else None,
                reload=walk.reload,
                starts=started(walk, member),
                safe=not harm,
                harm=harm,
            )
        )
    return steps


def _harm(done: Sequence[Stage], left: tuple[str, ...]) -> tuple[str, ...]:
    """What a stop after a step, or in its middle, leaves worse; `left` is what was so before it.

    A copy takes its time, so that its middle counts whatever was before. Settings that mend what
    was worse are made at once: what is worse until they are all made was so before them.
    """
    if not done:
        return left
    way = [told for stage in done for told in stage.halfway]
    way += [told for stage in done for told in stage.harm if told not in left]
    return tuple(dict.fromkeys([*way, *done[-1].harm]))


def _words(step: Step, member: str) -> dict[str, str]:
    """What the wording of a step may name."""
    volume, _, path = (step.place or "").partition(":")
    words = {
        "member": member,
        "volume": volume,
        "path": path,
        "bank": step.bank or "",
        "file": step.image or "",
        "algorithm": step.algorithm or "",
        "digest": step.digest or "",
    }
    return {name: value for name, value in words.items() if value}

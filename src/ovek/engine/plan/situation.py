"""A device with what is wanted of it, and what becomes of it when changes are tried out.

A change is held against the best boot that each member had on the way so far, so that the rest of a
plan is a plan. What is no worse is told in `replay`; the places that a plan means are its aim, the
next install on the way, the fallback and what runs.
"""

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from functools import cached_property, partial
from typing import Any, TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.changes import refusal
from ovek.engine.fit import Standing, standings
from ovek.engine.hold import Holds, Wishes
from ovek.engine.replay import ReplayStage, done, harm_halfway, walk_after, walk_halfway, worse
from ovek.engine.runs import Runs, runs_after
from ovek.engine.times import Times
from ovek.engine.verdicts import JudgedDevice, JudgedMember, rejudge
from ovek.engine.wanted import Wanted
from ovek.model.change import BackUp, Change, CheckDigest, Commit, Delete, LoadComponent
from ovek.model.place import Place
from ovek.model.plan import Unlock
from ovek.model.policy import Policy
from ovek.model.snapshot import Device
from ovek.model.verdict import Image, KnownRelease
from ovek.model.walk import DeviceWalk, MemberWalk

T = TypeVar("T")


class LazyList(Iterable[T]):
    """What an iterator gives, found only as far as it was asked for, and kept."""

    def __init__(self, rest: Iterator[T]) -> None:
        self.items, self.rest = list[T](), rest

    def __iter__(self) -> Iterator[T]:
        index = 0
        while True:
            if index == len(self.items):
                more = next(self.rest, None)
                if more is None:
                    return
                self.items.append(more)
            yield self.items[index]
            index += 1


class MetDevices:
    """Every device that the trials of one plan led to, so that each is judged and walked once."""

    def __init__(self) -> None:
        self._situations = dict[Hashable, list["Situation"]]()

    def add(self, situation: "Situation") -> None:
        """A device that was not met before."""
        self._situations.setdefault(situation.traits, []).append(situation)

    def find(
        self, device: Device, shelf: frozenset[str] | None, *, due: bool
    ) -> "Situation | None":
        """The device as it was met before, with what was worked out of it."""
        for known in self._situations.get(traits_of(device), ()):
            same = known.backup_due == due and known.shelf == shelf
            if same and known.judged.device == device:
                return known
        return None


def traits_of(device: Device) -> Hashable:
    """What two equal devices have in common, and most others do not: quick to compare."""
    return tuple(
        (
            member.running_version,
            member.boot,
            tuple((volume.free, len(volume.files or ())) for volume in member.volumes or ()),
        )
        for member in device.members or ()
    )


class Situation(Struct, frozen=True, kw_only=True, eq=False, dict=True):
    """A device as it stands, and what is wanted of it.

    `running` is what each member runs. `may_drop` is what a person unlocked by name, `keep` are
    globs of files that a person keeps. `shelf` are the digests that the shelf proves (None: the
    site has no shelf), `sizes` the bytes of what those are. `backup_due` is whether the
    configuration has to be backed up, `times` are those by which a proof is old (None: none is),
    and `accepted` is what a person has accepted: a rule, and the place that it is about (None:
    any). `seen` is what the trials of the plan led to so far.
    """

    judged: JudgedDevice
    walk: DeviceWalk
    running: tuple[Runs, ...]
    wanted: Wanted
    policy: Policy
    may_drop: frozenset[Unlock] = frozenset()
    keep: tuple[str, ...] = ()
    shelf: frozenset[str] | None = None
    sizes: Mapping[str, int] = {}
    backup_due: bool = False
    times: Times | None = None
    accepted: tuple[tuple[str, str | None], ...] = ()
    seen: MetDevices = msgspec.field(default_factory=MetDevices)

    def walk_of(self, member: str) -> MemberWalk:
        """The walk of one member."""
        return self.walk.member(member)

    def starting(self, member: str) -> Image | None:
        """The image that a member starts next, where the device shows it."""
        boots = self.walk_of(member).boots
        return self.judged.image(boots.at) if boots is not None and boots.at is not None else None

    def runs_on(self, member: str) -> Runs:
        """What one member runs."""
        return next(each for each in self.running if each.member == member)

    def member(self, name: str | None) -> JudgedMember:
        """One member, which is there."""
        found = self.judged.member(name or "")
        assert found is not None
        return found

    @property
    def members(self) -> tuple[JudgedMember, ...]:
        """The members, in the order of their names: that of a snapshot means nothing."""
        return tuple(
            sorted(self.judged.members or (), key=lambda m: (len(m.member.id), m.member.id))
        )

    @property
    def up(self) -> bool:
        """Whether the device runs; one that was read at its boot loader does not."""
        return self.judged.device.at != "boot-loader"

    @cached_property
    def traits(self) -> Hashable:
        """What tells it quickly from most others."""
        return traits_of(self.judged.device)

    @cached_property
    def memory(self) -> dict[tuple[object, ...], Any]:
        """What was worked out of just this device as it stands, by what was asked."""
        return {}

    def once(self, key: tuple[object, ...], work: Callable[[], T]) -> T:
        """What is worked out of this device once, however often it is asked for."""
        if key not in self.memory:
            self.memory[key] = work()
        value: T = self.memory[key]
        return value

    @property
    def standings(self) -> tuple[Standing, ...]:
        """Where each member stands, as policy wants it."""
        wanted = self.wanted
        work = lambda: standings(self.judged, wanted.variant, wanted.track, self.running)  # noqa: E731
        return self.once(("standings",), work)

    def standing(self, member: str) -> Standing | None:
        """Where one member stands."""
        return next((each for each in self.standings if each.member in (None, member)), None)

    def holds(self, release: KnownRelease | None = None, keep: tuple[str, ...] = ()) -> Holds:
        """What protects the files of the device, where space is made for a release."""
        keep = keep or self.keep
        wishes = Wishes(policy=self.policy, keep=keep, release=release)
        work = lambda: Holds(self.judged, self.walk, self.running, wishes)  # noqa: E731
        return self.once(("holds", release, keep), work)

    def is_accepted(self, rule: str, place: Place | None = None, member: str = "") -> bool:
        """Whether a person lets something be that a rule would say of a place of a member."""
        if self.policy.severity.get(rule) == "off":
            return True
        globs = [glob for slug, glob in self.accepted if slug == rule]
        if not globs:
            return False
        several = len(self.judged.members or ()) > 1
        shown = "" if place is None else str(place.on(member if several else None))
        return any(glob is None or fnmatchcase(shown, glob) for glob in globs)


class TriedChange(Struct, frozen=True, kw_only=True):
    """What a change makes of a device, whatever it is held against: how it starts in its middle
    (None: it has none, or no walk tells of it), and where it leads to."""

    halfway: DeviceWalk | None
    there: Situation


class Trial(Struct, frozen=True, kw_only=True):
    """Changes that were tried out one after another, and where they led to.

    `best` is the best boot that each member had on the way, against which a change is held;
    `passed` is the device after each change, `kinds` the difference that each puts right.
    """

    now: Situation
    best: DeviceWalk
    stages: tuple[ReplayStage, ...] = ()
    passed: tuple[Situation, ...] = ()
    kinds: tuple[Any, ...] = ()

    @property
    def changes(self) -> tuple[Change, ...]:
        """The changes by themselves."""
        return tuple(stage.change for stage in self.stages)

    @property
    def exposed(self) -> int:
        """How many steps have a middle or an end in which something would boot worse."""
        return sum(bool(stage.harm or stage.halfway) for stage in self.stages)


def digests_in(image: Image) -> set[str]:
    """The digests by which an image is known: of its file, else of the release in a bank."""
    if image.file is not None:
        return {digest for _, digest in image.file.digests or ()}
    release = image.judgement.release
    known = release.digests.values() if release is not None else ()
    return {digest for digests in known for digest in digests}


def begin(now: Situation) -> Trial:
    """A trial before its first change."""
    return Trial(now=now, best=now.walk)


def _less_known(was: DeviceWalk, now: DeviceWalk) -> bool:
    """Whether it is not known any more what some member boots next."""
    before = {each.member: each.outcome for each in was.members}
    return any(
        each.outcome == "unknown" and before[each.member] != "unknown" for each in now.members
    )


def _tells_nothing(before: JudgedDevice, after: JudgedDevice, change: CheckDigest) -> bool:
    """Whether nothing more is known of an image once its digest was read."""
    was, now = before.image(change.place), after.image(change.place)
    unread = now is not None and now.judgement.verdict == "unverified"
    return unread and was is not None and was.judgement.verdict == "unverified"


# What may leave a member worse off in its middle, without being asked for: no other way exists.
_MAY_EXPOSE = LoadComponent | Commit


def tried(
    trial: Trial,
    changes: Iterable[Change],
    meant: frozenset[Place],
    kind: Any,
    *,
    bold: bool = False,
) -> Trial | str:
    """Try changes out behind those that were; a text says why one of them cannot be made.

    `kind` is the difference that they put right, `meant` are the places that members may boot from
    on the way. `bold` allows what leaves a member worse off.
    """
    for change in changes:
        now = trial.now
        step = now.once(("step", change), partial(_step, now, change))
        if isinstance(step, str):
            return step
        there = step.there
        if _less_known(now.walk, there.walk):
            return "what it boots next would be unknown"
        halfway = harm_halfway(change, trial.best, step.halfway, meant)
        after = worse(trial.best, there.walk, meant)
        if (halfway or after) and not bold and not isinstance(change, _MAY_EXPOSE):
            since = worse(now.walk, there.walk, meant)
            if halfway or since or not trial.stages or not trial.stages[-1].harm:
                return (*halfway, *after)[0]
        if isinstance(change, CheckDigest) and _tells_nothing(now.judged, there.judged, change):
            return "its digest proves nothing"
        stage = ReplayStage(
            change=change,
            device=there.judged.device,
            walk=there.walk,
            harm=tuple(after),
            halfway=tuple(halfway),
        )
        trial = Trial(
            now=there,
            best=trial.best if after else there.walk,
            stages=(*trial.stages, stage),
            passed=(*trial.passed, there),
            kinds=(*trial.kinds, kind),
        )
    return trial


def _step(now: Situation, change: Change) -> TriedChange | str:
    """Make one change; a text says why it cannot be made. What was backed up is on the shelf."""
    judged, shelf, due = now.judged, now.shelf, now.backup_due
    if why := refusal(judged.device, change, judged.judge.sheet):
        return why
    if isinstance(change, BackUp) and change.place is None:
        due = False
    elif isinstance(change, BackUp) and shelf is not None and change.place is not None:
        image = judged.image(change.place)
        shelf |= digests_in(image) if image is not None else set()
    device = done(judged, judged.device, change, now.walk)
    there = now.seen.find(device, shelf, due=due)
    if there is None:
        after = rejudge(judged, device)
        there = replace(
            now,
            judged=after,
            walk=walk_after(judged, now.walk, change, after),
            running=runs_after(judged, now.running, after),
            shelf=shelf,
            backup_due=due,
        )
        now.seen.add(there)
        if isinstance(change, Delete) and has_its_images(now, there):
            there.memory.update(
                (key, value) for key, value in now.memory.items() if key[0] in _OF_IMAGES
            )
    return TriedChange(halfway=walk_halfway(judged, change), there=there)


# What is worked out of images and settings alone: it stays where only other files are deleted.
_OF_IMAGES = frozenset({"aim", "fallback", "homes", "legs", "of images", "of version", "standings"})


def has_its_images(was: Situation, now: Situation) -> bool:
    """Whether a device from which files were deleted has its images, and boots as before."""
    if now.walk is not was.walk or now.backup_due != was.backup_due:
        return False
    return all(
        one.images == before.images and one.sets == before.sets and one.banks == before.banks
        for one, before in zip(now.judged.members or (), was.judged.members or (), strict=True)
    )

"""The remedy of each finding: the list of changes that ends it, tried out by auditing again.

A list ends a finding where its rule says no more of the same thing, and nothing as severe is heard
that no rule said before. What a rule said and another had spoken for is nothing new, but a list
that bares it comes after one that does not. What no change of a device can end, the rule's own
words tell.
"""

from collections.abc import Iterable
from functools import cached_property

from msgspec.structs import replace

from ovek.engine.advice import Advice, Ended, Goal, advise
from ovek.engine.heard import Heard, heard
from ovek.engine.hold import LOG_IS_OLD
from ovek.engine.moves import About, Situation
from ovek.engine.rules import Subject, subject_of
from ovek.engine.telling import dos_of, told
from ovek.engine.wanted import Wants
from ovek.model.advice import Do
from ovek.model.change import (
    Change,
    HeedConfig,
    Measure,
    Save,
    SetDefault,
    SetMode,
    SetOnce,
    SetOrder,
)
from ovek.model.finding import SEVEREST_FIRST, Severity
from ovek.model.place import Place
from ovek.model.verdict import Image


class Remedies:
    """The remedies of one device's findings."""

    def __init__(self, subject: Subject, wants: Wants) -> None:
        self.subject, self.wants = subject, wants
        self.situation = situation_of(subject)

    @cached_property
    def heard(self) -> dict[object, Severity]:
        """What is heard of the device as it is, and how severe it is."""
        return _severest(heard(self.subject))

    @cached_property
    def before(self) -> dict[object, Severity]:
        """All that any rule says of the device as it is, and how severe it is."""
        return _severest(heard(self.subject, whole=True))

    def told(self, one: Heard) -> tuple[str, tuple[Do, ...]] | None:
        """The list that ends a finding, in words and change by change; None where there is none.

        What is found for one device holds for all that are alike in what it rests on.
        """
        judged = self.subject.judged
        key = (one.rule.slug, one.severity, one.said.member, one.said.place, one.said.also)
        known = self.wants.remedies.get((*key, self._alike)) if self._alike else None
        if known is None:
            advice = self.of(one)
            if advice is None:
                return None
            do = dos_of(advice.replay, judged.device, judged.judge.sheet)
            known = told(do), do
            if self._alike and _rests_on_little(advice.changes):
                if len(self.wants.remedies) > 10_000:
                    self.wants.remedies.clear()
                self.wants.remedies[(*key, self._alike)] = known
        return known

    @cached_property
    def _alike(self) -> tuple[object, ...]:
        """What a list of settings and readings rests on: all but leftovers, room and ages."""
        judged, device = self.subject.judged, self.subject.judged.device
        members = tuple(
            (
                one.member.id,
                one.member.running_version,
                replace(one.hardware, serial=None),
                one.member.boot,
                one.member.banks,
                one.member.components,
                tuple(
                    (each.name, each.state, each.filesystem, each.removable)
                    for each in one.member.volumes or ()
                ),
                tuple(_of_image(image) for image in (*one.images.values(), *one.sets.values())),
            )
            for one in judged.members or ()
        )
        config = device.config
        return (
            id(judged.judge),
            self.subject.wanted,
            id(self.subject.shelf),
            replace(device.hardware, serial=None),
            device.running,
            None if config is None else config.unsaved_changes,
            device.reload_at is None,
            members,
        )

    def of(self, one: Heard) -> Advice | None:
        """The list that ends a finding; None where there is none."""
        if one.rule.goal is None or not one.said.advised or not self.subject.up:
            return None
        about = about_of(one, self.subject)
        goal = Goal(kind=one.rule.goal, about=about)
        return advise(self.situation, goal, lambda after: self.ended(one, after))

    def ended(self, one: Heard, after: Situation) -> Ended:
        """Whether changes that led here end a finding."""
        subject = subject_after(self.subject, after, self.wants)
        wrong = one.rule.check(subject)
        if any((said.member, said.place) == (one.said.member, one.said.place) for said in wrong):
            return "no"
        answer: Ended = "yes"
        for each in heard(subject):
            if not _as_severe(each.severity, one.severity):
                continue
            if not _as_severe(self.before.get(each.key), each.severity):
                return "no"
            if not _as_severe(self.heard.get(each.key), each.severity):
                answer = "bares"
        return answer


def _of_image(image: Image) -> tuple[object, ...]:
    """What a start sees of an image."""
    file = image.file
    return (
        image.place,
        image.role,
        image.judgement.verdict,
        id(image.judgement.release),
        image.version,
        image.suits,
        image.parts,
        None if file is None else (file.size, file.path_cut, file.digests is None),
    )


def _rests_on_little(changes: tuple[Change, ...]) -> bool:
    """Whether a list is so short and plain that no room that there may be makes a better one."""
    plain = (SetOrder, SetMode, SetDefault, SetOnce, HeedConfig, Save, Measure)
    return len(changes) <= 2 and all(isinstance(each, plain) for each in changes)


def _severest(found: Iterable[Heard]) -> dict[object, Severity]:
    """What is said, and how severely at most."""
    most: dict[object, Severity] = {}
    for each in found:
        known = most.get(each.key)
        if known is None or _as_severe(each.severity, known):
            most[each.key] = each.severity
    return most


def _as_severe(one: Severity | None, other: Severity) -> bool:
    """Whether one severity is at or above another."""
    return one is not None and SEVEREST_FIRST.index(one) <= SEVEREST_FIRST.index(other)


def logs_stay(subject: Subject) -> None:
    """Room may be made of old logs: what is advised holds while no file gets to be an old one."""
    (subject.times.clock - LOG_IS_OLD).splits(
        file.modified
        for one in subject.judged.members or ()
        for volume in one.member.volumes or ()
        for file in volume.files or ()
        if file.modified is not None
    )


def situation_of(subject: Subject) -> Situation:
    """A device as the advice looks at it."""
    return Situation(
        judged=subject.judged,
        walk=subject.walk,
        wanted=subject.wanted,
        policy=subject.policy,
        shelf=subject.shelf.proven if subject.shelf is not None else frozenset(),
        sizes=subject.shelf.sizes if subject.shelf is not None else {},
    )


def subject_after(subject: Subject, after: Situation, wants: Wants) -> Subject:
    """What the rules look at once changes were made."""
    shelf = subject.shelf
    if shelf is not None and shelf.proven != after.shelf:
        shelf = replace(shelf, proven=after.shelf)
    return subject_of(
        after.judged,
        after.walk,
        subject.policy,
        wants.of(after.judged),
        subject.times,
        shelf,
        subject.expected,
    )


def about_of(one: Heard, subject: Subject) -> About:
    """What a finding's goal is about: its member, else all of them, and its places."""
    said = one.said
    members = (said.member,) if said.member is not None else tuple(m.id for m in subject.members)
    places: list[Place] = []
    for place in (said.place, *said.also):
        if place is not None:
            owner = place.member if place.member is not None else said.member
            places.append(place.on(owner))
    return About(members, tuple(places), said.free)

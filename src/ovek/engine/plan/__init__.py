"""The plan of a device: the only place that steps come from.

1. `aim` writes down what is wanted of every member; `differences` what is not so, in canonical
   order; `choices` where an image goes and what goes for it; `put_right` how each difference ends;
   `trial` tries every change out before it counts; `courses` goes from one to the next.
2. The rules are asked once the steps are there: after which of them a finding is gone. (Whether a
   backup is due, which depends on the day, they say before.)
3. Where a fact is missing on which the aim rests, the plan says how to find it out, and holds only
   what rests on nothing: backups, a save, digests.
"""

from collections.abc import Iterator
from fnmatch import fnmatchcase

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.plan.aim import Aim
from ovek.engine.plan.courses import ALL, Course, Kinds, course_of
from ovek.engine.plan.differences import is_safe, legs_of
from ovek.engine.plan.situation import Situation, has_its_images
from ovek.engine.replay import ReplayStage
from ovek.engine.rules import Said, Subject, subject_of
from ovek.engine.rules.every import RULES
from ovek.engine.wanted import Wants
from ovek.model.change import Change, Delete
from ovek.model.finding import SEVEREST_FIRST
from ovek.model.place import Place
from ovek.model.plan import Unlock
from ovek.model.runbook import AimKind, Barred
from ovek.model.waiver import Waiver

_KINDS: dict[AimKind, Kinds] = {
    "all": ALL,
    "boot": frozenset({"at-loader", "unsaved", "unsafe"}),
    "target": ALL - {"other-bank", "fallback", "broken", "unread", "old-proof", "reserve"},
    "fallback": frozenset({"at-loader", "other-bank", "fallback", "settings"}),
    "tidy": frozenset({"at-loader", "settings", "broken", "unread", "old-proof", "reserve"}),
}
_NEEDED_TO_START: Kinds = frozenset({"at-loader", "unsafe", "image", "digest", "settings"})


class Asked(Struct, frozen=True, kw_only=True):
    """What is asked of a plan: for what it is, and what a person allows, keeps and accepts."""

    aim: AimKind = "all"
    may_drop: frozenset[Unlock] = frozenset()
    keep: tuple[str, ...] = ()
    waivers: tuple[Waiver, ...] = ()


class Plan(Struct, frozen=True, kw_only=True, eq=False):
    """The steps of a device, each tried out, and what no step reaches.

    `find_out` are the facts without which not everything can be planned, in words.
    """

    before: Situation
    course: Course
    find_out: tuple[str, ...] = ()

    @property
    def stages(self) -> tuple[ReplayStage, ...]:
        """The steps with the device and its walk after each."""
        return self.course.trial.stages

    @property
    def changes(self) -> tuple[Change, ...]:
        """The steps by themselves."""
        return self.course.trial.changes

    @property
    def after(self) -> Situation:
        """The device once all is done."""
        return self.course.trial.now

    @property
    def aim(self) -> Aim:
        """What is wanted of every member."""
        return self.course.aim

    @property
    def barred(self) -> tuple[Barred, ...]:
        """The parts of the aim that no step reaches."""
        return self.course.barred


NOTHING_ASKED = Asked()


def plan(subject: Subject, asked: Asked = NOTHING_ASKED) -> Plan:
    """The plan of a device, as it stands and as policy wants it."""
    now = situation_of(subject, asked)
    if asked.aim == "boot":
        course = _to_start(now)
    else:
        moves = asked.aim in ("all", "target") or _is_staged(now)
        course = course_of(now, _KINDS[asked.aim], moves=moves)
    return Plan(before=now, course=course, find_out=tuple(_find_out(subject, course.trial.now)))


def _to_start(now: Situation) -> Course:
    """What makes every member's next boot safe; an image is brought only where it has to be."""
    course = course_of(now, _KINDS["boot"])
    there = course.trial.now
    legs = legs_of(there, course.aim) if course.aim.members else None
    if legs is None or all(is_safe(there, leg) for leg in legs.of):
        return course
    return course_of(now, _KINDS["boot"] | _NEEDED_TO_START, moves=False)


def _is_staged(now: Situation) -> bool:
    """Whether some member boots another version next than it runs: its settings stay so."""
    for member in now.walk.members:
        boots, running = member.boots, now.runs_on(member.member)
        versions = (boots.version if boots is not None else None), running.version
        if None not in versions and versions[0] != versions[1]:
            return True
    return False


def situation_of(subject: Subject, asked: Asked = NOTHING_ASKED) -> Situation:
    """A device as a plan looks at it."""
    judged, shelf = subject.judged, subject.shelf
    ours = [each for each in asked.waivers if fnmatchcase(judged.device.device, each.device)]
    today = subject.times.now.day() if ours else None
    accepted = tuple(
        (waiver.rule, waiver.place) for waiver in ours if today is None or waiver.until >= today
    )
    now = Situation(
        judged=judged,
        walk=subject.walk,
        running=subject.running,
        wanted=subject.wanted,
        policy=subject.policy,
        may_drop=asked.may_drop,
        keep=asked.keep,
        shelf=shelf.proven if shelf is not None else None,
        sizes=shelf.sizes if shelf is not None else {},
        accepted=accepted,
        times=subject.times,
    )
    now = replace(now, backup_due=_backup_due(subject, now))
    now.seen.add(now)
    return now


_BACKUPS = ("backup-never", "backup-before-change", "backup-old")


def _backup_due(subject: Subject, now: Situation) -> bool:
    """Whether a backup of the configuration is due: by its age, or before a save goes over it."""
    config = subject.judged.device.config
    boots = [member.one.member.boot for member in subject.members]
    without = any(boot is not None and boot.ignores_saved_config.live for boot in boots)
    if without and (config is None or config.backed_up_at is None):
        return True
    return any(
        True for slug in _BACKUPS if not now.is_accepted(slug) for _ in RULES[slug].check(subject)
    )


def _find_out(subject: Subject, after: Situation) -> Iterator[str]:
    """The facts without which not everything can be planned, in words."""
    if not subject.members:
        yield "its members are unknown: read it again"
        return
    if all(each.outcome != "unknown" for each in after.walk.members):
        return
    for said in RULES["facts-missing"].check(subject):
        yield f"{said.seen}: {said.do or RULES['facts-missing'].remedy}"
    for walk in after.walk.members:
        if walk.outcome == "unknown":
            yield f"what member {walk.member} boots next is unknown: {walk.note}"


def subject_at(subject: Subject, there: Situation, wants: Wants) -> Subject:
    """What the rules look at once changes were made."""
    shelf = subject.shelf
    if shelf is not None and there.shelf is not None and shelf.proven != there.shelf:
        shelf = replace(shelf, proven=there.shelf)
    return subject_of(
        there.judged,
        there.walk,
        subject.policy,
        wants.of(there.judged, there.running),
        subject.times,
        shelf,
        subject.expected,
        there.running,
    )


class Fixed:
    """After which step of a plan something is gone that a rule says."""

    def __init__(self, subject: Subject, made: Plan, wants: Wants) -> None:
        self.subject, self.made, self.wants = subject, made, wants
        self._known: dict[int, Subject] = {}
        self._same_as: dict[int, int] = {0: 0}
        self._said: dict[tuple[int, str], dict[tuple[str | None, Place | None], int]] = {}

    def at(self, number: int) -> Subject:
        """The device after so many steps."""
        if number == 0:
            return self.subject
        if number not in self._known:
            there = self.made.course.trial.passed[number - 1]
            self._known[number] = subject_at(self.subject, there, self.wants)
        return self._known[number]

    def after(self, rule: str, said: Said) -> int | None:
        """The step after which it is gone for good, counted from 1; None where it stays.

        What is less severe then is another thing; what a rule says of another place of the same
        member, and did not say before, is the same thing.
        """
        number, severity, last = len(self.made.stages), _rank(rule, said), None
        while number and self._worst(number, rule, said) > severity:
            last = number
            number -= 1
        return last

    def _worst(self, number: int, rule: str, said: Said) -> int:
        """How severe the same thing is after so many steps; the least where it is not said."""
        about, before = (said.member, said.place), self._says(0, rule)
        return min(
            (
                rank
                for key, rank in self._says(number, rule).items()
                if key == about or (key[0] == about[0] and key not in before)
            ),
            default=_LEAST,
        )

    def _says(self, number: int, rule: str) -> dict[tuple[str | None, Place | None], int]:
        if not RULES[rule].reads:
            number = self._same_for_most(number)
        key = (number, rule)
        if key not in self._said:
            found = RULES[rule].check(self.at(number))
            self._said[key] = {(each.member, each.place): _rank(rule, each) for each in found}
        return self._said[key]

    def _same_for_most(self, number: int) -> int:
        """The first step after which all is as after this one, but for files that nothing names.

        Rules that declare no more say the same after both.
        """
        if number not in self._same_as:
            passed = (self.made.before, *self.made.course.trial.passed)
            change = self.made.stages[number - 1].change
            quiet = isinstance(change, Delete) and has_its_images(
                passed[number - 1], passed[number]
            )
            self._same_as[number] = self._same_for_most(number - 1) if quiet else number
        return self._same_as[number]


_LEAST = len(SEVEREST_FIRST)


def _rank(rule: str, said: Said) -> int:
    """How severe what a rule says is; 0 is the severest."""
    return SEVEREST_FIRST.index(said.severity or RULES[rule].severity)

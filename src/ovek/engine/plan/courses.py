"""A course: the differences between a device and its aim, put right one after another.

1. The first difference in canonical order is put right by the first of its candidates that harms
   nothing on the way; then the device is looked at again. So the rest of a plan is a plan.
2. What cannot be put right is barred, and holds up no other difference. Where it is on the way to a
   new image, no member is moved: the aim is then what runs.
3. A next boot that is not safe is made safe first, unless the rest of the course does so in as few
   changes.
"""

from collections.abc import Callable, Iterable

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.plan.aim import Aim, aim_of
from ovek.engine.plan.barred import barred_by
from ovek.engine.plan.differences import differences, is_safe, legs_of
from ovek.engine.plan.kinds import ORDER, Changes, Difference, Kind, Legs
from ovek.engine.plan.meant import meant_by
from ovek.engine.plan.put_right import RESOLVE, boot_by_hand, to_safety
from ovek.engine.plan.settings import settings_of
from ovek.engine.plan.situation import LazyList, Situation, Trial, begin, tried
from ovek.model.change import Change, Reload
from ovek.model.place import Place
from ovek.model.runbook import Barred

_MOST = 1000  # differences that are put right in one plan; a stack of nine has a hundred
Kinds = frozenset[Kind]
ALL: Kinds = frozenset(ORDER)
# What stands on the way to a new image.
_ON_THE_WAY: Kinds = frozenset({"image", "digest", "component", "settings", "reload", "commit"})
# What rests on no fact that may be missing.
_RESTS_ON_NOTHING: Kinds = frozenset({"backup", "unsaved", "digest", "unread", "old-proof"})
# What is ended at once, or not at all.
_AT_ONCE: Kinds = ALL - {"image", "digest", "component", "reload", "fallback", "unsafe"}


class Course(Struct, frozen=True, kw_only=True):
    """The changes that lead as far as can be, and what is barred."""

    trial: Trial
    aim: Aim
    barred: tuple[Barred, ...] = ()


def course_of(now: Situation, kinds: Kinds = ALL, *, moves: bool = True) -> Course:
    """The course of a device; `moves` False: every member is to stay on what it runs."""
    trial, barred = begin(now), tuple[Barred, ...]()
    if not now.up:
        done = boot_by_hand(trial) if "at-loader" in kinds else None
        if not isinstance(done, Trial):
            barred = (done,) if done is not None else ()
            return Course(trial=trial, aim=Aim(members={}), barred=barred)
        trial = done
    found = _Course(trial, kinds, moves=moves).run()
    if found.stopped is not None:
        found = _staying(trial, kinds, found)
    aim = aim_of(found.trial.now, moves=found.moves)
    barred = (*found.before, *aim.barred, *found.barred)
    return Course(trial=found.trial, aim=aim, barred=tuple(dict.fromkeys(barred)))


def _staying(trial: Trial, kinds: Kinds, stopped: "_Course") -> "_Course":
    """The course of a device that stays on what it runs, until it can be moved after all."""

    def is_free(there: Situation) -> bool:
        """Whether what stood in the way of the target does so no longer."""
        nonlocal stopped
        member, basis = stopped.stopped_on
        if _basis(there, member) == basis:
            return False
        again = _Course(begin(there), kinds).run()
        stopped = again if again.stopped is not None else stopped
        return again.stopped is None

    # Why a second course: what makes space or repairs a bank may remove the obstacle on the way,
    # and then the device can move after all. Starting over keeps the rest of a plan a plan.
    found = _Course(trial, kinds, moves=False)
    found.run(is_free)
    if found.freed:
        return _Course(found.trial, kinds).run()
    found.before = (stopped.stopped,) if stopped.stopped is not None else ()
    return found


_UNDOES = "its fix would undo an earlier step"


class _Course:
    """A course as it is found.

    What is stuck is so only while nothing changes that it rests on, so that what comes next depends
    on nothing but the device as it stands.
    """

    def __init__(self, trial: Trial, kinds: Kinds, *, moves: bool = True) -> None:
        self.trial, self.kinds, self.moves = trial, kinds, moves
        self.began = trial.now
        self.before = tuple[Barred, ...]()
        self.stuck = dict[_Key, tuple[_Basis, Barred | None]]()
        self.stopped: Barred | None = None
        self.stopped_on: tuple[str | None, _Basis] = None, ()
        self.ahead = list[Trial]()
        self.ahead_of: tuple[Kind, str | None] | None = None
        self.most = _MOST
        self.freed = False

    @property
    def barred(self) -> tuple[Barred, ...]:
        """What could not be put right."""
        found = (barred for _, barred in self.stuck.values() if barred is not None)
        return tuple(dict.fromkeys(found))

    def run(self, until: Callable[[Situation], bool] | None = None) -> "_Course":
        """Put right one difference after another; `until` says when to stop."""
        while len(self.trial.stages) < self.most:
            legs = self._legs(self.trial.now)
            if until is not None and until(self.trial.now):
                self.freed = True
                break
            kinds = self.kinds
            if any(each.outcome == "unknown" for each in self.trial.now.walk.members):
                kinds &= _RESTS_ON_NOTHING
            done: Trial | Barred | None = None
            for first in self._differences(self.trial.now):
                key = _key(first)
                if first.kind not in kinds or self._is_stuck(key):
                    continue
                if self.ahead and self.ahead_of == (first.kind, first.member):
                    done, *self.ahead = self.ahead
                else:
                    self.ahead, self.ahead_of = [], (first.kind, first.member)
                    done = self._put_right(first, legs)
                if isinstance(done, Trial) and self._was_there(done.now):
                    done, self.ahead = barred_by(first, _UNDOES), []
                if isinstance(done, Trial):
                    self.trial = done
                    break
                if done is not None and first.kind in _ON_THE_WAY and self._moves(first):
                    self.stopped = done
                    self.stopped_on = first.member, _basis(self.trial.now, first.member)
                    return self
                self.stuck[key] = _basis(self.trial.now, first.member), done
            if not isinstance(done, Trial):
                break
        self._forget()
        return self

    def _was_there(self, there: Situation) -> bool:
        """Whether a change leads back to where the course has been."""
        return any(
            there.traits == was.traits
            and there.judged.device == was.judged.device
            and (there.shelf, there.backup_due) == (was.shelf, was.backup_due)
            for was in (self.began, *self.trial.passed)
        )

    def _aim(self, there: Situation) -> Aim:
        return aim_of(there, moves=self.moves)

    def _legs(self, there: Situation) -> Legs:
        key = ("legs", self.moves)
        return there.once(key, lambda: legs_of(there, self._aim(there)))

    def _differences(self, there: Situation) -> Iterable[Difference]:
        """The differences as far as they are asked for, each found once."""
        key = ("differences", self.moves)
        return there.once(
            key, lambda: LazyList(differences(there, self._legs(there), moves=self.moves))
        )

    def _candidates(self, first: Difference, legs: Legs) -> Iterable[Changes | Barred]:
        """The candidates for a difference as far as they are tried, each found once."""
        now, key = self.trial.now, ("candidates", self.moves, _key(first))
        return now.once(key, lambda: LazyList(RESOLVE[first.kind](now, legs, first)))

    def _is_stuck(self, key: "_Key") -> bool:
        known = self.stuck.get(key)
        return known is not None and known[0] == _basis(self.trial.now, key[1])

    def _forget(self) -> None:
        """What was stuck for a while, and is no difference in the end, is not barred."""
        there = {_key(each) for each in self._differences(self.trial.now)}
        self.stuck = {key: known for key, known in self.stuck.items() if key in there}

    def _moves(self, first: Difference) -> bool:
        """Whether some member is not there yet, or could not stay there."""
        if first.kind == "commit" and any(
            isinstance(change, Reload) for change in self.trial.changes
        ):
            return True
        return any(
            each.target and self.trial.now.runs_on(name).version != each.version
            for name, each in self._aim(self.trial.now).members.items()
        )

    def _put_right(self, first: Difference, legs: Legs) -> Trial | Barred | None:
        """The first change that puts a difference right, where all of them can be made."""
        if first.kind == "unsafe":
            return self._safe(first, legs)
        why = ""
        for changes in self._candidates(first, legs):
            if isinstance(changes, Barred):
                return changes
            if not changes:
                continue
            done = self._begun(changes, first, legs)
            if isinstance(done, Trial):
                return done
            why = why or done
        return barred_by(first, why) if why else None

    def _begun(self, changes: Changes, first: Difference, legs: Legs) -> Trial | str:
        """The first of some changes tried out, where all of them can be made, and end it."""
        bold = "running" in self.trial.now.may_drop
        meant = meant_by(self.trial.now, legs, changes)
        trials, trial = list[Trial](), self.trial
        for change in changes:
            done_ = tried(trial, (change,), meant, first.kind, bold=bold)
            if isinstance(done_, str):
                return done_
            trials.append(trial := done_)
        if first.kind == "reload" and not _runs_other(self.trial.now, trial.now):
            return "the same image is running after a reload"
        if first.kind in _AT_ONCE and first.kind != "broken":
            key = _key(first)
            left = self._differences(trial.now)
            if any(_key(each) == key for each in left):
                return "its fix has no effect"
        done, *self.ahead = trials
        return done

    def _safe(self, first: Difference, legs: Legs) -> Trial | None:
        """Make the next boot of a member safe, where the rest does not do so in as few changes."""
        assert first.member is not None
        member, now = first.member, self.trial.now

        def is_so(there: Situation) -> bool:
            return is_safe(there, self._legs(there).member(member))

        for place, checks in to_safety(now, legs.member(member)):
            trials, trial = list[Trial](), self.trial
            meant = meant_by(now, legs, ()) | {place}
            waiting: list[Change] = list(checks)
            settings = False
            while not (trials and is_so(trial.now)):
                if not waiting and not settings:
                    one = trial.now.member(member)
                    leg = replace(legs.member(member), home=place, checked=True)
                    waiting, settings = list(settings_of(trial.now, one, leg)), True
                if not waiting:
                    break
                done = tried(trial, (waiting.pop(0),), meant, "unsafe")
                if isinstance(done, str):
                    break
                trials.append(trial := done)
            if not trials or not is_so(trial.now):
                continue
            rest = _Course(begin(now), self.kinds - {"unsafe"}, moves=self.moves)
            rest.most = len(trials)
            rest.run(is_so)
            if rest.stopped is None and is_so(rest.trial.now):
                return None
            done, *self.ahead = trials
            return done
        return None


def _runs_other(was: Situation, now: Situation) -> bool:
    """Whether some member runs something else than before, or has other firmware."""
    before, after = (
        [(each.version, each.variant) for each in there.running] for there in (was, now)
    )
    firmware = [[one.member.components for one in there.members] for there in (was, now)]
    return before != after or firmware[0] != firmware[1]


_Key = tuple[Kind, str | None, Place | None, str | None]
_Basis = tuple[object, ...]


def _basis(now: Situation, member: str | None) -> _Basis:
    """What it rests on that a difference of a member cannot be put right."""
    ours = [one.member for one in now.members if member in (None, one.member.id)]
    boots = [one.member.boot for one in now.members]
    return (
        *map(id, ours), *map(id, boots), now.judged.device.running, now.backup_due,
        None if now.shelf is None else len(now.shelf),
    )  # fmt: skip


def _key(difference: Difference) -> _Key:
    component = difference.component
    shown = None if component is None else component.shown
    return difference.kind, difference.member, difference.place, shown

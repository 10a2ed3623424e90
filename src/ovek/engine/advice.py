"""From a goal to the list of changes, tried out.

1. A goal is reached by paths: kinds of moves, one after another. A move is a few changes that
   belong together (see `moves/`).
2. Lists are looked at by what they cost: first the shortest exposed stretch, which is the changes
   after or in the middle of which a member would start worse than it does now; then the members
   that would start something else than they do now, which is not proven, or neither runs nor is
   wanted; then what is given up, by the highest tier; then the number of changes; then the seconds
   that they take.
3. Each list is tried out by `replay`. The first one that ends what it is for is the advice; whether
   it does, the caller says, who sees the device as it would be.
4. Where no list does, there is none.
"""

from collections.abc import Callable, Iterator
from heapq import heappop, heappush
from itertools import count
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace as replaced

from ovek.engine.changes import refusal, seconds
from ovek.engine.fit import fit, standings
from ovek.engine.moves import NOTHING, About, Moves, Situation, Tiers
from ovek.engine.moves.acts import (
    back_up_config,
    commit,
    give_up,
    load_components,
    reload,
    save_config,
)
from ovek.engine.moves.course import course
from ovek.engine.moves.images import (
    again,
    back_up_image,
    bring,
    bring_back,
    copy_bank,
    measure,
    remeasure,
    remove,
    room,
)
from ovek.engine.moves.settings import heed, settings, unname
from ovek.engine.replay import Replay, replay
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import rejudge
from ovek.model.change import (
    Change,
    Commit,
    Copy,
    CopyBank,
    Delete,
    Measure,
    Reload,
    WriteBank,
)
from ovek.model.fit import REACHING
from ovek.model.place import Place
from ovek.model.snapshot import Device
from ovek.model.walk import RELOADS_WORST_FIRST, DeviceWalk

GoalKind = Literal[
    "starts",
    "runs-target",
    "way-back",
    "bank-rule",
    "committed",
    "settings-saved",
    "config-heeded",
    "config-saved",
    "room",
    "order-tidy",
    "image-gone",
    "measured",
    "measured-anew",
    "components",
    "backed-up",
    "image-backed-up",
]

Path = tuple[Moves, ...]
PATHS: dict[GoalKind, tuple[Path, ...]] = {
    "starts": (
        (settings,), (measure,), (commit,), (bring,), (again,), (bring, settings),
        (copy_bank, settings), (settings, measure), (measure, settings), (settings, remove),
        (settings, bring, settings),
    ),
    "runs-target": ((course,), (reload,), (settings, reload), (settings, course)),
    "way-back": (
        (settings,), (measure,), (bring_back,), (copy_bank,), (bring_back, settings),
        (settings, bring_back, settings), (bring_back, settings, remove),
    ),
    "bank-rule": (
        (settings,), (copy_bank,), (commit,), (course,), (settings, reload), (bring_back,),
        (settings, reload, copy_bank), (course, copy_bank), (reload, copy_bank),
    ),
    "committed": ((commit,), (give_up,)),
    "settings-saved": ((settings,),),
    "config-heeded": ((heed,),),
    "config-saved": ((save_config,),),
    "room": ((room,), (unname, room), (unname, remove)),
    "order-tidy": ((settings,), (settings, reload)),
    "image-gone": ((remove,), (again,), (unname, remove), (settings, remove), (settings, again)),
    "measured": ((measure,), (again,)),
    "measured-anew": ((remeasure,),),
    "components": ((load_components,), (course,)),
    "backed-up": ((back_up_config,), (save_config, back_up_config)),
    "image-backed-up": ((back_up_image,),),
}  # fmt: skip
"""The paths to each goal, a kind of moves after another."""

_LEAST: dict[Moves, int] = {bring: 2, bring_back: 2, again: 2, course: 2}  # changes of a move
_LONGER = 2  # changes more that are worth it to bare nothing
_MOST = 60  # lists that are tried out for one goal


class Goal(Struct, frozen=True, kw_only=True):
    """What is to be so, and of what."""

    kind: GoalKind
    about: About


class Advice(Struct, frozen=True, kw_only=True):
    """The list of changes for a goal, and how it went when it was tried out."""

    changes: tuple[Change, ...]
    replay: Replay
    after: Situation


class Cost(Struct, frozen=True, order=True):
    """What a list costs, the most telling first."""

    exposed: int = 0
    astray: int = 0
    tiers: Tiers = NOTHING
    changes: int = 0
    seconds: int = 0
    serial: int = 0


class _List(Struct, frozen=True, kw_only=True):
    """A list of changes on a path, and the moves that are left of it.

    `tried` is how it went, and `now` where it led to; None where it was not tried out yet.
    """

    changes: tuple[Change, ...]
    meant: frozenset[Place]
    left: Path
    tiers: Tiers = NOTHING
    now: Situation | None = None
    tried: Replay | None = None
    last: Moves | None = None


Ended = Literal["no", "bares", "yes"]
"""Whether a list ends what it is for; `bares` that it does, and that another trouble which was told
with it stays to be told by itself."""


def advise(situation: Situation, goal: Goal, ended: Callable[[Situation], Ended]) -> Advice | None:
    """Find the list of changes after which a goal is reached, as `ended` tells; else None.

    One that bares nothing is taken before one that does, where it is little longer.
    """
    search, spare = _Search(situation, goal.about), list[_List]()
    for path in PATHS[goal.kind]:
        search.enter(Cost(), _List(changes=(), meant=frozenset(), left=path, now=situation))
    for found in search.lists():
        assert found.now is not None
        if spare and len(found.changes) > len(spare[0].changes) + _LONGER:
            break
        told = ended(found.now) if _no_worse(situation, found.now) else "no"
        if told == "yes":
            return _shortest(situation, goal, found, lambda after: ended(after) == "yes")
        if told == "bares" and not spare:
            spare.append(found)
    if not spare:
        return None
    return _shortest(situation, goal, spare[0], lambda after: ended(after) != "no")


def _may_reload(situation: Situation, device: Device, walk: DeviceWalk) -> bool:
    """Whether every member would start, proven, what may be loaded over what it runs."""
    if walk.reload != "ready":
        return False
    judged, wanted = rejudge(situation.judged, device), situation.wanted
    several = len(walk.members) > 1
    for standing in standings(judged, wanted.variant, wanted.track):
        for member in walk.members:
            at = member.starts.at if member.starts is not None else None
            image = judged.image(at) if at is not None else None
            release = image.judgement.release if image is not None else None
            if release is None or (several and standing.member != member.member):
                continue
            conditions = fit(standing, release).conditions
            if any(each.of in REACHING and each.holds is False for each in conditions):
                return False
    return True


def _least(path: Path) -> int:
    """The fewest changes that the moves of a path may come to."""
    return sum(_LEAST.get(moves, 1) for moves in path)


def _given_up(path: Path) -> Tiers:
    """The least that the moves of a path give up: a leftover for each that makes room."""
    return (0, 0, 0, 0, 0, sum(moves in (room, remove) for moves in path))


def _added(one: Tiers, other: Tiers) -> Tiers:
    return tuple(ours + theirs for ours, theirs in zip(one, other, strict=True))  # type: ignore[return-value]


def _shortest(
    situation: Situation, goal: Goal, found: _List, ended: Callable[[Situation], bool]
) -> Advice:
    """A list without the settings and copies that it can do without, from the front.

    What comes before a deletion, a write to a bank or a reload made that possible, and stays.
    """
    assert found.tried is not None
    assert found.now is not None
    best = Advice(changes=found.changes, replay=found.tried, after=found.now)
    at = len(best.changes) if goal.kind == "runs-target" else 0
    while at < len(best.changes):
        number = _together(best.changes, at)
        less = (*best.changes[:at], *best.changes[at + number :])
        again = _tried(situation, less, found.meant) if number and less else None
        if again is None or len(again.exposed) > len(best.replay.exposed):
            at += 1
            continue
        after = situation.after(again)
        strays = astray(situation, after) > astray(situation, best.after)
        if not strays and _no_worse(situation, after) and ended(after):
            best = Advice(changes=less, replay=again, after=after)
            at = 0
        else:
            at += 1
    return best


# What rests on the changes before it.
_RESTS_ON = Delete | WriteBank | CopyBank | Commit | Reload


def _together(changes: tuple[Change, ...], at: int) -> int:
    """How many changes from here may be left out together; 0 where this one may not be."""
    one = changes[at]
    later = changes[at + 1] if at + 1 < len(changes) else None
    if any(isinstance(each, _RESTS_ON) for each in changes[at + 1 :]):
        return 0
    match one:
        case Measure():
            return 0 if at and isinstance(changes[at - 1], Copy | WriteBank) else 1
        case Copy() | WriteBank():
            return 2 if isinstance(later, Measure) else 1
        case _:
            return 1


def _tried(
    situation: Situation, changes: tuple[Change, ...], meant: frozenset[Place]
) -> Replay | None:
    """Try a list out; None where a change of it cannot be done."""
    walk, sheet = situation.walk, situation.judged.judge.sheet
    tried = replay(situation.judged, changes, before=walk, walk=walk, meant=meant, strict=True)
    device = situation.judged.device
    for stage in tried.stages:
        if isinstance(stage.change, Reload) and not _may_reload(situation, device, walk):
            return None
        if refusal(device, stage.change, sheet):
            return None
        device, walk = stage.device, stage.walk
    return tried


class _Search:
    """Lists by what they cost, each tried out before it counts.

    What a kind of moves comes to is asked for only once nothing cheaper is left than the least that
    it may cost.
    """

    def __init__(self, situation: Situation, about: About) -> None:
        self.situation, self.about = situation, about
        self.waiting: list[tuple[Cost, _List]] = []
        self.serial = count()

    def enter(self, cost: Cost, found: _List) -> None:
        """Keep in mind that a list goes on with moves of its path."""
        moves, *left = found.left
        later = replaced(found, left=tuple(left), last=moves)
        tiers = _added(found.tiers, _given_up(found.left))
        self._push(cost, later, changes=len(found.changes) + _least(found.left), tiers=tiers)

    def lists(self) -> Iterator[_List]:
        """Go through whole lists, the cheapest first."""
        seen, looked_at = set[tuple[Change, ...]](), 0
        while self.waiting and looked_at < _MOST:
            cost, found = heappop(self.waiting)
            if found.last is not None:
                self._go_on(cost, found, found.last)
            elif found.tried is None:
                looked_at += 1
                self._try(cost, found)
            elif found.left:
                self.enter(cost, found)
            elif found.changes not in seen:
                seen.add(found.changes)
                yield found

    def _push(self, cost: Cost, found: _List, **changed: Any) -> None:
        heappush(self.waiting, (replaced(cost, serial=next(self.serial), **changed), found))

    def _try(self, cost: Cost, found: _List) -> None:
        """Try a list out; one of which a change cannot be done is none."""
        before = self.situation
        tried = _tried(before, found.changes, found.meant)
        if tried is None:
            return
        now = before.after(tried)
        whole = replaced(found, now=now, tried=tried)
        self._push(cost, whole, exposed=len(tried.exposed), astray=astray(before, now))

    def _go_on(self, cost: Cost, found: _List, moves: Moves) -> None:
        """The list with each move of a kind behind it."""
        assert found.now is not None
        judged = found.now.judged
        for move in moves(found.now, self.about):
            takes = [seconds(one, judged.device, judged.judge.sheet) for one in move.changes]
            longer = _List(
                changes=(*found.changes, *move.changes),
                meant=found.meant | move.meant,
                left=found.left,
                tiers=_added(found.tiers, move.tiers),
            )
            self._push(
                cost,
                longer,
                tiers=_added(longer.tiers, _given_up(found.left)),
                changes=len(longer.changes) + _least(found.left),
                seconds=cost.seconds + sum(each or 0 for each in takes),
            )


def astray(before: Situation, after: Situation) -> int:
    """How much worse the next starts are than they might be, where they change.

    One for each member that would start what is not proven, and one for each that starts something
    now and would start what neither runs nor is wanted.
    """
    goal, found = before.wanted.goal, 0
    for runs in runs_of(before.judged):
        was, starts = before.walk_of(runs.member).starts, after.walk_of(runs.member).starts
        if starts is None or (
            was is not None and (was.at, was.verdict) == (starts.at, starts.verdict)
        ):
            continue
        known = {runs.version, goal.version if goal is not None else None, before.wanted.target}
        found += starts.verdict != "proven"
        found += was is not None and starts.version is not None and starts.version not in known
    return found


def _no_worse(before: Situation, after: Situation) -> bool:
    rank = RELOADS_WORST_FIRST.index
    return rank(after.walk.reload) >= rank(before.walk.reload)

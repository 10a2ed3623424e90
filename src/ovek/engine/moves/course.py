"""The whole way to the wanted release: every install on every member, and the reloads between.

1. Each member goes its own route; firmware that an image needs is loaded before it.
2. An image is brought unless it is there; it is measured; the next start is pointed at it, what
   runs behind it.
3. Once every member that has a hop left is ready for it, the device reloads.
4. A pair commits what its trial shows to be good.
"""

from collections.abc import Iterator

from msgspec.structs import replace

from ovek.engine.moves import About, Move, Situation, joined
from ovek.engine.moves.acts import commit, components_below, load, reload
from ovek.engine.moves.images import bring_to
from ovek.engine.moves.settings import settings
from ovek.engine.replay import replay
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedMember
from ovek.engine.wanted import way_to
from ovek.model.fit import Hop
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare

_ROUNDS = 8  # reloads on the way


def course(situation: Situation, about: About) -> Iterator[Move]:
    """All that is left to do until every member runs the wanted image."""
    goals = dict[str, KnownRelease]()
    for one in situation.judged.members or ():
        goal = situation.wanted.goal_of(one.member.id)
        if goal is None or goal.version is None:
            return
        goals[one.member.id] = goal
    moves = list[Move]()
    for _ in range(_ROUNDS):
        left = [one for one in situation.judged.members or () if not _runs(situation, one, goals)]
        if not left:
            break
        for one in left:
            prepared = _prepared(situation, one.member.id, goals[one.member.id])
            if prepared is None:
                return
            situation = _tried(situation, prepared)
            moves.append(prepared)
        again = next(reload(situation, about), None)
        if again is None or not any(_new(situation, one) for one in left):
            return
        situation = _tried(situation, again)
        moves.append(again)
    for kept in commit(situation, About(tuple(w.member for w in situation.walk.members))):
        situation = _tried(situation, kept)
        moves.append(kept)
    if moves and all(_runs(situation, one, goals) for one in situation.judged.members or ()):
        yield joined(moves)


def _tried(situation: Situation, move: Move) -> Situation:
    """Where a move leads to."""
    tried = replay(situation.judged, move.changes, walk=situation.walk, before=situation.walk)
    return situation.after(tried)


def _runs(situation: Situation, one: JudgedMember, goals: dict[str, KnownRelease]) -> bool:
    """Whether a member runs a release, as far as its version tells."""
    runs = next(each for each in runs_of(situation.judged) if each.member == one.member.id)
    scheme, goal = situation.judged.judge.sheet.versions.pattern, goals[one.member.id]
    return runs.version is not None and compare(runs.version, goal.version or "", scheme) == 0


def _new(situation: Situation, one: JudgedMember) -> bool:
    """Whether a member starts another version than it runs."""
    starts = situation.walk_of(one.member.id).starts
    runs = next(each for each in runs_of(situation.judged) if each.member == one.member.id)
    return starts is not None and starts.version != runs.version


def _prepared(situation: Situation, member: str, goal: KnownRelease) -> Move | None:
    """What makes a member ready for its next hop; None where there is no way."""
    way = way_to(situation.judged, goal, situation.wanted, member)
    if not way.hops:
        return None
    moves = list[Move]()
    for hop in way.hops:
        move = (
            _firmware(situation, member, hop)
            if hop.loads == "component"
            else _installed(situation, member, hop.release)
        )
        if move is None:
            return None
        situation = _tried(situation, move)
        moves.append(move)
        if hop.loads == "image":
            break
    return joined(moves)


def _firmware(situation: Situation, member: str, hop: Hop) -> Move:
    """Load a component image into every slot that has less than it brings."""
    one = situation.member(member)
    scheme = situation.judged.judge.sheet.versions.components.pattern
    return Move(
        tuple(
            load(one, part, hop.release)
            for name, brings in hop.release.carries.items()
            for part in components_below(one, name, brings, scheme)
        )
    )


def _installed(situation: Situation, member: str, release: KnownRelease) -> Move | None:
    """Bring an image to a member and have it start next, as the first that a start tries."""
    if _starts(situation, member, release):
        return _first(situation, member, release) or Move(())
    for _, brought in bring_to(situation, member, release):
        there = _tried(situation, brought)
        pointed = _first(there, member, release)
        if pointed is not None:
            return joined([brought, pointed])
        if _starts(there, member, release):
            return brought
    return None


def _first(situation: Situation, member: str, release: KnownRelease) -> Move | None:
    """The settings with which a start tries a release first; None where there are none."""

    def leads(there: Situation) -> bool:
        return _starts(there, member, release) and len(there.walk_of(member).tried) == 1

    if leads(situation):
        return Move(())
    moves = settings(_wanting(situation, release), About((member,)))
    return next((move for move in moves if leads(_tried(situation, move))), None)


def _wanting(situation: Situation, release: KnownRelease) -> Situation:
    """The same, wanting this release: a hop is wanted before what it leads to."""
    wanted = situation.wanted
    only = {None: release}
    if wanted.target is not None:
        return replace(situation, wanted=replace(wanted, releases=only, members=1))
    return replace(situation, wanted=replace(wanted, best=only, members=1))


def _starts(situation: Situation, member: str, release: KnownRelease) -> bool:
    """Whether a member starts a release next, proven."""
    starts = situation.walk_of(member).starts
    image = situation.judged.image(starts.at) if starts is not None and starts.at else None
    if image is None or image.judgement.verdict != "proven":
        return False
    if release.same_bytes(image.judgement.release):
        return True
    return image.version is not None and image.version == release.version

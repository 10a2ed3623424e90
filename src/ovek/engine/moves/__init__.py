"""Moves: a few changes that belong together, as a person makes them in one sitting.

Whether a move helps and what it does on the way, `advice` finds out by trying it. A move is made
for the device as it stands: what is so already is no part of it.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.replay import Replay
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.engine.wanted import Wanted
from ovek.model.change import BackUp, Change
from ovek.model.place import Place
from ovek.model.policy import Policy
from ovek.model.walk import DeviceWalk, MemberWalk

Tiers = tuple[int, int, int, int, int, int]
NOTHING: Tiers = (0, 0, 0, 0, 0, 0)


class Situation(Struct, frozen=True, kw_only=True, eq=False):
    """A device as it stands, and what is wanted of it.

    `shelf` are the digests that the shelf proves, `sizes` the bytes of what those are.
    """

    judged: JudgedDevice
    walk: DeviceWalk
    wanted: Wanted
    policy: Policy
    shelf: frozenset[str] = frozenset()
    sizes: Mapping[str, int] = {}

    def walk_of(self, member: str) -> MemberWalk:
        """The walk of one member."""
        return next(each for each in self.walk.members if each.member == member)

    def member(self, name: str) -> JudgedMember:
        """One member."""
        return next(one for one in self.judged.members or () if one.member.id == name)

    def after(self, replayed: Replay) -> "Situation":
        """Where changes led to. What was backed up is on the shelf then."""
        shelf = set(self.shelf)
        for stage in replayed.stages:
            place = stage.change.place if isinstance(stage.change, BackUp) else None
            image = self.judged.image(place) if place is not None else None
            if image is not None and image.file is not None:
                shelf |= {digest for _, digest in image.file.digests or ()}
        return replace(self, judged=replayed.judged, walk=replayed.walk, shelf=frozenset(shelf))


class About(Struct, frozen=True):
    """What a goal is about: members, places (member in front), and bytes that are to be free."""

    members: tuple[str, ...]
    places: tuple[Place, ...] = ()
    free: int | None = None


class Move(Struct, frozen=True):
    """Some changes; `meant` is where members are to start from, `tiers` count what is given up.

    The highest tier comes first.
    """

    changes: tuple[Change, ...]
    meant: frozenset[Place] = frozenset()
    tiers: Tiers = NOTHING


Moves = Callable[[Situation, About], Iterator[Move]]


def joined(moves: Iterable[Move]) -> Move:
    """Several moves as one."""
    changes, meant, tiers = list[Change](), set[Place](), [0] * 6
    for move in moves:
        changes += move.changes
        meant |= move.meant
        tiers = [one + other for one, other in zip(tiers, move.tiers, strict=True)]
    return Move(tuple(changes), frozenset(meant), tuple(tiers))  # type: ignore[arg-type]


def for_each(about: About, make: Callable[[str], Iterable[tuple[str, Move]]]) -> Iterator[Move]:
    """Moves of one style for all members together, in the order in which styles first come."""
    by_style: dict[str, list[Move]] = {}
    for member in about.members:
        for style, move in make(member):
            by_style.setdefault(style, []).append(move)
    seen = set[tuple[Change, ...]]()
    for moves in by_style.values():
        whole = joined(moves)
        if whole.changes and whole.changes not in seen:
            seen.add(whole.changes)
            yield whole

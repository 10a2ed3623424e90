"""How much a file would be missed: the tier of what may go, and of what can be unlocked by name.

1 leftovers: crash files, old logs, partial transfers, broken images that nothing refers to, and
  packages that no set names; 2 a second copy of a file that stays; 3 an old image that the shelf
  holds; 4 an old image found nowhere else; 5 the kept fallback; 6 the running image.

5 and 6 are locked: the fallback can be unlocked where nothing else holds it, the running image also
where it is what starts next and what the order names, since it is both nearly always.
"""

from collections.abc import Iterable

from ovek.engine.hold import HeldFile, HoldKind, Reasons
from ovek.engine.verdicts import JudgedMember
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.plan import LOCKED, TIERS, Tier, Unlock
from ovek.model.snapshot import File

# What may hold the running image and still be unlocked with it.
_OF_RUNNING: frozenset[HoldKind] = frozenset({"running", "starts-next", "in-order"})
_OF_FALLBACK: frozenset[HoldKind] = frozenset({"kept-fallback"})
_UNLOCKABLE = _OF_RUNNING | _OF_FALLBACK


def locked_tier(reasons: Reasons) -> Tier | None:
    """The tier of what is held and can be unlocked by name; None for all else that is held.

    >>> from ovek.engine.hold import Reason
    >>> running, named = Reason("running", frozenset({"running"})), frozenset({"in-order"})
    >>> locked_tier((running,)), locked_tier((running, Reason("in the order", named)))
    (6, 6)
    >>> locked_tier((Reason("in the order", named),)) is None
    True
    """
    kinds = set[HoldKind]()
    for reason in reasons:
        if not reason.kinds <= _UNLOCKABLE:  # most of what is held is so for its role
            return None
        kinds |= reason.kinds
    if "running" in kinds and kinds <= _OF_RUNNING:
        return 6
    return 5 if kinds == _OF_FALLBACK else None


class Tiers:
    """The tiers of the files of one member; `told` are all of them.

    `shelf` are the digests of the images that the shelf holds, proven.
    """

    def __init__(
        self,
        member: JudgedMember,
        files: Iterable[HeldFile],
        shelf: frozenset[str],
        unlocked: frozenset[Unlock],
    ) -> None:
        self.one, self.shelf = member, shelf
        self.in_sets = {part for image in member.sets.values() for part in image.parts}
        self.staying: dict[str, list[tuple[Place, File]]] = {}
        self.locked: dict[Place, Tier] = {}
        for place, file, _, reasons in files:
            if not reasons:
                continue
            # Most of what is held is so for its role, which comes first where nothing names it.
            tier = locked_tier(reasons) if reasons[0].kinds <= _UNLOCKABLE else None
            if tier is not None:
                self.locked[place] = tier
            # What may go after all is no reason to let its copy go.
            if file.digests is not None and (tier is None or LOCKED[tier] not in unlocked):
                for _, digest in file.digests:
                    self.staying.setdefault(digest, []).append((place, file))

    def of(self, told: HeldFile) -> tuple[Tier | None, str]:
        """The tier of a file and why; None where it is held and cannot be unlocked."""
        place, file, role, reasons = told
        if reasons:
            locked = self.locked.get(place)
            return locked, "" if locked is None else TIERS[locked]
        if role in ("crash-file", "leftover", "log"):
            return 1, f"{role.replace('-', ' ')}, not used by any setting"
        image = self.one.sets.get(place) or self.one.images.get(place)
        if image is not None and image.judgement.verdict in ("altered", "truncated"):
            verdict = image.judgement.verdict
            return 1, f"{verdict}, not used by any setting: {image.judgement.why}"
        if role == "package" and place not in self.in_sets:
            return 1, "a package that is in no package set"
        copies = [
            other
            for _, digest in file.digests or ()
            for other, stays in self.staying.get(digest, ())
            if _same(file.digests, stays.digests)
        ]
        if copies:
            nearest = min(copies, key=lambda other: (other.volume != place.volume, other[:2]))
            return 2, f"the same digest as {nearest}, which is kept"
        if any(digest in self.shelf for _, digest in file.digests or ()):
            return 3, "old image with a proven copy on the shelf"
        return 4, "old image with no copy on a shelf: back it up first"


def _same(digests: Digests | None, other: Digests | None) -> bool:
    """Whether two files have a digest in common and none that differs."""
    theirs = dict(other or ())
    common = [digest == theirs[name] for name, digest in digests or () if name in theirs]
    return bool(common) and all(common)

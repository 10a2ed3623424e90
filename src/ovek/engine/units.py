"""What goes together: a single file, or a whole set with the packages that no other set shares.

A unit is held if any file in it is, and no edge of a plan cuts through one. Deleting frees whole
clusters. What a folder holds that a part is loaded from is held, every file of it.
"""

from collections.abc import Sequence

from ovek.engine.choose import DropUnit
from ovek.engine.hold import HeldFile
from ovek.engine.tier import Tiers
from ovek.engine.verdicts import JudgedMember
from ovek.model.place import Place
from ovek.model.plan import Tier
from ovek.model.snapshot import Volume

_LATE = float("inf")


def units_of(
    member: JudgedMember, volume: Volume, files: Sequence[HeldFile], tiers: Tiers, cluster: int
) -> list[DropUnit]:
    """The units of a volume that may go, locked ones among them; `files` are its member's files."""
    in_sets: dict[Place, list[Place]] = {}
    for place, image in member.sets.items():
        for package in image.parts:
            in_sets.setdefault(package, []).append(place)
    by_place = {file.place: file for file in files} if in_sets else {}
    units: list[DropUnit] = []
    for file in files:
        place = file.place
        if place.volume != volume.name:
            continue
        if place in member.sets:
            packages = dict.fromkeys(member.sets[place].parts)
            own = [by_place[p] for p in packages if len(in_sets[p]) == 1 and p in by_place]
            unit = _set_unit(member, [file, *own], tiers, cluster)
        elif place in in_sets or (file.reasons and place not in tiers.locked):
            continue
        else:
            tier, why = tiers.of(file)
            unit = None if tier is None else _unit([file], tier, why, cluster)
        if unit is not None:
            units.append(unit)
    return units


def _set_unit(
    member: JudgedMember, files: list[HeldFile], tiers: Tiers, cluster: int
) -> DropUnit | None:
    """A set with its own packages; None where any file in it is held beyond unlocking."""
    whole = member.sets[files[0].place]
    found = [tiers.of(each) for each in files]
    known = [(tier, why) for tier, why in found if tier is not None]
    if len(known) < len(found):
        return None
    # What a set is worth is what its packages are: the set file only lists them.
    counted = known[1:] if len(known) > 1 and 1 < known[0][0] < 5 else known[:1]
    tier, why = max(counted, key=lambda each: each[0])
    if tier < 5 and whole.judgement.verdict in ("altered", "truncated"):
        tier, why = 1, f"{whole.judgement.verdict}, not used by any setting: {whole.judgement.why}"
    return _unit(files, tier, why, cluster)


def _unit(files: Sequence[HeldFile], tier: Tier, why: str, cluster: int) -> DropUnit:
    frees, age = 0, None
    for file in files:
        frees += -(-file.file.least // cluster) * cluster
        if file.file.modified is not None:
            time = file.file.modified.timestamp()
            age = time if age is None or time > age else age
    return DropUnit(
        places=tuple([file.place for file in files]),
        tier=tier,
        why=why,
        frees=frees,
        age=_LATE if age is None else age,
    )


def cluster_of(volume: Volume, fallback: int | None) -> int:
    """The bytes in which a volume's room is taken; `fallback` where it does not tell.

    >>> cluster_of(Volume(name="flash", cluster=4096), 512), cluster_of(Volume(name="flash"), None)
    (4096, 1)
    """
    return volume.cluster or fallback or 1

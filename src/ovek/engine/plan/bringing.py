"""Bringing an image to a member: what goes for it, where it is from, and why it cannot be."""

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from ovek.engine.changes import content_of, effect
from ovek.engine.choose import DropUnit
from ovek.engine.fit import fit_all
from ovek.engine.layouts import layout_of
from ovek.engine.plan.aim import Leg
from ovek.engine.plan.barred import barred_by
from ovek.engine.plan.digests import digests_of
from ovek.engine.plan.kinds import Changes, Difference, Legs
from ovek.engine.plan.settings import current_order, kept_entries, located, ordered
from ovek.engine.plan.situation import Situation, Trial, begin, digests_in, tried
from ovek.engine.plan.space_choices import Case, Chosen, SpaceAsked, choices_for
from ovek.engine.verdicts import JudgedMember, rejudge
from ovek.engine.wanted import may_be_for
from ovek.model.change import (
    BackUp,
    Change,
    Copy,
    Delete,
    WriteBank,
)
from ovek.model.place import BANK, Place
from ovek.model.plan import Room
from ovek.model.runbook import Barred
from ovek.model.size import show_size
from ovek.model.verdict import Image, KnownRelease


def case_for(
    now: Situation, member: JudgedMember, release: KnownRelease | None, *, aim: bool = False
) -> Case:
    """What is chosen on a member for an image that is to be brought, or for none.

    What a person unlocked is so for the image that is the `aim`, and for nothing else.
    """
    goals = (now.wanted.goal_of(each.member.id) for each in now.members)
    files = {g.file for g in goals if g is not None and not g.same_bytes(release)}
    keep = (*now.keep, *sorted(files))
    asked = SpaceAsked(
        policy=now.policy,
        room=Room(release=release),
        shelf=now.shelf or frozenset(),
        sizes=now.sizes,
        unlocked=now.may_drop if aim else frozenset(),
        keep=keep,
        bank_rule=now.wanted.bank_rule,
        detail="numbers",
    )
    return Case(
        judged=now.judged, one=member, walk=now.walk, running=now.running, asked=asked,
        holds=lambda: now.holds(release, keep),
    )  # fmt: skip


def image_changes(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    """Bring an image: make space where that is short, then copy or write it."""
    release, one = difference.release, now.member(difference.member)
    assert release is not None
    if digests_of(now, release) is None:
        why = f"the catalog has no digest of {release.file} that the device can compute"
        yield barred_by(
            difference, why, "Import a list of digests (ovek catalog import)", unknown=True
        )
        return
    standing = now.standing(one.member.id)
    if standing is not None and not may_be_for(fit_all((standing,), release)):
        held = fit_all((standing,), release)
        yield barred_by(difference, f"{release.file} is not compatible: {'; '.join(held.against)}")
        return
    yield from bring(now, one, release, difference, legs.member(one.member.id))


def bring(
    now: Situation, member: JudgedMember, release: KnownRelease, difference: Difference, leg: Leg
) -> Iterator[Changes | Barred]:
    """The ways to bring an image to a member, the best first."""
    case = case_for(now, member, release, aim=difference.kind == "image")
    found = choices_for(case, release)
    if isinstance(found, str):
        yield barred_by(difference, found)
        return
    if found[0].spot is not None and found[0].spot.there:
        yield barred_by(difference, f"{release.file} is already there")
        return
    if found[0].able and (why := _never_proven(now, member, release, found[0])):
        yield barred_by(difference, why, unknown=True)
        return
    for chosen in found:
        if chosen.able:
            changes = brought_by(now, member, release, chosen)
            yield changes
            unnamed = _unnamed(now, member, chosen)
            if unnamed:
                yield (*unnamed, *changes)
    if not found[0].able:
        trimmed = _trimmed(now, member, leg)
        there = tried(begin(now), trimmed, frozenset(now.runs_on(leg.member).places), "image")
        if trimmed and isinstance(there, Trial):
            other = there.now.member(difference.member)
            later = case_for(there.now, other, release, aim=difference.kind == "image")
            best = choices_for(later, release)
            if not isinstance(best, str) and best[0].able:
                yield (*trimmed, *brought_by(there.now, other, release, best[0]))
                return
        yield _no_space(now, difference, found[0], release)


def _never_proven(now: Situation, one: JudgedMember, release: KnownRelease, chosen: Chosen) -> str:
    """Why an image would not be proven once it is there and its digest was read; empty: it is."""
    spot, member = chosen.spot, one.member.id
    assert spot is not None
    device, sheet = now.judged.device, now.judged.judge.sheet
    content = content_of(release)
    change: Change
    if spot.place is None:
        change = WriteBank(member=member, bank=spot.bank or "", content=content)
    else:
        change = Copy(place=spot.place, content=content, bank=spot.bank)
    there = rejudge(now.judged, effect(device, change, sheet))
    image = there.image(spot.place or Place(BANK, spot.bank or "", member))
    if image is None or image.judgement.verdict != "proven":
        text = image.judgement.why if image is not None else "its name is not the name of an image"
        return f"{release.file} would not be proven: {text}"
    if image.suits is not True:
        return f"it is unknown whether {release.file} is for this hardware"
    return ""


def brought_by(now: Situation, one: JudgedMember, release: KnownRelease, chosen: Chosen) -> Changes:
    """Out with what goes, in with the image. Its digest is read behind that."""
    changes = deletions(now, one, chosen.going)
    spot, member = chosen.spot, one.member.id
    bare = replace(content_of(release), digests=None)
    assert spot is not None
    if spot.there:
        return tuple(changes)
    if spot.place is None:
        bank = spot.bank or ""
        image = one.banks.get(bank)
        if image is not None and is_last(now, one, image):
            changes.append(BackUp(place=Place(BANK, bank, member), size=_size(one, bank)))
        changes.append(WriteBank(member=member, bank=bank, content=bare))
        return tuple(changes)
    place = spot.place
    over = one.images.get(place.on(None))
    if over is not None and over.judgement.forged and _only_here(now, over):
        size = over.file.size if over.file is not None else None
        changes.append(BackUp(place=place, size=size))
    changes.append(
        Copy(place=place, content=bare, bank=spot.bank, source=_source(now, one, release, place))
    )
    return tuple(changes)


def _size(member: JudgedMember, bank: str) -> int | None:
    held = member.member.bank(bank)
    return held.size if held is not None else None


def _source(
    now: Situation, member: JudgedMember, release: KnownRelease, place: Place
) -> Place | None:
    """A proven copy on the member itself, where it has one: on a stick or another volume."""
    found = [
        image.place.on(member.member.id)
        for image in member.images.values()
        if image.judgement.verdict == "proven"
        and release.same_bytes(image.judgement.release)
        and image.place != place.on(None)
    ]
    return min(found, key=lambda each: each[:2], default=None)


def _only_here(now: Situation, image: Image) -> bool:
    """Whether an image has to be backed up before it goes: no shelf is known to hold it.

    Where the site has no shelf, or no digest tells, that is for a person to see to.
    """
    if now.shelf is None:
        return False
    digests = digests_in(image)
    return bool(digests) and not digests & now.shelf


def is_last(now: Situation, member: JudgedMember, bank: Image) -> bool:
    """Whether what a bank holds is proven, and neither on the shelf nor elsewhere on the member."""
    release = bank.judgement.release
    if bank.judgement.verdict != "proven" or release is None or not _only_here(now, bank):
        return False
    return not any(
        other is not bank
        and other.judgement.verdict == "proven"
        and release.same_bytes(other.judgement.release)
        for other in (*member.banks.values(), *member.images.values())
    )


def deletions(now: Situation, one: JudgedMember, going: Iterable[DropUnit]) -> list[Change]:
    """What goes, the least missed first; what is nowhere else is backed up before all that."""
    member, naming = one.member.id, now.judged.judge.naming
    saved, changes = set[str](), list[Change]()
    units = sorted(going, key=_backed_up_first)
    for unit in units:
        first = unit.places[0]
        volume = one.member.volume(first.volume)
        blind = volume is not None and volume.case_blind
        role = naming.of(first.path, case_blind=blind).role
        for place in unit.places:
            image = one.images.get(place) or one.sets.get(place)
            forged = image is not None and image.judgement.forged
            old = unit.tier >= 4 and role in ("system-image", "package", "set-file")
            if image is None or image.file is None or not (forged or old):
                continue
            digests = {digest for _, digest in image.file.digests or ()}
            if _only_here(now, image) and not digests & saved:
                changes.append(BackUp(place=place.on(member), size=image.file.size))
                saved |= digests
    for unit in units:
        places = [place.on(member) for place in unit.places]
        changes.append(
            Delete(place=places[0], also=tuple(places[1:]), tier=unit.tier, why=unit.why)
        )
    return changes


def _backed_up_first(unit: DropUnit) -> tuple[object, ...]:
    """Order units by tier, where what has to be backed up counts as if it were."""
    return (3 if unit.tier == 4 else unit.tier), unit.age, unit.places[0][:2]


def _unnamed(now: Situation, member: JudgedMember, chosen: Chosen) -> Changes:
    """Boot settings that do not name the place an image is copied to, as long as it is not read."""
    spot = chosen.spot
    if spot is None or spot.place is None or spot.bank is not None:
        return ()
    return ordered(
        member, tuple(
            entry
            for entry in kept_entries(now, member, current_order(member))
            if located(now, member, entry) != spot.place
        )
    )  # fmt: skip


def _trimmed(now: Situation, one: JudgedMember, leg: Leg) -> Changes:
    """The boot order without what is neither on the way, nor runs, nor boots next."""
    if layout_of(now.judged).holder != "files":
        return ()
    member, boots = one.member.id, now.walk_of(leg.member).boots
    needed = set(now.runs_on(member).places)
    needed |= {boots.at} if boots is not None and boots.at is not None else set()
    kept = tuple(
        entry
        for entry in kept_entries(now, one, current_order(one))
        if entry.place is None or located(now, one, entry) in needed
    )
    return ordered(one, kept) if kept else ()


def _no_space(
    now: Situation, difference: Difference, chosen: Chosen, release: KnownRelease
) -> Barred:
    """What is needed, available and missing, and what would help."""
    volume, need = chosen.volume, chosen.goal.need
    assert volume is not None
    assert need is not None
    available = (volume.free or 0) + sum(unit.frees for unit in chosen.going)
    needed = need.wanted - (need.reserve or 0)
    missing, helps = max(0, needed - available), list[str]()
    one = now.member(difference.member)
    for other in one.member.volumes or ():
        usable = not now.judged.judge.sheet.boot.holds_nothing(other)
        if other is not volume and usable and (other.free or 0) >= needed:
            helps.append(f"{other.name} has {show_size(other.free or 0)} free")
    if difference.kind == "image" and layout_of(now.judged).holder == "files":
        helps.append(
            "boot the new image from a stick in a maintenance window; then the old one can "
            "be deleted"
        )
    locked = {unit.tier for unit in chosen.units if unit.tier >= 5}
    for tier, name, danger in (
        (5, "fallback", "then there is no fallback"),
        (6, "running", "DANGER: until the new image is copied and verified, nothing can boot"),
    ):
        if tier in locked and name not in now.may_drop and difference.kind == "image":
            helps.append(f"--may-drop {name} ({danger})")
    where = f" on {volume.name}"
    why = (
        f"{show_size(needed)} needed{where} for {release.file}, {show_size(available)} available "
        f"after deleting all that may be deleted, {show_size(missing)} missing"
    )
    return replace(barred_by(difference, why, "; ".join(helps)), needed=needed, available=available)

"""Moves that bring an image, take one away, make room, or measure what is there.

What goes and where an image lands, the cleanup plan says: what it refuses is no move. Where it
finds no room, another volume is tried, and then what only a person could unlock. A copy is followed
by the measuring of what came; what lies there and is only not measured is not copied again.
"""

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from ovek.engine.changes import content_of, taken
from ovek.engine.cleanup import Asked, plan_device
from ovek.engine.fit import fit_all, standings
from ovek.engine.hold import Holds, Wishes
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.writing import image_volume
from ovek.engine.moves import NOTHING, About, Move, Situation, Tiers, for_each
from ovek.engine.releases import brought
from ovek.engine.runs import runs_of
from ovek.engine.tier import Tiers as TiersOf
from ovek.engine.units import cluster_of, units_of
from ovek.engine.verdicts import JudgedMember
from ovek.engine.wanted import may_be_for, release_for, way_to
from ovek.model.change import BackUp, Change, Copy, CopyBank, Delete, Measure, WriteBank
from ovek.model.digest import Digests
from ovek.model.fit import Fit
from ovek.model.naming import IMAGE_ROLES
from ovek.model.place import BANK, Place, parse_place
from ovek.model.plan import CleanupPlan, Room, Tier, Unlock
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare

# What a person may unlock, the least first; nothing at all before that.
_UNLOCKS: tuple[frozenset[Unlock], ...] = (
    frozenset(),
    frozenset({"fallback"}),
    frozenset({"fallback", "running"}),
)


def bring(situation: Situation, about: About) -> Iterator[Move]:
    """Bring an image that may start to every member: the wanted one, what runs, or an older one."""
    for release in _worth_bringing(situation, about):
        yield from for_each(about, lambda member, one=release: bring_to(situation, member, one))  # type: ignore[misc]


def bring_back(situation: Situation, about: About) -> Iterator[Move]:
    """Bring an image to go back to: what runs, or the newest of those before it."""
    for release in _to_go_back_to(situation, about):
        yield from for_each(about, lambda member, one=release: bring_to(situation, member, one))  # type: ignore[misc]


def bring_to(
    situation: Situation, member: str, release: KnownRelease
) -> Iterator[tuple[str, Move]]:
    """Bring one image to a member, unless it is there, proven."""
    one = situation.member(member)
    release = brought(release, situation.judged.judge.naming)
    there = _there(situation, one, release)
    if there is not None:
        digests = _readable(situation, content_of(release).digests)
        if there.judgement.verdict == "unmeasured" and digests:
            yield "measure", Move((Measure(place=there.place.on(member), digests=digests),))
        elif there.judgement.verdict == "proven":
            yield "there", Move(())
        return
    for unlocked in _UNLOCKS:
        plan = _plan(situation, member, Room(release=release), unlocked)
        if plan is not None:
            yield f"plan {sorted(unlocked)}", _brought(situation, member, plan, release)
            break
    yield from _elsewhere(situation, one, release)


def _there(situation: Situation, one: JudgedMember, release: KnownRelease) -> Image | None:
    """The image of a release where images of a member lie, as far as its name and bytes tell."""
    layout = layout_of(situation.judged.judge.sheet.start.layout)
    images = list(one.banks.values()) if layout.holder == "banks" else list(one.images.values())
    found = [
        image
        for image in images
        if image.judgement.verdict in ("proven", "unmeasured")
        and (release.same_bytes(image.judgement.release) or _names_it(image, release))
    ]
    found.sort(key=lambda image: (image.judgement.verdict != "proven", image.place[:2]))
    return found[0] if found else None


def _names_it(image: Image, release: KnownRelease) -> bool:
    """Whether a bank that was not measured says that it holds the release."""
    return (
        image.place.is_bank
        and image.judgement.release is None
        and image.version is not None
        and image.version == release.version
    )


def _plan(
    situation: Situation, member: str, room: Room, unlocked: frozenset[Unlock] = frozenset()
) -> CleanupPlan | None:
    """The cleanup plan of a member, where it is enough."""
    members = [one.member.id for one in situation.judged.members or ()]
    goals = (situation.wanted.goal_of(each) for each in members)
    files = tuple(sorted({goal.file for goal in goals if goal is not None}))
    asked = Asked(
        policy=situation.policy,
        keep=files if room.release is None else (),
        room=room,
        shelf=situation.shelf,
        sizes=situation.sizes,
        unlocked=unlocked,
        bank_rule=situation.wanted.bank_rule,
        detail="steps",
    )
    plans = plan_device(situation.judged, asked)
    plan = next(each for each in plans if each.member == member)
    return plan if (plan.enough or plan.fits) and not plan.refused else None


def _brought(situation: Situation, member: str, plan: CleanupPlan, release: KnownRelease) -> Move:
    """A plan for an image as a move: out with what goes, then in with the image, and measure it."""
    cleared = _cleared(situation, member, plan)
    content = content_of(release)
    bare = replace(content, digests=None)
    changes, meant = list(cleared.changes), frozenset[Place]()
    for step in plan.steps:
        if step.kind == "copy" and step.place is not None:
            place = parse_place(step.place).on(member)
            changes.append(Copy(place=place, content=bare, bank=step.bank))
            measured = place if step.bank is None else Place(BANK, step.bank, member)
            changes += _measured(situation, place, content.digests)
            meant = frozenset({measured})
        elif step.kind == "write-bank" and step.bank is not None:
            changes.append(WriteBank(member=member, bank=step.bank, content=bare))
            changes += _measured(situation, Place(BANK, step.bank, member), content.digests)
    return Move(tuple(changes), meant, cleared.tiers)


def _measured(situation: Situation, place: Place, digests: Digests | None) -> list[Change]:
    """Measure what came, where the device can work out a digest that is published."""
    known = _readable(situation, digests)
    return [Measure(place=place, digests=known)] if known else []


def _readable(situation: Situation, digests: Digests | None) -> Digests | None:
    """The digests that this kind of device is asked for; all where its sheet asks for none."""
    reading = situation.judged.judge.sheet.reading
    asked = {*reading.digests, *reading.digest_program}
    known = {name: digest for name, digest in digests or () if not asked or name in asked}
    return Digests(**known) if known else None


def _cleared(situation: Situation, member: str, plan: CleanupPlan) -> Move:
    """What goes by a plan; an image that is nowhere else is backed up before."""
    changes, counts = list[Change](), dict[Tier, int]()
    one = situation.member(member)
    for drop in plan.drop:
        places = [parse_place(text).on(member) for text in drop.files]
        first = parse_place(drop.place).on(member)
        rest = tuple(place for place in places if place != first)
        counts[drop.tier] = counts.get(drop.tier, 0) + 1
        if drop.tier >= 4 and drop.role in (*IMAGE_ROLES, "set-file"):
            changes += _saved(one, (first, *rest))
        changes.append(Delete(place=first, also=rest))
    return Move(tuple(changes), frozenset(), _counted(counts))


def _saved(one: JudgedMember, places: Iterable[Place]) -> Iterator[BackUp]:
    for place in places:
        image = one.images.get(place.on(None))
        size = image.file.size if image is not None and image.file is not None else None
        yield BackUp(place=place, size=size)


def _counted(counts: dict[Tier, int]) -> Tiers:
    order: tuple[Tier, ...] = (6, 5, 4, 3, 2, 1)
    return tuple(counts.get(tier, 0) for tier in order)  # type: ignore[return-value]


def _elsewhere(
    situation: Situation, one: JudgedMember, release: KnownRelease
) -> Iterator[tuple[str, Move]]:
    """Copy an image to another volume that stays, has the room and can be started from."""
    sheet, content = situation.judged.judge.sheet, content_of(release)
    if layout_of(sheet.start.layout).holder == "banks" or content.size is None:
        return
    usual = image_volume(sheet, one.member)
    for volume in one.member.volumes or ():
        able = volume.state == "ok" and sheet.start.can_read(volume.filesystem)
        names = {volume.folded(file.path) for file in volume.files or ()}
        if volume == usual or not able or volume.removable is not False or volume.free is None:
            continue
        if volume.files is None or volume.folded(release.file) in names:
            continue
        if volume.free >= taken(content.size, volume, sheet):
            place = Place(volume.name, release.file, one.member.id)
            bare = replace(content, digests=None)
            copied = (
                Copy(place=place, content=bare),
                *_measured(situation, place, content.digests),
            )
            yield f"on {volume.name}", Move(copied)


def _worth_bringing(situation: Situation, about: About) -> list[KnownRelease]:
    """The images that a member without one would be given: the wanted one, then what runs."""
    found = dict[int, KnownRelease]()
    wanted = situation.wanted
    goals = dict.fromkeys(wanted.goal_of(member) for member in about.members)
    best = [wanted.best.get(member, wanted.best.get(None)) for member in about.members]
    for release in (*goals, *_running(situation, about), *best):
        if release is not None and may_be_for(_fit(situation, release)):
            found.setdefault(id(release), release)
    for release in _earlier(situation, None)[: 1 if not found else 0]:
        found.setdefault(id(release), release)
    return list(found.values())


def _to_go_back_to(situation: Situation, about: About) -> list[KnownRelease]:
    """What a member may go back to: what runs, then the newest before it."""
    running = _running(situation, about)
    found = {id(release): release for release in running}
    for name in about.members:
        version = next(each.version for each in runs_of(situation.judged) if each.member == name)
        for release in _earlier(situation, version)[:1]:
            found.setdefault(id(release), release)
    if len(found) == len(running):  # nothing is earlier: what it may be loaded with next will do
        for name in about.members:
            goal = situation.wanted.goal_of(name)
            way = None if goal is None else way_to(situation.judged, goal, situation.wanted, name)
            for hop in (way.hops or ())[:1] if way is not None else ():
                if hop.loads == "image":
                    found.setdefault(id(hop.release), hop.release)
    return list(found.values())


def _running(situation: Situation, about: About) -> list[KnownRelease]:
    """The releases that members run, as far as it is known which files those are."""
    found = list[KnownRelease]()
    for runs in runs_of(situation.judged):
        if runs.member not in about.members or runs.version is None:
            continue
        release = runs.image.judgement.release if runs.image is not None else None
        if release is None:
            release, _ = release_for(runs.version, situation.judged, situation.wanted)
        if release is not None and release not in found:
            found.append(release)
    return found


def _earlier(situation: Situation, version: str | None) -> list[KnownRelease]:
    """The system images that fit and are earlier than a version, the newest first."""
    judged = situation.judged
    scheme = judged.judge.sheet.versions.pattern
    known = judged.judge.releases.for_model(judged.device.hardware.model)
    able = [
        one
        for one in known
        if one.kind == "system-image"
        and one.version is not None
        and one.fits is not None
        and (version is None or compare(one.version, version, scheme) == -1)
    ]
    newest: list[KnownRelease] = []
    while able and len(newest) < 3:
        best = able[0]
        for one in able[1:]:
            if compare(one.version or "", best.version or "", scheme) == 1:
                best = one
        able.remove(best)
        if may_be_for(_fit(situation, best)):
            newest.append(best)
    return newest


def _fit(situation: Situation, release: KnownRelease) -> Fit:
    """A release held against every member, as policy wants it."""
    wanted = situation.wanted
    return fit_all(standings(situation.judged, wanted.variant, wanted.track), release)


def room(situation: Situation, about: About) -> Iterator[Move]:
    """Make so much room, or that for the wanted image."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        goal = situation.wanted.goal_of(member)
        wanted = Room(free=about.free) if about.free is not None else Room(release=goal)
        if about.free is None and goal is None:
            return
        for unlocked in _UNLOCKS:
            plan = _plan(situation, member, wanted, unlocked)
            if plan is not None and plan.enough:
                yield "room", _cleared(situation, member, plan)
                return

    return for_each(about, of_member)


def remove(situation: Situation, about: About) -> Iterator[Move]:
    """Delete what lies at the places, with all that goes with it, where nothing holds it."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        ours = {place.on(None) for place in about.places if place.member == member}
        if not ours or not any(not place.is_bank for place in ours):
            return
        one, judged = situation.member(member), situation.judged
        wishes = Wishes(policy=situation.policy, release=situation.wanted.goal)
        holds = Holds(judged, situation.walk, runs_of(judged), wishes)
        told = holds.of_member(one)
        tiers = TiersOf(one, told, situation.shelf, frozenset())
        cluster = judged.judge.sheet.capacity.cluster
        changes, counts = list[Change](), dict[Tier, int]()
        for volume in one.member.volumes or ():
            for unit in units_of(one, volume, told, tiers, cluster_of(volume, cluster)):
                if unit.tier >= 5 or ours.isdisjoint(unit.places):
                    continue
                counts[unit.tier] = counts.get(unit.tier, 0) + 1
                places = [place.on(member) for place in unit.places]
                if unit.tier >= 4:
                    changes += _saved(one, places)
                changes.append(Delete(place=places[0], also=tuple(places[1:])))
        if changes:
            yield "remove", Move(tuple(changes), frozenset(), _counted(counts))

    return for_each(about, of_member)


def again(situation: Situation, about: About) -> Iterator[Move]:
    """Copy or write the image again over what is broken, under its own name."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        one = situation.member(member)
        changes, meant = list[Change](), set[Place]()
        for place in about.places:
            if place.member != member or place.is_bank:
                continue
            image = one.images.get(place.on(None))
            release = image.judgement.release if image is not None else None
            if release is None or image is None or image.judgement.verdict == "proven":
                continue
            content = content_of(release)
            if not _readable(situation, content.digests) or release.within is not None:
                continue
            changes.append(Copy(place=place, content=replace(content, digests=None)))
            changes += _measured(situation, place, content.digests)
            meant.add(place)
        if changes:
            yield "again", Move(tuple(changes), frozenset(meant))

    return for_each(about, of_member)


def measure(situation: Situation, about: About) -> Iterator[Move]:
    """Read the digests that are missing: of what the goal names, and of what starts next."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        one = situation.member(member)
        starts = situation.walk_of(member).starts
        places = [place for place in about.places if place.member == member]
        if starts is not None and starts.at is not None and starts.at.member == member:
            yield "starts", Move(tuple(_missing(situation, one, [starts.at])))
        if places:
            yield "named", Move(tuple(_missing(situation, one, places)))

    return for_each(about, of_member)


def _missing(situation: Situation, one: JudgedMember, places: Iterable[Place]) -> Iterator[Measure]:
    for place in places:
        image = situation.judged.image(place)
        parts = [part.on(one.member.id) for part in image.parts] if image is not None else []
        for at in parts or [place]:
            held = situation.judged.image(at)
            if held is None or held.judgement.verdict == "proven":
                continue
            release = held.judgement.release
            if release is None and held.place.is_bank and held.version is not None:
                release, _ = release_for(held.version, situation.judged, situation.wanted)
            digests = content_of(release).digests if release is not None else None
            digests = _readable(situation, digests)
            if held.judgement.verdict == "unmeasured" and digests:
                yield Measure(place=at, digests=digests)


def remeasure(situation: Situation, about: About) -> Iterator[Move]:
    """Read again the digests of what the goal names, as they were."""
    changes = list[Change]()
    for place in about.places:
        image = situation.judged.image(place)
        if image is not None and image.file is not None and image.file.digests is not None:
            changes.append(Measure(place=place, digests=image.file.digests))
    if changes:
        yield Move(tuple(changes))


def copy_bank(situation: Situation, about: About) -> Iterator[Move]:
    """Copy the bank that starts next, or that runs, over another that neither does."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        one, starts = situation.member(member), situation.walk_of(member).starts
        runs = next(each for each in runs_of(situation.judged) if each.member == member)
        source = starts.at if starts is not None else None
        busy = {place.path for place in runs.places if place.is_bank}
        if source is None or not source.is_bank or source.member != member:
            return
        image = one.banks.get(source.path)
        if image is None or image.parts or image.judgement.verdict != "proven":
            return
        for bank in one.member.banks or ():
            if bank.name == source.path or bank.name in busy or bank.places is not None:
                continue
            held, goal = one.banks.get(bank.name), situation.wanted.goal
            wanted = goal.version if goal is not None else None
            if held is not None and held.version == wanted != image.version:
                continue  # what is wanted stays
            broken = held is None or held.judgement.verdict in ("altered", "cut-short")
            alone = not broken and held is not None and held.judgement.verdict == "proven"
            changes: list[Change] = []
            if alone and held is not None and not _on_shelf(situation, held):
                changes.append(BackUp(place=Place(BANK, bank.name, member), size=bank.size))
            changes.append(CopyBank(member=member, source=source.path, bank=bank.name))
            yield (
                f"over {bank.name}",
                Move(tuple(changes), frozenset(), NOTHING if broken else (0, 0, 1, 0, 0, 0)),
            )

    return for_each(about, of_member)


def _on_shelf(situation: Situation, image: Image) -> bool:
    release = image.judgement.release
    known = release.digests.values() if release is not None else ()
    return any(digest in situation.shelf for digests in known for digest in digests)


def back_up_image(situation: Situation, about: About) -> Iterator[Move]:
    """Take the images that the goal names to the shelf."""
    changes = list[Change]()
    for place in about.places:
        image = situation.judged.image(place)
        if image is not None and image.file is not None:
            changes.append(BackUp(place=place, size=image.file.size))
    if changes:
        yield Move(tuple(changes))

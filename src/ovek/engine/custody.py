"""Where an image went wrong: its copies from the catalog to every flash, grouped by equal digest.

1. Copies that share a digest, and differ in none, are one group; the catalog's digests say which
   group is right. A copy without a digest is in a group of its own: not known.
2. The hops are the catalog, each shelf folder in the order given (what is in its archives before
   it), and flash. The first with a wrong copy is where it went wrong.
3. A wrong digest on the shelf and on flashes: the shelf's copy was bad already. On one flash alone:
   that flash is bad. On several flashes and nowhere else: nobody can explain it.
4. A copy that no source lists belongs where one with its bytes does; else to those of its bytes,
   and of its name. Where nothing published tells, the copies are still compared: all the same, or
   which of them is the odd one.
5. An image that runs and has no right copy in an archive or on the shelf cannot be restored.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from fnmatch import fnmatchcase

from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice, standing_images
from ovek.model.custody import HOPS, CopyGroup, Custody, Sighting
from ovek.model.digest import STRONGEST_FIRST, Digests
from ovek.model.shelf import ShelfVerdict
from ovek.model.signature import REFUSED, TITLES
from ovek.model.snapshot import Device
from ovek.model.verdict import Image, KnownRelease


def on_shelf(
    verdicts: Iterable[ShelfVerdict],
    folder: str = "shelf",
    order: int = 0,
    seen_at: datetime | None = None,
) -> Iterator[tuple[str | None, Sighting]]:
    """The copies in a shelf folder and its archives, each with the release it was held against."""
    for verdict in verdicts:
        if verdict.problem is None:
            archived = "!" in verdict.path
            name = verdict.path.rpartition("!")[2].rpartition("/")[2]
            sighting = Sighting(
                hop="archive" if archived else "shelf",
                place=f"{folder}/{verdict.path}",
                name=name,
                size=verdict.size,
                digests=verdict.digests,
                folder=folder,
                order=order,
                digest_at=seen_at,
                signature=verdict.signature,
            )
            yield verdict.release, sighting


def on_flash(judged: JudgedDevice) -> Iterator[tuple[str | None, Sighting]]:
    """The copies on the flash of a device, each with the release it was held against."""
    device = judged.device
    in_use = {place for running in runs_of(judged) if running.sure for place in running.places}
    for standing_image in standing_images(judged):
        image = standing_image.image
        yield (
            standing_image.release,
            Sighting(
                hop="flash",
                place=f"{device.device} {standing_image.shown}",
                name=_name(image, image.judgement.release),
                size=standing_image.size,
                digests=standing_image.digests or Digests(),
                device=device.device,
                sheet=judged.judge.sheet.name,
                running=image.place.on(standing_image.member) in in_use,
                digest_at=_measured_at(image, device),
            ),
        )


def _measured_at(image: Image, device: Device) -> datetime | None:
    """When the digests of an image were measured; None where none is known."""
    if image.file is None or image.file.digests is None:
        return None
    return image.file.digests_at or device.taken_at


def _name(image: Image, release: KnownRelease | None) -> str:
    """The name of a copy; a bank has none of its own, so its release's."""
    cut = image.file is not None and image.file.path_cut
    if release is not None and (image.place.is_bank or cut):
        return release.file
    return image.place.name


def follow(
    releases: ReleaseIndex,
    copies: Iterable[tuple[str | None, Sighting]],
    *,
    unread: bool = False,
) -> list[Custody]:
    """Follow every image that has a copy somewhere: the published, in the catalog's order, first.

    A file of the shelf that no source lists is followed only where a flash has its bytes or name.
    `unread` is whether some shelf was never read, so that nothing is known to be missing.
    """
    by_release: dict[KnownRelease, list[Sighting]] = {}
    others: list[Sighting] = []
    for name, sighting in copies:
        release = _release_of(releases, name, sighting.digests)
        if release is not None:
            by_release.setdefault(release, []).append(sighting)
        else:
            others.append(sighting)
    homes = {
        fact: one for one, known in by_release.items() for copy in known for fact in copy.digests
    }
    unlisted: list[Sighting] = []
    for copy in others:
        home = next((homes[fact] for fact in copy.digests if fact in homes), None)
        (unlisted if home is None else by_release[home]).append(copy)
    order = {one: number for number, one in enumerate(releases.releases)}
    listed = sorted(by_release, key=lambda one: (order.get(one, len(order)), one.file))
    custodies = [_custody(one, by_release[one]) for one in listed]
    custodies += [_unlisted(alike) for alike in _alike(unlisted)]
    if unread:
        custodies = [replace(one, restorable=one.restorable or None) for one in custodies]
    return custodies


def _release_of(releases: ReleaseIndex, name: str | None, digests: Digests) -> KnownRelease | None:
    """The release of a name; where several publishers use it, that of these bytes, else the first.

    What a release contains is one, too.
    """
    known = releases.named(name, case_blind=False) if name is not None else []
    if not known and name is not None:
        known = releases.own_by_folded.get(name.casefold(), [])
    record = next((one for one in known if one.has(digests)), known[0] if known else None)
    if record is None:
        return None
    # Copies of the same bytes are followed as one, whatever they are called.
    return min(releases.family(record).members, key=lambda one: (one.within is not None, one.file))


def _alike(copies: list[Sighting]) -> Iterator[list[Sighting]]:
    """The copies of each image that no source lists: of the same bytes, or the same name.

    Flashes read by different sheets may use one name for different things.
    """
    groups: dict[int, list[Sighting]] = {}
    group_of: dict[object, int] = {}
    for number, copy in enumerate(copy for copy in copies if copy.hop == "flash"):
        mine, signs = [copy], {*copy.digests, (copy.sheet, copy.name)}
        for at in {group_of[sign] for sign in signs if sign in group_of}:
            for group in groups[at]:
                signs.update((*group.digests, (group.sheet, group.name)))
            mine = groups.pop(at) + mine
        groups[number] = mine
        group_of.update(dict.fromkeys(signs, number))
    for flashes in groups.values():
        known = {fact for copy in flashes for fact in (*copy.digests, copy.name)}
        stored = [c for c in copies if c.hop != "flash" and known & {*c.digests, c.name}]
        yield stored + flashes


def matches(custody: Custody, text: str) -> bool:
    """Whether an image is meant by a name, part of it, a version, or a digest or its beginning."""
    wanted = text.strip().casefold()
    digests = [digest for group in custody.groups for _, digest in group.digests]
    by_digest = len(wanted) >= 6 and any(digest.startswith(wanted) for digest in digests)
    name = custody.image.casefold()
    if set("*?[") & set(wanted) and fnmatchcase(name, wanted):
        return True
    return wanted in name or wanted == (custody.version or "").casefold() or by_digest


def _custody(release: KnownRelease, copies: list[Sighting]) -> Custody:
    published = Sighting(
        hop="catalog",
        place=", ".join(map(str, release.origins)),
        name=release.file,
        size=min(release.sizes, default=None),
        digests=Digests(
            **{
                name: next(iter(values))
                for name, values in release.digests.items()
                if len(values) == 1
            }
        ),
        signature=release.lists[0].signature if release.lists else None,
    )
    groups = _groups([published], copies)
    why = _doubt(release, groups)
    if why:
        groups = [replace(group, good=None) for group in groups]
    wrong = [copy for group in groups if group.good is False for copy in group.copies]
    first = min(wrong, key=_hop, default=None)
    right = [copy for group in groups if group.good for copy in group.copies]
    nobody = not release.digests
    return Custody(
        image=release.file,
        version=release.version,
        groups=tuple(groups),
        first_bad=first.hop if first is not None else None,
        bad_in=first.folder if first is not None else None,
        advice=(
            *((why,) if why else _told(groups, own=release.trust == "own")),
            *_on_signatures(groups),
        ),
        renamed=tuple(copy.place for copy in copies if copy.name != release.file),
        restorable=_restorable(copies, [c for g in groups for c in g.copies] if nobody else right),
        odd=tuple(_odd(groups)),
        listed_by="none" if nobody else "own" if release.trust == "own" else "publisher",
        disputed=bool(why),
    )


def _on_signatures(groups: Iterable[CopyGroup]) -> Iterator[str]:
    """Where the signature of a copy and its digest do not agree."""
    for group in groups:
        for copy in group.copies:
            check = copy.signature
            if check is None or not copy.stored:
                continue
            if check.good and group.good is False:
                yield (
                    f"{copy.place} is {check.shown}, but its digest is not the published one: one "
                    "of the two is wrong; ask the publisher"
                )
            elif check.state in REFUSED:
                yield f"{copy.place}: {TITLES[check.state]} in {check.file}: {check.why}"


def _doubt(release: KnownRelease, groups: Sequence[CopyGroup]) -> str:
    """Why the published digest decides nothing; empty where it does.

    Its publisher doubts it; or every copy that was digested, on several hops, agrees on another,
    and none has another size than is published, as a copy that was cut off has.
    """
    if release.doubtful:
        return "its publisher doubts the digest, so it is disputed which copies are good"
    if release.disputed and not any(group.good for group in groups):
        return "its sources disagree on the digest, so it is disputed which copies are good"
    wrong = [group for group in groups if group.good is False]
    agree = len(wrong) == 1 and not any(
        copy.hop != "catalog" for group in groups if group.good for copy in group.copies
    )
    hops = {copy.hop for group in wrong for copy in group.copies}
    sizes = {copy.size for group in wrong for copy in group.copies} - {None}
    agree = agree and (not release.sizes or sizes <= release.sizes)
    if agree and len(hops) > 1 and len(wrong[0].copies) > 2:
        number = len(wrong[0].copies)
        return (
            f"{wrong[0].label}: the published digest may be wrong: all {number} copies, on the "
            f"{' and the '.join(hop for hop in HOPS if hop in hops)}, are the same; ask the "
            "publisher for the digest before you trust or delete a copy"
        )
    return ""


def _unlisted(copies: list[Sighting]) -> Custody:
    """An image that no source lists, named as most of its copies are."""
    names = Counter(copy.name for copy in copies)
    name = max(names, key=lambda each: (names[each], each))
    groups = _groups([], copies)
    same = [
        copy for group in groups if any(c.running for c in group.copies) for copy in group.copies
    ]
    unverified = any(copy.running and not copy.digests for copy in copies)
    return Custody(
        image=name,
        version=None,
        groups=tuple(groups),
        first_bad=None,
        advice=tuple(_told(groups)),
        renamed=tuple(copy.place for copy in copies if copy.name != name),
        restorable=None if unverified else _restorable(copies, same),
        listed=False,
        listed_by="none",
        odd=tuple(_odd(groups)),
    )


def _restorable(copies: Iterable[Sighting], good: Iterable[Sighting]) -> bool | None:
    """Whether the shelf has a good copy of an image that runs; None where no copy runs."""
    if not any(copy.running for copy in copies):
        return None
    return any(copy.stored for copy in good)


def _hop(copy: Sighting) -> tuple[int, int, int]:
    """Where on its way a copy is: the catalog, then folder by folder, then flash."""
    return (1 if copy.stored else HOPS.index(copy.hop), copy.order, HOPS.index(copy.hop))


def _groups(published: list[Sighting], copies: list[Sighting]) -> list[CopyGroup]:
    """Put copies with equal digests together; the published one first, the unverified last."""
    known: list[tuple[dict[str, str], list[Sighting]]] = []
    copies = sorted(copies, key=_hop)
    unverified: list[Sighting] = []
    for copy in (*published, *copies):
        digests: dict[str, str] = dict(copy.digests)
        if not digests and copy.hop != "catalog":
            unverified.append(copy)
            continue
        for facts, members in known:
            common = [facts[name] == digest for name, digest in digests.items() if name in facts]
            if common and all(common):
                facts.update(digests)
                members.append(copy)
                break
        else:
            known.append((digests, [copy]))
    right = bool(published and known[0][0])
    groups = []
    for number, (facts, members) in enumerate(known):
        ordered = tuple((name, facts[name]) for name in STRONGEST_FIRST if name in facts)
        comparable = right and any(name in known[0][0] for name in facts)
        groups.append(
            CopyGroup(
                label=_label(number),
                good=(number == 0 if comparable else None),
                digests=ordered,
                copies=tuple(members),
            )
        )
    if unverified:
        groups.append(CopyGroup(label="?", good=None, digests=(), copies=tuple(unverified)))
    return groups


def _label(number: int) -> str:
    """A, B, … Z, AA, …"""
    label = ""
    while number >= 0:
        label, number = chr(ord("A") + number % 26) + label, number // 26 - 1
    return label


def _told(groups: Sequence[CopyGroup], *, own: bool = False) -> Iterator[str]:
    """What the groups say, in words; `own` is whether only our own record tells what is right."""
    right = [copy for group in groups if group.good for copy in group.copies]
    right = [copy for copy in right if copy.hop != "catalog"]
    for group in groups:
        if group.good is False and own:
            places = ", ".join(copy.place for copy in group.copies)
            yield (
                f"{group.label}: differs from your own record, and no publisher lists it: {places}"
            )
        elif group.good is False:
            yield _told_of_wrong(group, right)
    unverified = next((group for group in groups if group.label == "?"), None)
    if unverified is not None:
        copies = "copy" if len(unverified.copies) == 1 else "copies"
        yield f"?: {len(unverified.copies)} {copies} without a digest"
    yield from _told_of_unsure([g for g in groups if g.good is None and g.label != "?"], groups)


def _told_of_wrong(group: CopyGroup, right: list[Sighting]) -> str:
    flashes = [copy.place for copy in group.copies if copy.hop == "flash"]
    stored = [copy for copy in group.copies if copy.stored]
    kept = [copy for copy in right if copy.stored]
    if stored:
        first = min(stored, key=_hop)
        before = [copy for copy in kept if _hop(copy) < _hop(first)] or kept
        where = "in the archive" if first.hop == "archive" else "on the shelf"
        places = ", ".join(copy.place for copy in stored)
        took = "" if not flashes else f", and so are the copies on {', '.join(flashes)}"
        anew = "get it from the publisher again, then copy it again"
        if before:
            anew = f"copy it again from the last good copy, {max(before, key=_hop).place}"
        elif right:
            anew = f"copy it again from a good copy on flash, {right[0].place}"
        return f"{group.label}: the copy {where} was bad already ({places}){took}; {anew}"
    source = "the publisher again"
    if right:
        source = f"the last good copy, {max(kept or right, key=_hop).place}"
    if len(flashes) > 1:
        return (
            f"{group.label}: {len(flashes)} devices have the same bad copy: {', '.join(flashes)}; "
            "find out where they got it before you trust that source"
        )
    return (
        f"{group.label}: only {', '.join(flashes)} has this content; copy the image to it again "
        f"from {source}"
    )


def _told_of_unsure(unsure: list[CopyGroup], groups: Sequence[CopyGroup]) -> Iterator[str]:
    """Compare the copies with each other where nothing published tells."""
    if not unsure:
        return
    labels = ", ".join(group.label for group in unsure)
    odd, number = list(_odd(groups)), sum(len(group.copies) for group in unsure)
    if len(unsure) == 1:
        alike = f"; its {number} copies are all the same" if number > 1 else ""
        yield f"{labels}: not in the catalog, so it cannot be verified{alike}"
    elif odd:
        most = max(unsure, key=lambda group: len(group.copies))
        places = [copy.place for g in unsure if g.label in odd for copy in g.copies]
        yield (
            f"{', '.join(odd)}: the odd copy is {', '.join(places)}: {len(most.copies)} others are "
            f"the same ({most.label}); no published digest says which is good, so compare sizes "
            "and dates, and copy it again if you trust the others"
        )
    else:
        yield (
            f"{labels}: not in the catalog, and the copies differ from each other; find out where "
            "each came from"
        )


def _odd(groups: Iterable[CopyGroup]) -> Iterator[str]:
    """The labels of single copies that differ from the one group that most others are in.

    Only copies that were digested by a common algorithm can differ.
    """
    unsure = [group for group in groups if group.good is None and group.label != "?"]
    largest = max(unsure, key=lambda group: len(group.copies), default=None)
    if largest is None or len(largest.copies) < 2:
        return
    rest = [group for group in unsure if group is not largest]
    if any(len(group.copies) > 1 for group in rest):
        return
    measured = {name for name, _ in largest.digests}
    yield from (group.label for group in rest if measured & {name for name, _ in group.digests})

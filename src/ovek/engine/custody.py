"""Where an image went wrong: its copies from the catalog to every flash, grouped by equal digest.

1. Copies that share a digest, and differ in none, are one group; the catalog's digests say which
   group is right. A copy without a digest is in a group of its own: not known.
2. The first hop (catalog, archive, shelf, flash) with a wrong copy is where it went wrong.
3. A wrong digest on the shelf and on flashes: the shelf's copy was bad already. On one flash alone:
   that flash is bad. On several flashes and nowhere else: nobody can explain it.
4. An image that runs and has no right copy in an archive or on the shelf cannot be restored.
"""

from collections.abc import Iterable, Iterator
from datetime import datetime

from ovek.engine.releases import ReleaseIndex
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice
from ovek.model.custody import HOPS, CopyGroup, Custody, Hop, Sighting
from ovek.model.digest import STRONGEST_FIRST, Digests
from ovek.model.shelf import ShelfVerdict
from ovek.model.snapshot import Device
from ovek.model.verdict import Image, KnownRelease


def on_shelf(found: Iterable[ShelfVerdict]) -> Iterator[tuple[str | None, Sighting]]:
    """The copies on the shelf and in archives, each with the release it was held against."""
    for one in found:
        if one.problem is None:
            archived = "!" in one.path
            name = one.path.rpartition("!")[2].rpartition("/")[2]
            sighting = Sighting(
                hop="archive" if archived else "shelf",
                place=one.path,
                name=name,
                size=one.size,
                digests=one.digests,
            )
            yield one.release, sighting


def on_flash(judged: JudgedDevice) -> Iterator[tuple[str | None, Sighting]]:
    """The copies on the flash of a device, each with the release it was held against."""
    device = judged.device
    several = len(judged.members or ()) > 1
    running = {place for runs in runs_of(judged) if runs.sure for place in runs.places}
    for one in judged.members or ():
        banks = {bank.name: bank.digests for bank in one.member.banks or ()}
        for image in (*one.images.values(), *one.banks.values()):
            if image.place.is_bank and image.parts:
                continue
            release = image.judgement.release
            digests = image.file.digests if image.file is not None else banks.get(image.place.path)
            shown = image.place.on(one.member.id if several else None)
            yield (
                release.file if release is not None else None,
                Sighting(
                    hop="flash",
                    place=f"{device.device} {shown}",
                    name=_name(image, release),
                    size=image.file.size if image.file is not None else None,
                    digests=digests or Digests(),
                    device=device.device,
                    runs=image.place.on(one.member.id) in running,
                    measured_at=_measured_at(image, device),
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


def follow(releases: ReleaseIndex, copies: Iterable[tuple[str | None, Sighting]]) -> list[Custody]:
    """Follow every published image that has a copy somewhere, in the catalog's order."""
    by_release: dict[str, list[Sighting]] = {}
    for name, sighting in copies:
        if name is not None:
            by_release.setdefault(name, []).append(sighting)
    return [
        _custody(one, by_release[one.file]) for one in releases.releases if one.file in by_release
    ]


def matches(one: Custody, text: str) -> bool:
    """Whether an image is meant by a name, part of it, a version, or a digest or its beginning."""
    wanted = text.strip().casefold()
    digests = [digest for group in one.groups for _, digest in group.digests]
    by_digest = len(wanted) >= 6 and any(digest.startswith(wanted) for digest in digests)
    return wanted in one.image.casefold() or wanted == (one.version or "").casefold() or by_digest


def _custody(release: KnownRelease, copies: list[Sighting]) -> Custody:
    published = [
        Sighting(
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
        )
    ]
    groups = _groups(published, copies)
    wrong = [group for group in groups if group.right is False]
    hops = {copy.hop for group in wrong for copy in group.copies}
    first: Hop | None = next((hop for hop in HOPS if hop in hops), None)
    right = next((group for group in groups if group.right), None)
    stored = right is not None and any(c.hop in ("archive", "shelf") for c in right.copies)
    runs = any(copy.runs for group in groups for copy in group.copies)
    return Custody(
        image=release.file,
        version=release.version,
        groups=tuple(groups),
        first_wrong=first,
        told=tuple(_told(groups, wrong)),
        renamed=tuple(copy.place for copy in copies if copy.name != release.file),
        restorable=stored if runs else None,
    )


def _groups(published: list[Sighting], copies: list[Sighting]) -> list[CopyGroup]:
    """Put copies with equal digests together; the published one first, the unmeasured last."""
    known: list[tuple[dict[str, str], list[Sighting]]] = []
    unmeasured: list[Sighting] = []
    for copy in (*published, *copies):
        digests: dict[str, str] = dict(copy.digests)
        if not digests and copy.hop != "catalog":
            unmeasured.append(copy)
            continue
        for facts, members in known:
            common = [facts[name] == digest for name, digest in digests.items() if name in facts]
            if common and all(common):
                facts.update(digests)
                members.append(copy)
                break
        else:
            known.append((digests, [copy]))
    right = bool(known and known[0][0])
    groups = []
    for number, (facts, members) in enumerate(known):
        ordered = tuple((name, facts[name]) for name in STRONGEST_FIRST if name in facts)
        comparable = right and any(name in known[0][0] for name in facts)
        groups.append(
            CopyGroup(
                label=_label(number),
                right=(number == 0 if comparable else None),
                digests=ordered,
                copies=tuple(members),
            )
        )
    if unmeasured:
        groups.append(CopyGroup(label="?", right=None, digests=(), copies=tuple(unmeasured)))
    return groups


def _label(number: int) -> str:
    """A, B, … Z, AA, …"""
    label = ""
    while number >= 0:
        label, number = chr(ord("A") + number % 26) + label, number // 26 - 1
    return label


def _told(groups: list[CopyGroup], wrong: list[CopyGroup]) -> Iterator[str]:
    """What the groups say, in words."""
    for group in wrong:
        hops = {copy.hop for copy in group.copies}
        flashes = [copy.place for copy in group.copies if copy.hop == "flash"]
        stored = [copy.place for copy in group.copies if copy.hop in ("archive", "shelf")]
        if stored:
            where = "in the archive" if "archive" in hops else "on the shelf"
            took = "" if not flashes else f", and so it is on {', '.join(flashes)}"
            yield (
                f"{group.label}: the copy {where} was bad already ({', '.join(stored)}){took}; "
                "get it from the publisher again, then copy it anew"
            )
        elif len(flashes) > 1:
            yield (
                f"{group.label}: {len(flashes)} flashes share a wrong digest that no source has: "
                f"{', '.join(flashes)}; find out where they took it from before you trust it"
            )
        else:
            yield (
                f"{group.label}: this flash alone is bad: {', '.join(flashes)}; copy the image to "
                "it again from a right copy"
            )
    unmeasured = next((group for group in groups if group.label == "?"), None)
    if unmeasured is not None:
        yield f"?: of {len(unmeasured.copies)} no digest is known"
    unsure = [group for group in groups if group.right is None and group.label != "?"]
    if unsure:
        yield f"{', '.join(group.label for group in unsure)}: no published digest tells"

"""Which images of a member are kept besides what runs and starts, up to policy's number.

1. Different images count: a copy, a renamed copy, and a set beside the archive that it came from
   are one. What runs, what starts and the image that room is made for count first.
2. Able is what is proven, for this hardware and not withdrawn. What may be all that, and nobody
   knows, is kept where it would be, and counts for nothing.
3. Another version than what runs and starts comes first, then the newest, then the youngest file.
4. An image is left out only where enough others surely come before it: of what cannot be ordered,
   for want of a date, all are kept.
"""

from collections.abc import Iterable

from msgspec import Struct

from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.place import Place
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare


class WantedFallbacks(Struct, frozen=True, kw_only=True):
    """How many images are to stay on a member, and the release that room is made for.

    `removable` is whether what lies on a volume that can be pulled counts.
    """

    keep: int
    release: KnownRelease | None
    removable: bool = False


def fallbacks(
    judged: JudgedDevice, member: JudgedMember, kept: Iterable[Place], wanted: WantedFallbacks
) -> list[Place]:
    """The places, without member, of the images that are kept as fallback.

    `kept` are what surely runs and starts on this member: what only may counts for nothing.
    """
    chosen = [image for place in kept if (image := _image(member, place)) is not None]
    number = len(_different(chosen, member))
    release = wanted.release
    if release is not None and not any(_holds(image, release) for image in chosen):
        number += 1
    if number >= wanted.keep:
        return []
    able = [
        image
        for image in _different(_candidates(member, removable=wanted.removable), member)
        if not any(same(image, other, member) for other in chosen) and not _holds(image, release)
    ]
    versions = {image.version for image in chosen}
    first, sure = _First(judged, versions), [image for image in able if _surely_able(image)]
    return [
        image.place
        for image in able
        if sum(first(other, image) for other in sure if not _may_be_one(other, image))
        < wanted.keep - number
    ]


def _image(member: JudgedMember, place: Place) -> Image | None:
    bare = place.on(None)
    if place.is_bank:
        return member.banks.get(place.path)
    return member.sets.get(bare) or member.images.get(bare)


def _holds(image: Image, release: KnownRelease | None) -> bool:
    judgement = image.judgement
    if release is None or judgement.verdict != "proven":
        return False
    return release.same_bytes(judgement.release)


def _candidates(member: JudgedMember, *, removable: bool) -> list[Image]:
    """What may be a fallback, sets first, then by name; what a bank is made of is the bank's."""
    pulled = {each.name for each in member.member.volumes or () if each.removable and not removable}
    banked = {part for bank in member.banks.values() for part in bank.parts}
    found = [
        image
        for image in (*member.images.values(), *member.sets.values())
        if image.starts_members
        and image.judgement.verdict in ("proven", "matched", "unverified")
        and image.suits is not False
        and image.place.volume not in pulled
        and image.place not in banked
        and not (image.place in member.sets and image is not member.sets[image.place])
        and not (image.judgement.release and image.judgement.release.status == "withdrawn")
    ]
    return sorted(found, key=_named_first)


def _named_first(image: Image) -> tuple[bool, bool, str, str]:
    """Of copies that are one, the set first, then the one with its published name."""
    release = image.judgement.release
    renamed = release is None or image.place.name != release.file
    return image.role != "set-file", renamed, image.place.volume, image.place.path


def _may_be_one(image: Image, other: Image) -> bool:
    """Whether an image of which no digest is known may be a copy of another, by its name."""
    release = other.judgement.release
    return release is not None and release is image.judgement.release


def _surely_able(image: Image) -> bool:
    return image.judgement.verdict == "proven" and image.suits is True


def _different(images: Iterable[Image], member: JudgedMember) -> list[Image]:
    """One of each image, the first of those that are the same."""
    found: list[Image] = []
    for image in images:
        if not any(same(image, other, member) for other in found):
            found.append(image)
    return found


def same(image: Image, other: Image, member: JudgedMember) -> bool:
    """Whether two images of a member are one: the same bytes, or a set and its archive."""
    if image.place == other.place or _bytes(image, member) == _bytes(other, member):
        return True
    if (image.role == "set-file") == (other.role == "set-file"):
        return False
    if image.version is None or image.version != other.version:
        return False
    variants = {
        each.judgement.release and each.judgement.release.variant for each in (image, other)
    }
    return len(variants - {None}) < 2


def _bytes(image: Image, member: JudgedMember) -> object:
    """What two images with the same bytes have in common; nothing else has it."""
    if image.parts:
        packages = [
            _bytes(member.images[place], member) for place in image.parts if place in member.images
        ]
        if len(packages) < len(image.parts):
            return image.place
        return packages[0] if len(packages) == 1 else frozenset(packages)
    release = image.judgement.release
    if image.judgement.verdict == "proven" and release is not None:
        return ("family", release.family) if release.family is not None else release
    return image.place


class _First:
    """Whether one image surely comes before another as a fallback."""

    def __init__(self, judged: JudgedDevice, versions: set[str | None]) -> None:
        self.scheme, self.versions = judged.judge.sheet.versions.pattern, versions - {None}

    def __call__(self, image: Image, other: Image) -> bool:
        ours, theirs = image.version in self.versions, other.version in self.versions
        if ours != theirs:
            return theirs
        order = None
        if image.version is not None and other.version is not None:
            order = compare(image.version, other.version, self.scheme)
        return order == 1 if order else self._younger(image, other)

    def _younger(self, image: Image, other: Image) -> bool:
        """Whether the file of one is surely younger; of equal ones the first by name."""
        ours = image.file.modified if image.file is not None else None
        theirs = other.file.modified if other.file is not None else None
        if ours is None or theirs is None:
            return False
        return ours > theirs or (ours == theirs and image.place[:2] < other.place[:2])

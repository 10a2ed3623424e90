"""Which file or image is at a place of a member."""

from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from functools import lru_cache

from ovek.model.place import Place
from ovek.model.snapshot import Bank, BootEntry, File, Hardware, Member, Volume
from ovek.model.verdict import Image, KnownRelease

CUT = "its name is cut by the listing"


def started_places(member: Member) -> Iterator[Place]:
    """The files that the next start reads of a member's boot settings: once and the order.

    The order is the saved one, or the live one where only that is known.
    """
    if member.boot is None:
        return
    entries: list[BootEntry | None] = [member.boot.once]
    entries += member.boot.order.effective or ()
    for entry in entries:
        place = None if entry is None else entry.at
        if place is not None and not place.is_bank:
            yield place


def is_empty(bank: Bank) -> bool:
    """Whether a bank is known to hold nothing: it says so, or the directory that it is has no file.

    >>> is_empty(Bank(name="trial", places=())), is_empty(Bank(name="trial"))
    (True, False)
    """
    if bank.state == "empty":
        return True
    itself = bank.version is not None or any(True for _ in bank.digests or ())
    return bank.places == () and bank.state != "bad" and not itself


def find_file(place: Place, member: Member) -> File | None:
    """The file at a place of this member, case-blind where the volume is.

    A file whose name the listing cut may be any that begins so; the first is found.
    """
    volume = member.volume(place.volume)
    if volume is None:
        return None
    for file in volume.files or ():
        if file.path == place.path:
            return file
    if volume.case_blind:
        wanted = place.path.casefold()
        found = next((f for f in volume.files or () if f.path.casefold() == wanted), None)
        if found is not None:
            return found
    return next(cut_files(place, member), None)


def cut_files(place: Place, member: Member) -> Iterator[File]:
    """The files of a member whose names the listing cut, and that may be the one at a place."""
    volume = member.volume(place.volume)
    for file in (volume.files if volume is not None else None) or ():
        if file.path_cut and volume is not None and _may_be(volume, file, place.path):
            yield file


def several_begin(place: Place, member: Member) -> str:
    """Why it is not known which file is at a place of whose name the listing shows the beginning.

    Empty where it is the only one, or no name is cut.
    """
    file = find_file(place, member)
    if file is None or not file.path_cut:
        return ""
    number = sum(1 for _ in cut_files(place, member))
    return f"{CUT}, and {number} files begin like it" if number > 1 else ""


def cut_file(volume: Volume, path: str, cut: Iterable[File]) -> File | None:
    """The first of some files with cut names that may be the one of this path."""
    return next((file for file in cut if _may_be(volume, file, path)), None)


def _may_be(volume: Volume, file: File, path: str) -> bool:
    """Whether a file whose name the listing cut may be the one of this path."""
    return volume.folded(path).startswith(volume.folded(file.path))


def find_image(
    place: Place, member: Member, images: dict[Place, Image]
) -> tuple[Place, Image | None]:
    """The image at a place and the place as the volume spells it."""
    if place in images:
        return place, images[place]
    file = find_file(place, member)
    spelled = Place(place.volume, file.path) if file else place
    return spelled, images.get(spelled)


@lru_cache(maxsize=16_384)
def is_for_hardware(release: KnownRelease, hardware: Hardware) -> bool | None:
    """Whether a release is for this hardware; None where that is not known."""
    answers = [
        _any_fits(release.hardware, hardware.model),
        _any_fits(release.revisions, hardware.revision),
    ]
    if False in answers:
        return False
    return None if None in answers else True


def _any_fits(globs: tuple[str, ...] | None, name: str | None) -> bool | None:
    if globs is None:
        return True
    if name is None:
        return None
    return any(fnmatchcase(name, glob) for glob in globs)

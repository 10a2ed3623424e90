"""The images that are unpacked into packages, listed by one file."""

from collections.abc import Iterable

from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts.judged import Judge, JudgedMember
from ovek.engine.verdicts.lookup import CUT, cut_file, is_for_hardware
from ovek.engine.verdicts.worst import whole
from ovek.model.place import Place
from ovek.model.snapshot import FileSet, Hardware, Volume
from ovek.model.verdict import Image, Judgement, KnownRelease


def judge_set(volume: Volume, file_set: FileSet, images: dict[Place, Image], judge: Judge) -> Image:
    """The verdict of a set: that of its worst package; altered where one is missing."""
    there = {volume.folded(file.path): file for file in volume.files or ()}
    cut = [file for file in volume.files or () if file.path_cut]
    places, judgements, packages = [], [], list[Image]()
    for package in {volume.folded(each): each for each in file_set.packages}.values():
        file = there.get(volume.folded(package)) or cut_file(volume, package, cut)
        place = Place(volume.name, file.path if file else package)
        places.append(place)
        image = images.get(place)
        if file is not None and file.path_cut and sum(each.path == file.path for each in cut) > 1:
            judgements.append(Judgement(verdict="unverified", why=f"{package}: {CUT}"))
        elif file is None and volume.files is not None:
            why = f"its package {package} is missing"
            judgements.append(Judgement(verdict="altered", why=why))
        elif image is None:
            why = f"its package {package} is unknown"
            judgements.append(Judgement(verdict="unverified", why=why))
        elif file is not None and not file.path_cut and other_spelling(place.path, package, volume):
            judgements.append(Judgement(verdict="unverified", why=spelled_so(package, place.path)))
        else:
            judgements.append(image.judgement)
            packages.append(image)
    place = Place(volume.name, file_set.set_file)
    own = there.get(volume.folded(file_set.set_file)) or cut_file(volume, file_set.set_file, cut)
    if own is not None:
        place = Place(volume.name, own.path)
        image = images.get(place)
        release = image.judgement.release if image is not None else None
        if (
            image is not None
            and release is not None
            and (image.judgement.verdict != "matched" or release.trust != "own")
        ):
            judgements.append(image.judgement)
    if not file_set.packages:
        judgements.append(Judgement(verdict="altered", why="it lists no package"))
    named = judge.naming.of(place.path, case_blind=volume.case_blind)
    versions = versions_in_common(packages, judge.releases)
    suits, foreign = all_suit(packages)
    return Image(
        place=place,
        role="set-file",
        judgement=whole(judgements),
        file=own,
        version=versions.pop() if len(versions) == 1 else named.version,
        parts=tuple(places),
        suits=suits,
        foreign=foreign,
    )


def versions_in_common(images: Iterable[Image], releases: ReleaseIndex) -> set[str | None]:
    """The versions that all files of a whole may be of: several releases may share a file."""
    common: set[str | None] | None = None
    for image in images:
        release = image.judgement.release
        versions: set[str | None] = {image.version}
        if release is not None and image.judgement.verdict == "proven":
            versions |= {each.version for each in releases.family(release).members}
        common = versions if common is None else common & versions
    return common or set()


def other_spelling(path: str, named: str, volume: Volume | None) -> bool:
    """Whether a file is named in another case, where nobody knows if that is the same file."""
    return volume is not None and volume.filesystem is None and path != named.lstrip("/")


def spelled_so(named: str, path: str) -> str:
    """What to say where two spellings may be of one file."""
    return f"it is unknown whether {named} is {path}, because the file system is unknown"


def all_suit(images: Iterable[Image]) -> tuple[bool | None, KnownRelease | None]:
    """Whether all of a whole is for its member's hardware, and a release in it that is not."""
    images = list(images)
    strangers = [image.foreign for image in images if image.foreign is not None]
    if strangers:
        return False, min(strangers, key=lambda release: (release.file, release.publisher or ""))
    return (None if any(image.suits is None for image in images) else True), None


def suits_on(
    image: Image, member: JudgedMember, hardware: Hardware
) -> tuple[bool | None, KnownRelease | None]:
    """Whether an image that lies on a member is for other hardware than that member's.

    Returns the same as `Image.suits` and `Image.foreign` do for the member's own.
    """
    parts = [member.images[place] for place in image.parts if place in member.images]
    own = [] if parts else [image]
    known = [(each, each.judgement.release) for each in (*own, *parts)]
    return all_suit(
        replace(each, suits=suits, foreign=release if suits is False else None)
        for each, release in known
        for suits in [True if release is None else is_for_hardware(release, hardware)]
    )

"""The image that a file is, if it is one."""

from ovek.engine.verdicts.judged import Judge
from ovek.engine.verdicts.lookup import is_for_hardware
from ovek.model.catalog import ReleaseKind
from ovek.model.naming import Named
from ovek.model.place import Place
from ovek.model.sheet import Role
from ovek.model.snapshot import File, Hardware
from ovek.model.verdict import Image, Judgement


def file_image(
    place: Place,
    file: File,
    named: Named,
    judgement: Judgement,
    hardware: Hardware,
    judge: Judge,
) -> Image:
    """The image that a file is by what it was held against; None where it is none."""
    release = judgement.release
    suits = True if release is None else is_for_hardware(release, hardware)
    return Image(
        place=place,
        role="archive" if _is_archive(judgement, judge) else _image_role(named, judgement),
        judgement=judgement,
        file=file,
        version=(release and release.version) or named.version,
        suits=suits,
        foreign=release if suits is False else None,
    )


def _is_archive(judgement: Judgement, judge: Judge) -> bool:
    """Whether what is proven to be here contains images, and is none to this kind of device."""
    release = judgement.release
    if judgement.verdict != "proven" or release is None:
        return False
    known = judge.releases.family(release).members
    whole = any(each.contains and each.within is None for each in known)
    return whole and not any(judge.naming.of(one.file, case_blind=True).image for one in known)


def _image_role(named: Named, judgement: Judgement) -> Role:
    """The role of an image: by the release that proves it, else its name, else its release."""
    kind: ReleaseKind | None = judgement.release.kind if judgement.release else None
    if judgement.verdict == "proven" and kind is not None:
        return kind
    if named.role != "unknown":
        return named.role
    return kind or "system-image"

"""Files whose names a listing cut: which image each may be."""

from collections.abc import Iterable

from msgspec.structs import replace

from ovek.engine.verdicts.digests import judge_file
from ovek.engine.verdicts.file_image import file_image
from ovek.engine.verdicts.judged import Judge
from ovek.engine.verdicts.lookup import CUT
from ovek.engine.verdicts.worst import rank
from ovek.model.naming import Named
from ovek.model.place import Place
from ovek.model.snapshot import File, Hardware, Volume
from ovek.model.verdict import Image, Judgement


def begun(start: str, names: Iterable[str]) -> bool:
    """Whether any of these names begins so."""
    return any(name.startswith(start) for name in names)


def judge_cut(
    file: File,
    volume: Volume,
    hardware: Hardware,
    judge: Judge,
    images: dict[Place, Image],
    used_for: tuple[bool, bool],
) -> None:
    """Judge a file whose name the listing cut; `used_for` is whether a start or a part names it."""
    blind, name = volume.case_blind, file.path.rpartition("/")[2]
    named = judge.naming.of(file.path, case_blind=blind)
    releases = judge.releases
    known = releases.beginning(name, case_blind=blind)
    if named.role == "unknown" and used_for[0]:
        named = Named("system-image", True)
    elif named.role == "unknown" and used_for[1] and not known:
        named = Named("component-image", True)
    judgement = judge_file(
        f"a file that begins with {name}",
        file.size,
        file.digests,
        named.image or bool(known),
        known[:1] if len(known) == 1 else [],
        releases,
        file.size_step,
    )
    if judgement is None:
        return
    # Why unverified: several published names begin like this one, so the digest that was read may
    # belong to a release of which only another digest is known. "Unlisted" would be a false alarm.
    if judgement.verdict == "unlisted" and known:
        names = sorted({release.file for release in known})
        why = f"it may be any of {len(names)}: {', '.join(names[:3])}"
        why += ", …" if names[3:] else ""
        judgement = Judgement(verdict="unverified", why=why)
    judgement = judge.proof.accepted(judgement, file.digests, releases)
    judgement = replace(judgement, why=f"{judgement.why}; {CUT}")
    place = Place(volume.name, file.path)
    image, other = file_image(place, file, named, judgement, hardware, judge), images.get(place)
    if other is None or _cut_rank(image) < _cut_rank(other):
        images[place] = image


def _cut_rank(image: Image) -> tuple[object, ...]:
    """Of images whose names are cut alike, the worst counts, whichever the listing shows first."""
    file = image.file
    text = "" if file is None or file.digests_at is None else file.digests_at.isoformat()
    size = -1 if file is None or file.size is None else file.size
    return *rank(image.judgement), text, size

"""Rules on parts: what has firmware of its own, and the files it is loaded from."""

from collections.abc import Iterator

from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.verdicts import fits
from ovek.model.place import Place, parse_place
from ovek.model.snapshot import Volume
from ovek.model.verdict import KnownRelease


def _starting(member: MemberSubject) -> KnownRelease | None:
    """The release that starts next."""
    return None if member.starting is None else member.starting.judgement.release


def _needs(member: MemberSubject, release: KnownRelease | None) -> dict[str, str]:
    """The versions of parts that a release needs on the hardware of a member."""
    if release is None:
        return {}
    return release.needs_of(member.one.hardware.model).parts or {}


def _of_name(member: MemberSubject, name: str) -> list[tuple[str, str]]:
    """The parts of a name, as they are told apart by slot, with the version that each runs."""
    parts = member.one.member.parts or ()
    return [(one.shown, one.version) for one in parts if one.part == name and one.version]


@rule(
    "pointer-missing",
    "warning",
    "A part whose file is gone comes up without its firmware, or not at all.",
    "Copy the file there, or point the part at one that is there",
)
def pointer_missing(subject: Subject) -> Iterator[Said]:
    """A part is loaded from a file or folder that is not there."""
    for member in subject.members:
        for pointer in member.one.member.pointers or ():
            place = subject.judged.located(parse_place(pointer.place), member.id)
            owner = subject.judged.member(place.member or "")
            volume = owner.member.volume(place.volume) if owner is not None else None
            if volume is None or (volume.files is None and volume.state != "absent"):
                continue
            if volume.state == "absent" or not _is_there(place, volume):
                saw = f"the part {pointer.part} is loaded from it, and it is not there"
                yield Said(member=member.id, place=place, saw=saw)


def _is_there(place: Place, volume: Volume) -> bool:
    """Whether there is such a file, or anything in such a folder."""
    path = volume.folded(place.path).rstrip("/")
    return any(
        (name := volume.folded(file.path)) == path
        or name.startswith(path + "/")
        or (file.path_cut and path.startswith(name))
        for file in volume.files or ()
    )


@rule(
    "pointer-mismatch",
    "warning",
    "A part that is too old for the system image fails in ways that look like other faults.",
    "Copy the part image that goes with the system image, and point the part at it",
    goal="parts",
)
def pointer_mismatch(subject: Subject) -> Iterator[Said]:
    """A pointer's file is older than the next system image needs, or for other hardware.

    Where the part runs too old a version already, that is told, and the file with it.
    """
    for member in subject.members:
        release = _starting(member)
        needs = _needs(member, release)
        for pointer in member.one.member.pointers or ():
            place = subject.judged.located(parse_place(pointer.place), member.id)
            image = subject.judged.image(place)
            if image is None:
                continue
            own = image.judgement.release
            need = needs.get(pointer.part)
            if own is not None and fits(own, member.one.hardware) is False:
                saw = f"the part {pointer.part} is loaded from it; it is for other hardware"
                yield Said(member=member.id, place=place, saw=saw, whole=False)
            elif need is not None and subject.part_order(image.version, need) == -1:
                assert release is not None
                if _too_old(subject, member, release, pointer.part, need):
                    continue
                yield Said(
                    member=member.id,
                    place=place,
                    saw=f"the part {pointer.part} is loaded from it ({image.version}); "
                    f"{release.file}, which starts next, needs {need}",
                )


@rule(
    "part-too-old",
    "warning",
    "An image that needs newer part firmware may not start, or start without that part.",
    "Update the part first, then reload",
    goal="parts",
)
def part_too_old(subject: Subject) -> Iterator[Said]:
    """A part is older than the image that starts next needs, and the image does not carry it."""
    for member in subject.members:
        release = _starting(member)
        for part, need in _needs(member, release).items():
            assert release is not None
            for shown, version in _too_old(subject, member, release, part, need):
                changes = subject.order(member.starts, member.runs) != 0
                source, do = _source(subject, member, part, need)
                yield Said(
                    member=member.id,
                    place=None,
                    saw=f"{release.file} starts next and needs {shown} {need}; {version} runs"
                    + source,
                    do=do,
                    severity="critical" if changes else None,
                )


def _too_old(
    subject: Subject, member: MemberSubject, release: KnownRelease, part: str, need: str
) -> list[tuple[str, str]]:
    """The parts of a name that run less than a release needs and does not bring itself."""
    if subject.part_order(release.carries.get(part), need) in (0, 1):
        return []
    return [
        (shown, version)
        for shown, version in _of_name(member, part)
        if subject.part_order(version, need) == -1
    ]


def _source(
    subject: Subject, member: MemberSubject, part: str, need: str
) -> tuple[str, str | None]:
    """The file that a part is loaded from, where that is too old as well, and what to do then."""
    for pointer in member.one.member.pointers or ():
        place = subject.judged.located(parse_place(pointer.place), member.id)
        image = subject.judged.image(place) if pointer.part == part else None
        if image is not None and subject.part_order(image.version, need) == -1:
            told = f", and it is loaded from {pointer.place} ({image.version})"
            return told, f"Load {part} {need} first, then point the part at its file, then reload"
    return "", None


@rule(
    "part-updated-at-reload",
    "note",
    "A reload that updates firmware takes longer, and must not be cut off.",
    "Plan for a longer reload, and leave the power on until it is done",
)
def part_updated_at_reload(subject: Subject) -> Iterator[Said]:
    """The image that starts next, and does not run yet, carries newer firmware for a part."""
    for member in subject.members:
        release = _starting(member)
        if release is None or not release.carries:
            continue
        if subject.order(member.starts, member.runs) in (0, None):
            continue
        newer = [
            f"{shown} from {have} to {version}"
            for part, version in release.carries.items()
            for shown, have in _of_name(member, part)
            if subject.part_order(version, have) == 1
        ]
        if newer:
            saw = f"a reload into {release.file} also updates {', '.join(newer)}"
            yield Said(member=member.id, place=None, saw=saw)


@rule(
    "part-not-updated",
    "warning",
    "An image that brings firmware and did not load it leaves a part that it was not tested with.",
    "See why it was not loaded, and load the firmware of that part by hand",
    "part-too-old",
    goal="parts",
)
def part_not_updated(subject: Subject) -> Iterator[Said]:
    """The image that runs brings newer firmware for a part than the part has."""
    for member in subject.members if subject.up else ():
        release = member.running.judgement.release if member.running is not None else None
        if release is None or release is not _starting(member):
            continue  # the next start brings other firmware
        for part, brings in release.carries.items():
            for shown, version in _of_name(member, part):
                if subject.part_order(version, brings) == -1:
                    saw = (
                        f"{release.file} runs and brings {shown} {brings}; {version} is there still"
                    )
                    yield Said(member=member.id, place=None, saw=saw)

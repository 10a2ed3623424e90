"""What a bank holds, by the places that it lists, its own digests, or its version alone."""

from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts.digests import judge_file
from ovek.engine.verdicts.judged import Judge
from ovek.engine.verdicts.lookup import find_file, find_image, is_for_hardware, several_begin
from ovek.engine.verdicts.sets import all_suit, other_spelling, spelled_so, versions_in_common
from ovek.engine.verdicts.worst import whole
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Bank, Hardware, Member
from ovek.model.verdict import Image, Judgement, KnownRelease


def judge_bank(
    bank: Bank, member: Member, images: dict[Place, Image], hardware: Hardware, judge: Judge
) -> Image:
    """Judge what a bank holds (it is neither empty nor bad, as far as is known)."""
    if bank.places:
        image = _judge_places(bank, member, images, judge)
        return replace(image, judgement=_if_sound(bank, image.judgement))
    judgement, version, role = _judge_bank_itself(bank, hardware, judge), bank.version, None
    release = judgement.release
    proven = judgement.verdict == "proven"
    judgement = _if_sound(bank, judgement)
    if proven and release is not None:
        version, role = release.version or version, release.kind
    suits = True if release is None else is_for_hardware(release, hardware)
    return Image(
        place=Place(BANK, bank.name),
        role="system-image" if role in (None, "system-image") else "component-image",
        judgement=judgement,
        version=version,
        suits=suits,
        foreign=release if suits is False else None,
    )


def _if_sound(bank: Bank, judgement: Judgement) -> Judgement:
    """The judgement of a bank, which no digest proves while nobody knows its state."""
    if bank.state is not None or judgement.verdict != "proven":
        return judgement
    why = f"{judgement.why}, but the state of the bank is unknown"
    return Judgement(verdict="unverified", why=why, release=judgement.release)


def _judge_places(bank: Bank, member: Member, images: dict[Place, Image], judge: Judge) -> Image:
    """Judge a bank by the files, or the set, that it is made of."""
    start = judge.sheet.boot
    parts, judgements, found = list[Place](), list[Judgement](), list[Image]()
    for text, named in zip(bank.places or (), bank.files, strict=True):
        place, image = named, None
        if named.member in (None, member.id):
            place, image = find_image(named.on(None), member, images)
        parts.append(place)
        if why := several_begin(place, member):
            judgements.append(Judgement(verdict="unverified", why=why))
        elif image is not None:
            found.append(image)
            judgements.append(image.judgement)
            parts += image.parts
            cut = image.file is not None and image.file.path_cut
            if not cut and other_spelling(place.path, named.path, member.volume(place.volume)):
                why = spelled_so(named.path, place.path)
                judgements.append(Judgement(verdict="unverified", why=why))
        elif place.member is not None:
            why = f"its file {text} is on another member"
            judgements.append(Judgement(verdict="unverified", why=why))
        elif _may_be_there(place, member):
            why = f"it is unknown whether its file {text} exists"
            judgements.append(Judgement(verdict="unverified", why=why))
        elif (volume := member.volume(place.volume)) is not None and start.holds_nothing(volume):
            why = f"its file {text} is on a volume that the device cannot read"
            judgements.append(Judgement(verdict="unverified", why=why))
        elif find_file(place, member) is None:
            judgements.append(Judgement(verdict="altered", why=f"its file {text} is missing"))
        else:
            why = f"its file {text} is not a known image"
            judgements.append(Judgement(verdict="unlisted", why=why))
    begun = tuple(each.place.name for each in found if each.file and each.file.path_cut)
    names = {place.name for place in parts}
    if why := _not_one_release(found, names, begun, judge.releases):
        judgements.append(Judgement(verdict="altered", why=why))
    elif why := _lacks_by_version(bank, names, begun, judge, member):
        judgements.append(Judgement(verdict="unverified", why=why))
    versions = versions_in_common(
        (image for image in found if image.role != "component-image"), judge.releases
    )
    suits, foreign = all_suit(found)
    firmware = bool(found) and all(image.role == "component-image" for image in found)
    return Image(
        place=Place(BANK, bank.name),
        role="component-image" if firmware else "system-image",
        judgement=whole(judgements),
        version=bank.version or (versions.pop() if len(versions) == 1 else None),
        parts=tuple(parts),
        suits=suits,
        foreign=foreign,
    )


def _may_be_there(place: Place, member: Member) -> bool:
    """Whether nobody knows which files lie where a place is."""
    volume = member.volume(place.volume)
    return member.volumes is None or (volume is not None and volume.files is None)


def _not_one_release(
    images: list[Image], names: set[str], begun: tuple[str, ...], releases: ReleaseIndex
) -> str:
    """What keeps the files of a bank from being one whole release; empty where nothing does.

    `names` are those of all its files, `begun` those of them that the listing cut. A file that
    several releases contain may be of any of them.
    """
    ours = [
        (image, releases.family(release).members)
        for image in images
        if image.role != "component-image"
        and image.judgement.verdict == "proven"
        and (release := image.judgement.release) is not None
    ]
    if not ours:
        return ""
    wholes = [{(one.within or one.file, one.version) for one in known} for _, known in ours]
    common = set.intersection(*wholes)
    inside = any(one.within for _, known in ours for one in known)
    versions = set.intersection(*({version for _, version in each} for each in wholes))
    if not versions or (inside and not common):
        return _mixes(ours)
    lacking = {
        whole: lacks
        for _, known in ours
        for one in known
        if (whole := one.within) is not None and (whole, one.version) in common
        for lacks in [_lacks(one, names | {each.file for _, all_ in ours for each in all_}, begun)]
    }
    if not lacking or not all(lacking.values()):
        return ""
    whole = min(lacking, key=lambda each: (len(lacking[each]), each))
    return f"it lacks {', '.join(lacking[whole])} of {whole}"


def _lacks(release: KnownRelease, names: set[str], begun: tuple[str, ...]) -> list[str]:
    """The files that a release contains and that are not there, by their names."""
    return sorted(
        name
        for name in {each.name for each in release.contains} - names
        if not (begun and name.startswith(begun))
    )


def _mixes(ours: list[tuple[Image, tuple[KnownRelease, ...]]]) -> str:
    """Which releases the files of a bank are of, where they are of several."""
    versions: dict[str, str] = {}
    for image, _ in ours:
        if image.version is not None:
            name = image.place.name
            versions[image.version] = min(versions.get(image.version, name), name)
    mixed = sorted(f"{name} is of {version}" for version, name in versions.items())
    if len(versions) < 2:
        mixed = sorted({one.within or one.file for _, known in ours for one in known[:1]})
    return f"it mixes {len(mixed)} releases: {', '.join(mixed)}"


def _lacks_by_version(
    bank: Bank, names: set[str], begun: tuple[str, ...], judge: Judge, member: Member
) -> str:
    """What a bank lacks of what the release of its version contains, or another bank of it has.

    Where no digest tells, that proves nothing, and it is no whole image either.
    """
    if bank.version is None or begun:
        return ""
    known = [one for one in judge.releases.by_version.get(bank.version, ()) if one.contains]
    lacking = [_lacks(one, names, begun) for one in known]
    # Only a release of which some file is here by its name can say what is missing.
    near: list[list[str]] = [
        lacks for one, lacks in zip(known, lacking, strict=True) if len(lacks) < len(one.contains)
    ]
    if near and all(near):
        lacks = min(near, key=lambda names: len(names))
        return f"it lacks {', '.join(lacks)}, which its version {bank.version} contains"
    for other in member.banks or ():
        if other.version == bank.version and len(other.places or ()) > len(bank.places or ()):
            return (
                f"it has {len(bank.places or ())} of the {len(other.places or ())} files that bank "
                f"{other.name} of the same version has"
            )
    return ""


def _judge_bank_itself(bank: Bank, hardware: Hardware, judge: Judge) -> Judgement:
    known = [
        release
        for release in judge.releases.by_version.get(bank.version or "", ())
        if release.kind in (None, "system-image")
        and (bank.variant is None or release.variant in (None, bank.variant))
        and is_for_hardware(release, hardware) is not False
    ]
    if bank.digests is None or not any(True for _ in bank.digests):
        why = (
            "only the version number is known, which proves nothing"
            if bank.version
            else "its contents are unknown"
        )
        release = known[0] if len(known) == 1 else None
        return Judgement(verdict="unverified", why=why, release=release)
    named = f"version {bank.version}" if bank.version else "its contents"
    judgement = judge_file(named, None, bank.digests, True, known, judge.releases)
    assert judgement is not None, "a bank looks like an image"
    return judge.proof.accepted(judgement, bank.digests, judge.releases)

"""The digests that a device can be asked for, and those that were not read yet."""

from collections.abc import Iterator

from ovek.engine.plan.situation import Situation
from ovek.engine.verdicts import JudgedMember
from ovek.model.change import Change, CheckDigest
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.verdict import Image, KnownRelease


def readable(now: Situation, image: Image) -> Digests | None:
    """The published digests that the device can be asked for, of an image that was not read."""
    release = image.judgement.release
    if release is None and image.place.is_bank and image.version is not None:
        known = now.judged.judge.releases.by_version.get(image.version, ())
        images = [each for each in known if each.kind in (None, "system-image")]
        release = images[0] if len(images) == 1 else None
    return None if release is None else digests_of(now, release)


def digests_of(now: Situation, release: KnownRelease) -> Digests | None:
    """The digests of a release on which its sources agree and for which the device can be asked."""
    reading = now.judged.judge.sheet.reading
    asked = {*reading.digests, *reading.digest_program}
    known = {
        name: min(values)
        for name, values in release.digests.items()
        if name not in release.disputed and (not asked or name in asked)
    }
    return Digests(**known) if known else None


def checks_of(now: Situation, member: JudgedMember, image: Image, place: Place) -> Iterator[Change]:
    """The digests to read of an image, or of what it is made of."""
    for part in image.parts or (place.on(None),):
        held = now.judged.image(part.on(part.member or place.member))
        digests = readable(now, held) if held is not None else None
        if held is not None and held.judgement.verdict == "unverified" and digests is not None:
            yield CheckDigest(place=part.on(part.member or place.member), digests=digests)

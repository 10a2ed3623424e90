"""Where is it? Every copy of an image, by name, glob, version or digest, on flash and shelf.

1. A name or glob means files of that name, and whatever is proven to be the release of that name,
   whatever it is called.
2. A version means images of that version, and members that run it, also from memory only.
3. A digest, or the beginning of one from 6 characters, means whatever has it, image or not.
4. An advisory means what it says is affected: by its bytes, by the release that an image is proven
   or named to be, or, where neither is known, by the version that runs.
"""

import re
from collections.abc import Iterable, Iterator
from datetime import datetime
from fnmatch import fnmatchcase

from msgspec import Struct

from ovek.engine.runs import Runs, runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.advisory import AffectedImages
from ovek.model.digest import STRONGEST_FIRST, Algorithm, Digests
from ovek.model.ofdevice import of_device
from ovek.model.place import Place
from ovek.model.shelf import ShelfVerdict
from ovek.model.snapshot import File
from ovek.model.verdict import Image, Verdict
from ovek.model.walk import DeviceWalk
from ovek.model.where import Holding

_DIGEST = re.compile(r"[0-9a-f]{6,128}")


class Sought(Struct, frozen=True):
    """What is looked for, as it was typed; or what an advisory, whose id that is, says of."""

    text: str
    affected: AffectedImages | None = None

    @property
    def algorithms(self) -> tuple[Algorithm, ...]:
        """The algorithms that a shelf has to be digested by, to find it."""
        if self.affected is not None:
            return STRONGEST_FIRST
        plain = re.sub(r"[\s:]", "", self.text.casefold())
        return STRONGEST_FIRST if _DIGEST.fullmatch(plain) else ()

    @property
    def verdicts(self) -> tuple[Verdict, ...]:
        """The verdicts of images that are taken for the release that they are compared with."""
        sure: tuple[Verdict, ...] = ("proven", "matched")
        return sure if self.affected is None else (*sure, "unverified")

    def is_version(self, version: str, model: str | None = None) -> bool:
        """Whether just this version is meant, on hardware of a model."""
        if self.affected is not None:
            return self.affected.runs(version, model)
        return version.casefold() == self.text.strip().casefold()

    def means(
        self,
        name: str,
        digests: Digests | None,
        version: str | None,
        releases: Iterable[str] = (),
    ) -> bool:
        """Whether a copy is meant; `releases` are the names under which its bytes are known.

        >>> Sought("7.4.2").means("a.img", None, "7.4.2")
        True
        >>> Sought("A*.img").means("a.img", None, None)
        True
        """
        if self.affected is not None:
            return self.affected.has(digests, releases)
        wanted = self.text.strip().casefold()
        names = [each.casefold() for each in (name, *releases)]
        if any(each == wanted or fnmatchcase(each, wanted) for each in names):
            return True
        if version is not None and self.is_version(version):
            return True
        plain = re.sub(r"[\s:]", "", wanted)
        known = [digest for _, digest in digests or ()]
        return bool(_DIGEST.fullmatch(plain)) and any(each.startswith(plain) for each in known)


def on_device(judged: JudgedDevice, walk: DeviceWalk, sought: Sought) -> Iterator[Holding]:
    """Go through the copies on one device."""
    members = {each.member: each for each in runs_of(judged)}
    running = {place: each.sure for each in members.values() for place in each.places}
    boots = {member.boots.at for member in walk.members if member.boots is not None}
    unknown = any(member.outcome == "unknown" for member in walk.members)
    several = len(judged.members or ()) > 1
    for one in judged.members or ():
        own, there = members[one.member.id], False
        for place, image, file in _copies(judged, one):
            digests = file.digests if file is not None else _of_bank(one, place)
            release = image.judgement.release if image is not None else None
            known = image is not None and image.judgement.verdict in sought.verdicts
            whole_place = place.on(one.member.id)
            version = image.version if image is not None else None
            if version is None and own.sure and whole_place in own.places:
                version = own.version
            known_as = _names(judged, image) if known else ()
            if not sought.means(place.name, digests, version, known_as):
                continue
            there = there or whole_place in running
            yield Holding(
                **of_device(judged.device),
                place=str(place.on(one.member.id if several else None)),
                version=version,
                release=release.file if release is not None else None,
                verdict=image.judgement.verdict if image is not None else None,
                size=file.size if file is not None else None,
                digests=digests or Digests(),
                running=(True if running[whole_place] else None)
                if whole_place in running
                else False,
                boots=True if whole_place in boots else None if unknown else False,
                known_at=(file.digests_at if file is not None else None) or judged.device.taken_at,
            )
        model = (one.member.hardware or judged.device.hardware).model
        if not there and own.version is not None and sought.is_version(own.version, model):
            yield _in_memory(judged, own, several=several)


def _names(judged: JudgedDevice, image: Image | None) -> tuple[str, ...]:
    """Every name under which the bytes of an image are known."""
    release = image.judgement.release if image is not None else None
    if release is None:
        return ()
    return tuple(each.file for each in judged.judge.releases.family(release).members)


def _in_memory(judged: JudgedDevice, own: Runs, *, several: bool) -> Holding:
    """What a member runs of which no copy is where it was started from."""
    place = own.gone or own.place
    front = f"member {own.member} " if several else ""
    gone = "" if place is None else f", not at {place.on(own.member if several else None)}"
    return Holding(
        **of_device(judged.device),
        place=f"{front}in memory{gone}",
        version=own.version,
        release=None,
        verdict=None,
        size=None,
        digests=Digests(),
        running=True,
        boots=False,
        known_at=judged.device.taken_at,
    )


def _copies(
    judged: JudgedDevice, member: JudgedMember
) -> Iterator[tuple[Place, Image | None, File | None]]:
    """Every file and bank of a member, with the image that it is; sets by their set file."""
    for volume in member.member.volumes or ():
        for file in volume.files or ():
            place = Place(volume.name, file.path)
            yield place, member.sets.get(place) or member.images.get(place), file
    for image in member.banks.values():
        yield image.place, image, None


def _of_bank(member: JudgedMember, place: Place) -> Digests | None:
    bank = member.member.bank(place.path)
    return bank.digests if bank is not None else None


def on_shelf(
    folder: str, verdicts: Iterable[ShelfVerdict], sought: Sought, seen_at: datetime | None = None
) -> Iterator[Holding]:
    """Go through the copies on a shelf; `seen_at` is when it was read, where that was before."""
    for one in verdicts:
        if one.problem is not None:
            continue
        name = one.path.rpartition("!")[2].rpartition("/")[2]
        known = one.verdict in sought.verdicts and one.release is not None
        known_as = (one.release,) if known and one.release is not None else ()
        if sought.means(name, one.digests, one.version, known_as):
            yield Holding(
                device=None,
                place=f"{folder}/{one.path}",
                version=one.version,
                release=one.release,
                verdict=one.verdict,
                size=one.size,
                digests=one.digests,
                known_at=seen_at,
            )

"""What runs on each member, and how surely: the one place that knows.

1. The version is the member's own `running_version`, else the device's; where neither tells, it is
   that of the release whose bytes lie where the member was started from. The variant is that of
   those bytes, else as the device tells it, else as the file's name does.
2. The device's `running.place` or `running.bank` is where a member was started from, unless the
   member runs another version. A place with a member in front is that member's. One without is the
   active member's, or the only member's: of the others it says nothing but where the image may be.
3. Where that place holds another version than what runs, what runs is not there any more (`gone`):
   every image of its version may be the last copy.
4. Where no place is told for a member, it may run any of its own images of its version: that is
   sure only where there is one, and it is a bank.
5. A device that was read at its boot loader runs nothing, whatever it tells.
6. Where the sheet asks for a fact that would tell and the device did not answer, the member may run
   any of its images.
"""

from collections.abc import Iterable, Iterator

from msgspec import Struct

from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.naming import Naming
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Device
from ovek.model.verdict import Image
from ovek.model.version import LONGEST, compare, running

ACTIVE = "active"


class Runs(Struct, frozen=True, kw_only=True):
    """What one member runs.

    `places` are the files and banks that it was started from, or may have been where that is not
    `sure`; all with the member in front, spelled as their volumes do. `image` is the one that runs,
    where it is sure and there. `own` is whether it runs another version than the device tells.
    `gone` is where it was started from, where another version lies there by now; `holds` is that.
    """

    member: str
    version: str | None
    variant: str | None
    places: tuple[Place, ...]
    sure: bool
    image: Image | None = None
    own: bool = False
    gone: Place | None = None
    holds: Image | None = None

    @property
    def bank(self) -> str | None:
        """The bank of this member that runs, where that is sure."""
        for place in self.places if self.sure else ():
            if place.is_bank and place.member == self.member:
                return place.path
        return None

    @property
    def place(self) -> Place | None:
        """The file that runs, where that is sure."""
        files = (place for place in self.places if not place.is_bank)
        return next(files, None) if self.sure else None


def runs_of(judged: JudgedDevice) -> tuple[Runs, ...]:
    """What each member of a device runs, in their order."""
    return tuple(run_by(judged, one) for one in judged.members or ())


def runs_after(
    before: JudgedDevice, running: tuple[Runs, ...], after: JudgedDevice
) -> tuple[Runs, ...]:
    """What each member runs once a device was edited; `running` is what each ran before.

    A member that stayed the same value runs what it did, unless what the device tells of itself is
    another, or is told of a place on some other member.
    """
    told, at = after.device.running, after.device.running.at
    known = {
        one.member.id: (one, runs) for one, runs in zip(before.members or (), running, strict=True)
    }
    same = (
        told is before.device.running
        and after.device.at == before.device.at
        and (at is None or at.member is None)
        and len(known) == len(after.members or ())
    )
    if not same:
        return runs_of(after)
    nothing = (None, None)
    result = list[Runs]()
    for member in after.members or ():
        was, runs = known.get(member.member.id, nothing)
        result.append(runs if runs is not None and was is member else run_by(after, member))
    return tuple(result)


def version_of(judged: JudgedDevice, member: JudgedMember) -> str | None:
    """The version that a member runs."""
    version = _version_told(judged, member)
    if version is not None or judged.device.at == "boot-loader":
        return version
    return run_by(judged, member).version


def variant_of(device: Device, naming: Naming) -> str | None:
    """The variant that runs as the device tells it, else as the name of its file does."""
    running = device.running
    if device.at == "boot-loader":
        return None
    if running.variant is not None or running.at is None:
        return running.variant
    return naming.of(running.at.path, case_blind=False).variant


def known_version(text: str | None) -> str | None:
    """A version as a device tells it; None for what is too long to be one.

    >>> known_version("7.4.1"), known_version("1" * 5000)
    ('7.4.1', None)
    """
    return text if text is not None and len(text) <= LONGEST else None


def _version_told(judged: JudgedDevice, member: JudgedMember) -> str | None:
    """The version that a member is told to run: its own, else the device's."""
    if judged.device.at == "boot-loader":
        return None
    own = known_version(member.member.running_version)
    return own if own is not None else known_version(judged.device.running.version)


def run_by(judged: JudgedDevice, one: JudgedMember) -> Runs:
    """What one member of a device runs."""
    member = one.member.id
    if judged.device.at == "boot-loader":
        return Runs(member=member, version=None, variant=None, places=(), sure=True)
    own = known_version(one.member.running_version)
    whole = known_version(judged.device.running.version)
    version = _version_told(judged, one)
    differs: bool | None = None
    if own is not None and whole is not None:
        differs = own != whole
    elif own is None and not asks_each(judged):
        differs = False  # nobody asked this member: it is as the device
    booted_from = () if differs else tuple(_told(judged, one))
    sure = bool(booted_from) and differs is False and _is_of(judged, one, booted_from)
    gone = next((each for each in booted_from if sure and _other(judged, each, version)), None)
    if gone is not None:
        return Runs(
            member=member, version=version, variant=_variant(judged, None), sure=False, gone=gone,
            places=tuple(_of_version(judged, one, version)), holds=judged.image(gone),
        )  # fmt: skip
    image = judged.image(booted_from[0]) if sure else None
    guessed = version is None and image is not None
    if image is not None and guessed:
        fits = image.suits is not False  # an image for other hardware is not what runs here
        if fits and image.judgement.verdict == "proven":
            version = image.version
        sure = fits and "running.version" not in judged.judge.asks  # it may be written over
    places = booted_from
    if not sure:
        of = None if guessed else version
        places = tuple(dict.fromkeys([*booted_from, *_of_version(judged, one, of)]))
        sure = len(places) == 1 and places[0].is_bank and (bool(differs) or _is_elsewhere(judged))
        image = judged.image(places[0]) if sure else None
    return Runs(
        member=member,
        version=version,
        variant=_variant(judged, image) if sure else _variant_of(judged, places, own=bool(differs)),
        places=places,
        sure=sure,
        image=image,
        own=bool(differs),
    )


def _is_elsewhere(judged: JudgedDevice) -> bool:
    """Whether it is told where some member was started from."""
    running = judged.device.running
    return running.place is not None or running.bank is not None


def _is_of(judged: JudgedDevice, member: JudgedMember, places: tuple[Place, ...]) -> bool:
    """Whether what the device was started from is what this member was."""
    members = judged.members or ()
    if any(place.member != member.member.id for place in places):
        return False
    running = judged.device.running
    if running.at is not None and running.at.member is not None:
        return True
    return len(members) < 2 or member.member.role == ACTIVE


def _other(judged: JudgedDevice, place: Place, version: str | None) -> bool:
    """Whether another version than what runs surely lies at a place."""
    image = judged.image(place)
    if image is None or version is None or image.version is None:
        return False
    if not place.is_bank and image.judgement.verdict != "proven":
        return False  # a name alone does not tell what is in a file
    order = compare(image.version, version, judged.judge.sheet.versions.pattern)
    return order not in (0, None) and not _may_be_one(image.version, version)


def _may_be_one(version: str, other: str) -> bool:
    """Whether one version may be another with its build told, too: `7.4.2` and `7.4.2.88`."""
    return all(
        ours == theirs
        for ours, theirs in zip(running(version) or (), running(other) or (), strict=False)
    )


def _variant(judged: JudgedDevice, image: Image | None) -> str | None:
    """The variant that runs: that of the bytes, else as the device and the file's name tell."""
    release = image.judgement.release if image is not None else None
    proven = image is not None and image.judgement.verdict == "proven"
    if release is not None and proven and release.variant is not None:
        return release.variant
    return variant_of(judged.device, judged.judge.naming)


def _variant_of(judged: JudgedDevice, places: Iterable[Place], *, own: bool) -> str | None:
    """The variant of all that may run, where it is one; else as the device tells of itself."""
    images = [judged.image(place) for place in places]
    proven = [
        image.judgement.release
        for image in images
        if image is not None and image.judgement.verdict == "proven"
    ]
    variants = {release.variant if release is not None else None for release in proven}
    if len(variants) == 1 and len(proven) == len(images):
        return variants.pop()
    return None if own else variant_of(judged.device, judged.judge.naming)


def _told(judged: JudgedDevice, member: JudgedMember) -> Iterator[Place]:
    """Where the device says that it was started from, as this member reads it."""
    running, own = judged.device.running, member.member.id
    if running.bank is not None:
        yield Place(BANK, running.bank, own)
    if running.at is not None:
        yield judged.located(running.at, own)


def _of_version(judged: JudgedDevice, member: JudgedMember, version: str | None) -> Iterator[Place]:
    """The images of a member that may be what runs, where no place is told for it."""
    every = version is None or _asked_in_vain(judged, member)
    for image in (*member.images.values(), *member.sets.values(), *member.banks.values()):
        if image.starts_members and (every or image.version in (None, version)):
            yield image.place.on(member.member.id)


def _asked_in_vain(judged: JudgedDevice, member: JudgedMember) -> bool:
    """Whether the sheet asks what was started from, or what a member runs, and nobody knows."""
    asks, running = judged.judge.asks, judged.device.running
    if running.place is None and running.bank is None:
        return "running.place" in asks or "running.bank" in asks
    return member.member.running_version is None and asks_each(judged)


def asks_each(judged: JudgedDevice) -> bool:
    """Whether each of several members is asked what it runs."""
    return len(judged.members or ()) > 1 and "member.running_version" in judged.judge.asks

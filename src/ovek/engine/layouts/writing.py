"""Where an image may be written: what a layout needs to know for it, and what it answers."""

from msgspec import Struct

from ovek.engine.runs import Runs
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.place import BANK, Place
from ovek.model.policy import BankRule
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Bank, Member, Volume
from ovek.model.verdict import Image, KnownRelease
from ovek.model.walk import DeviceWalk, MemberWalk


class Writing(Struct, frozen=True, kw_only=True):
    """What a layout has to know to tell where an image may be written.

    `kept` are the files, member in front, that something other than a bank holds: what is kept by
    a person or policy, pointed to, or configuration. `shelf` are the digests that the shelf proves.
    `removable` is whether images may go onto a volume that can be pulled.
    """

    judged: JudgedDevice
    one: JudgedMember
    walk: DeviceWalk
    running: tuple[Runs, ...]
    release: KnownRelease
    bank_rule: BankRule | None = None
    kept: frozenset[Place] = frozenset()
    shelf: frozenset[str] = frozenset()
    removable: bool = False

    @property
    def member_walk(self) -> MemberWalk:
        """The walk of the member that is written to."""
        return self.walk.member(self.one.member.id)

    @property
    def own(self) -> Runs:
        """What the member that is written to runs."""
        return next(each for each in self.running if each.member == self.one.member.id)

    def holds(self, image: Image | None) -> bool:
        """Whether an image is the release, proven."""
        if image is None or image.judgement.verdict != "proven":
            return False
        return self.release.same_bytes(image.judgement.release) and image.starts_members

    def busy(self) -> frozenset[Place]:
        """Every file and bank, member in front, that some member runs or starts next."""
        places = {place for running in self.running for place in running.places}
        places |= {each.boots.at for each in self.walk.members if each.boots and each.boots.at}
        return self.with_parts(places)

    def with_parts(self, places: set[Place]) -> frozenset[Place]:
        """Places, and the files that they are made of."""
        found = set(places)
        for place in places:
            image = self.judged.image(place)
            for part in image.parts if image is not None else ():
                found.add(part if part.member is not None else part.on(place.member))
        return frozenset(found)


class Spot(Struct, frozen=True, kw_only=True):
    """One place where an image may be written: a path on a volume, or a bank, or a bank of files.

    `place` is the file, with the member in front; None in a bank that holds its image itself.
    `there` is whether it holds the image already, so that it needs only pointing. `replaces` are
    the files that it is made of now, which go first.
    """

    place: Place | None
    bank: str | None = None
    why: str = ""
    there: bool = False
    replaces: tuple[Place, ...] = ()


class Unwritable(Struct, frozen=True):
    """Why an image may be written nowhere."""

    why: str


def image_volume(sheet: Sheet, member: Member) -> Volume | None:
    """The volume that images are copied to: the sheet's default volume, else the first that stays.

    Where all can be pulled it is the first: whether images go there, policy says.
    """
    name = sheet.boot.default_volume
    if name is not None:
        return member.volume(name)
    volumes = member.volumes or ()
    return next((each for each in volumes if not each.removable), volumes[0] if volumes else None)


def not_known(writing: Writing, thing: str) -> str:
    """Which missing fact keeps anything from being written; empty where none does."""
    walk, running = writing.member_walk, writing.own
    if walk.outcome == "unknown":
        return f"the next boot is unknown ({walk.note}), so none may be written to"
    if not running.places or not (running.sure or running.own):
        return f"the running {thing} is unknown, so none may be written to"
    return ""


def files_of(writing: Writing, bank: Bank) -> frozenset[Place]:
    """The bank and every file that it is made of, with the member in front."""
    member = writing.one.member.id
    places = {writing.judged.located(place, member) for place in bank.files}
    return writing.with_parts({Place(BANK, bank.name, member), *places})


def bank_spot(writing: Writing, bank: Bank, why: str) -> Spot:
    """The place in a bank where an image goes, and the files that go first."""
    member = writing.one.member
    if not any(each.places is not None for each in member.banks or ()):
        return Spot(place=None, bank=bank.name, why=why)
    files = sorted(place for place in files_of(writing, bank) if not place.is_bank)
    volume = image_volume(writing.judged.judge.sheet, member)
    name = files[0].volume if files else volume.name if volume is not None else "flash"
    front, slash, _ = files[0].path.rpartition("/") if files else (bank.name, "/", "")
    return Spot(
        place=Place(name, f"{front}{slash}{writing.release.file}", member.id),
        bank=bank.name,
        why=why,
        replaces=tuple(place for place in files if place not in writing.kept),
    )


def shared(writing: Writing, bank: Bank) -> frozenset[Place]:
    """The files of a bank that another bank of the member is made of, too."""
    ours = files_of(writing, bank)
    others = (files_of(writing, each) for each in writing.one.member.banks or () if each != bank)
    return ours & frozenset[Place]().union(*others)


def elsewhere(writing: Writing, image: Image) -> bool:
    """Whether what a bank holds is on the shelf, or proven in another bank or on a volume."""
    release = image.judgement.release
    if image.judgement.verdict != "proven" or release is None:
        return False
    known = {digest for values in release.digests.values() for digest in values}
    if known & writing.shelf:
        return True
    one = writing.one
    return any(
        other is not image
        and other.judgement.verdict == "proven"
        and release.same_bytes(other.judgement.release)
        and other.place not in image.parts
        for other in (*one.banks.values(), *one.images.values())
    )

"""One device judged: what its images are held against, and the verdict of each."""

from msgspec import Struct

from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts.lookup import find_file
from ovek.engine.verdicts.proof import ANY_DIGEST, ProofRule
from ovek.model.naming import Naming
from ovek.model.place import BANK, Place
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device, Hardware, Member
from ovek.model.verdict import Image


class Judge(Struct, frozen=True, kw_only=True):
    """What images are held against: the sheet, its naming, and all known releases.

    `proof` is what policy takes for a proof; `asks` the facts that the sheet asks for, and the
    question of each.
    """

    sheet: Sheet
    naming: Naming
    releases: ReleaseIndex
    proof: ProofRule = ProofRule()
    asks: dict[str, str] = {}


class NamedOn(Struct, frozen=True):
    """The places on one member that some member's boot settings name, and that components load."""

    started: frozenset[Place]
    loaded: frozenset[Place]


class JudgedMember(Struct, frozen=True, kw_only=True):
    """One member with the verdicts of its images.

    `images` are the files that are images, by place without member; `sets` by the place of the
    set file, `banks` by name. `named` are the places on it that settings of any member name,
    `cut` is whether a listing cut the name of any file on it.
    """

    member: Member
    hardware: Hardware
    images: dict[Place, Image]
    sets: dict[Place, Image]
    banks: dict[str, Image]
    named: NamedOn
    cut: bool = False


class JudgedDevice(Struct, frozen=True, kw_only=True):
    """One device with the verdicts of its images; `members` None: not known."""

    device: Device
    judge: Judge
    members: tuple[JudgedMember, ...] | None

    def member(self, name: str) -> JudgedMember | None:
        """The member of this id."""
        for one in self.members or ():
            if one.member.id == name:
                return one
        return None

    def located(self, place: Place, own: str) -> Place:
        """A place as member `own` names it: with the member in front, spelled as its volume does.

        What is on no member that is known, or not there, stays as it is named.
        """
        owner = place.member if place.member is not None else own
        one = None if place.volume == BANK else self.member(owner)
        if one is None:
            return place.on(owner)
        bare = place.on(None)
        if bare in one.images:  # asked for every entry of a fleet: most are spelled as they are
            return bare.on(owner)
        file = find_file(bare, one.member)
        return Place(place.volume, place.path if file is None else file.path, owner)

    def image(self, place: Place) -> Image | None:
        """The bank, set or file at a place that has its member in front, as `located` gives it."""
        one = self.member(place.member or "")
        if one is None:
            return None
        if place.is_bank:
            return one.banks.get(place.path)
        bare = place.on(None)
        return one.sets.get(bare) or one.images.get(bare)


def judge_for(sheet: Sheet, releases: ReleaseIndex, proof: ProofRule = ANY_DIGEST) -> Judge:
    """Make ready to judge devices of one kind; keep the result, since it remembers names."""
    return Judge(
        sheet=sheet, naming=Naming(sheet), releases=releases, proof=proof, asks=sheet.asks()
    )

"""A device judged; one that was edited, only where the edit touched it."""

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.verdicts.banks import judge_bank
from ovek.engine.verdicts.files import judge_files
from ovek.engine.verdicts.judged import Judge, JudgedDevice, JudgedMember, NamedOn
from ovek.engine.verdicts.lookup import is_empty, started_places
from ovek.engine.verdicts.sets import judge_set
from ovek.model.place import Place
from ovek.model.snapshot import Device, File, Member, Volume
from ovek.model.verdict import Image


def rejudge(judged: JudgedDevice, device: Device) -> JudgedDevice:
    """Judge a device that was edited; members that stayed as they were keep their verdicts."""
    members = None
    if device.members is not None:
        members = tuple(_again(judged, device, member) for member in device.members)
    return JudgedDevice(device=device, judge=judged.judge, members=members)


def _again(judged: JudgedDevice, device: Device, member: Member) -> JudgedMember:
    """The verdicts of a member, those that it had where nothing that they rest on was edited."""
    known = judged.member(member.id)
    if known is None or known.hardware != device.hardware_of(member):
        return _judge_member(member, device, judged.judge)
    was = known.member
    files = was.volumes is member.volumes and was.banks is member.banks
    if files and known.named == _named_on(device, member):
        return known if was is member else replace(known, member=member)
    return _judge_member(member, device, judged.judge, known)


def judge_device(device: Device, judge: Judge) -> JudgedDevice:
    """Give every image of a device its verdict."""
    members = None
    if device.members is not None:
        members = tuple(_judge_member(member, device, judge) for member in device.members)
    return JudgedDevice(device=device, judge=judge, members=members)


def _judge_member(
    member: Member, device: Device, judge: Judge, known: JudgedMember | None = None
) -> JudgedMember:
    """Judge a member; `known` is what was judged of it before an edit."""
    hardware = device.hardware_of(member)
    named = _named_on(device, member)
    images: dict[Place, Image] = {}
    sets: dict[Place, Image] = {}
    for volume in member.volumes or ():
        if judge.sheet.boot.holds_nothing(volume):
            continue
        kept = None if known is None else _kept(volume, known, named)
        if kept is None:
            judge_files(volume, hardware, judge, images, named)
        else:
            edited = tuple(file for file in volume.files or () if not kept.has(file))
            fresh: dict[Place, Image] = {}
            judge_files(replace(volume, files=edited), hardware, judge, fresh, named)
            for file in volume.files or ():
                place = Place(volume.name, file.path)
                found = kept.images.get(place) if kept.has(file) else fresh.get(place)
                if found is not None:
                    images[place] = found
        for file_set in volume.sets or ():
            image = judge_set(volume, file_set, images, judge)
            sets[image.place] = image
    banks = {
        bank.name: judge_bank(bank, member, {**images, **sets}, hardware, judge)
        for bank in member.banks or ()
        if not is_empty(bank) and bank.state != "bad"
    }
    return JudgedMember(
        member=member, hardware=hardware, images=images, sets=sets, banks=banks, named=named
    )


def _named_on(device: Device, member: Member) -> NamedOn:
    """What is named on a member, by whichever member."""
    started, loaded = set[Place](), set[Place]()
    for other in device.members or ():
        own = other is member
        for place in started_places(other):
            if (own and place.member is None) or place.member == member.id:
                started.add(place.on(None))
        for component in other.components or ():
            at = component.place
            if at is not None and ((own and at.member is None) or at.member == member.id):
                loaded.add(at.on(None))
    return NamedOn(frozenset(started), frozenset(loaded))


class _KeptVerdict(Struct):
    """The files of a volume that an edit left as they were, by path, and the images of them."""

    files: dict[str, File]
    images: dict[Place, Image]

    def has(self, file: File) -> bool:
        """Whether a file is one of them, itself."""
        return self.files.get(file.path) is file


def _kept(volume: Volume, known: JudgedMember, named: NamedOn) -> _KeptVerdict | None:
    """What is known of the files of a volume that an edit left as they were.

    None where that has to be found out anew: names that a listing cut are judged with each other.
    """
    old = known.member.volume(volume.name)
    if old is None or old.case_blind != volume.case_blind or old.sets != volume.sets:
        return None
    if any(file.path_cut for each in (old, volume) for file in each.files or ()):
        return None
    other = known.named
    changed = {
        volume.folded(place.path)
        for place in (named.started ^ other.started) | (named.loaded ^ other.loaded)
        if place.volume == volume.name
    }
    left = {
        file.path: file
        for file in old.files or ()
        if not changed or volume.folded(file.path) not in changed
    }
    return _KeptVerdict(left, known.images)

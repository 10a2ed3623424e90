"""A device judged; one that was edited, only where the edit touched it."""

from typing import NamedTuple

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
    if device.members is None:
        return JudgedDevice(device=device, judge=judged.judge, members=None)
    before = {one.member.id: one for one in judged.members or ()}
    named = _named_by(device, before) or _named_on_each(device.members)
    members = tuple(
        _again(before.get(member.id), device, member, judged.judge, named[member.id])
        for member in device.members
    )
    return JudgedDevice(device=device, judge=judged.judge, members=members)


def _named_by(device: Device, before: dict[str, JudgedMember]) -> dict[str, NamedOn] | None:
    """What is named on each member, where no setting of any was edited."""
    named = dict[str, NamedOn]()
    for member in device.members or ():
        known = before.get(member.id)
        if known is None:
            return None
        was = known.member
        if was.boot is not member.boot or was.components is not member.components:
            return None
        named[member.id] = known.named
    return named if len(named) == len(before) else None


def _again(
    known: JudgedMember | None, device: Device, member: Member, judge: Judge, named: NamedOn
) -> JudgedMember:
    """The verdicts of a member, those that it had where nothing that they rest on was edited."""
    if known is None or known.hardware != device.hardware_of(member):
        return _judge_member(member, device, judge, named)
    was = known.member
    files = was.volumes is member.volumes and was.banks is member.banks
    if files and known.named == named:
        return known if was is member else replace(known, member=member)
    return _judge_member(member, device, judge, named, known)


def judge_device(device: Device, judge: Judge) -> JudgedDevice:
    """Give every image of a device its verdict."""
    members = None
    if device.members is not None:
        named = _named_on_each(device.members)
        members = tuple(
            _judge_member(member, device, judge, named[member.id]) for member in device.members
        )
    return JudgedDevice(device=device, judge=judge, members=members)


def _judge_member(
    member: Member,
    device: Device,
    judge: Judge,
    named: NamedOn,
    known: JudgedMember | None = None,
) -> JudgedMember:
    """Judge a member; `known` is what was judged of it before an edit."""
    hardware = device.hardware_of(member)
    images: dict[Place, Image] = {}
    sets: dict[Place, Image] = {}
    cut = False
    for volume in member.volumes or ():
        edit = None if known is None else _edit_of(volume, known, named)
        if known is None or edit is None:
            cut = cut or any(file.path_cut for file in volume.files or ())
        if judge.sheet.boot.holds_nothing(volume):
            continue
        if known is None or edit is None:
            judge_files(volume, hardware, judge, images, named)
        else:
            fresh: dict[Place, Image] = {}
            if edit.came:
                judge_files(replace(volume, files=edit.came), hardware, judge, fresh, named)
            images |= _in_order(volume, edit.left(known), fresh)
        for file_set in volume.sets or ():
            image = judge_set(volume, file_set, images, judge)
            sets[image.place] = image
    banks = {
        bank.name: judge_bank(bank, member, {**images, **sets}, hardware, judge)
        for bank in member.banks or ()
        if not is_empty(bank) and bank.state != "bad"
    }
    return JudgedMember(
        member=member,
        hardware=hardware,
        images=images,
        sets=sets,
        banks=banks,
        named=named,
        cut=cut,
    )


def _named_on_each(members: tuple[Member, ...]) -> dict[str, NamedOn]:
    """What is named on each member, by whichever member."""
    named = {member.id: (set[Place](), set[Place]()) for member in members}
    for member in members:
        parts = [each.place for each in member.components or () if each.place is not None]
        for which, places in ((0, started_places(member)), (1, parts)):
            for place in places:
                owner = named.get(member.id if place.member is None else place.member)
                if owner is not None:
                    owner[which].add(place.on(None))
    return {
        name: NamedOn(frozenset(started), frozenset(loaded))
        for name, (started, loaded) in named.items()
    }


class _Edit(NamedTuple):
    """What an edit made of the files of a volume: paths that went, and files that came.

    A file is among both where it has to be judged again.
    """

    volume: str
    gone: frozenset[str]
    came: tuple[File, ...]

    def left(self, known: JudgedMember) -> dict[Place, Image]:
        """The images on the volume that keep their verdicts."""
        return {
            place: image
            for place, image in known.images.items()
            if place.volume == self.volume and place.path not in self.gone
        }


def _edit_of(volume: Volume, known: JudgedMember, named: NamedOn) -> _Edit | None:
    """What an edit made of the files of a volume.

    None where all of them have to be judged: names that a listing cut are judged with each other.
    """
    old = known.member.volume(volume.name)
    if old is None or known.cut or old.case_blind != volume.case_blind or old.sets != volume.sets:
        return None
    before, after = old.files or (), volume.files or ()
    front = _alike(before, after)
    back = _alike(before[front:][::-1], after[front:][::-1])
    gone, came = before[front : len(before) - back], after[front : len(after) - back]
    if any(file.path_cut for file in came):
        return None
    other = known.named
    changed = {
        volume.folded(place.path)
        for place in (named.started ^ other.started) | (named.loaded ^ other.loaded)
        if place.volume == volume.name
    }
    if changed:  # what the settings name, and what they no longer name
        again = tuple([file for file in after if volume.folded(file.path) in changed])
        gone, came = (*gone, *again), (*came, *(file for file in again if file not in came))
    return _Edit(volume.name, frozenset([file.path for file in gone]), came)


def _alike(files: tuple[File, ...], others: tuple[File, ...]) -> int:
    """How many files two listings have in common from the first on.

    Why halves: a slice is compared at once, and files that stayed are the same values; file by
    file, the steps of a plan would cost as much as there are files on the device, times the steps.
    """
    same, most = 0, min(len(files), len(others))
    while same < most:
        middle = (same + most + 1) // 2
        if files[same:middle] == others[same:middle]:
            same = middle
        else:
            most = middle - 1
    return same


def _in_order(
    volume: Volume, kept: dict[Place, Image], fresh: dict[Place, Image]
) -> dict[Place, Image]:
    """Images in the order of the files of their volume."""
    if not fresh:
        return kept
    images = kept | fresh
    paths = [file.path for file in volume.files or ()]
    return {
        place: images[place] for place in sorted(images, key=lambda place: paths.index(place.path))
    }

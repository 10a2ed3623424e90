"""What is on flash, by what it is for, and how much the image of the target takes there yet."""

from ovek.engine.layouts.writing import image_volume
from ovek.engine.roles import Roles
from ovek.engine.rules import MemberSubject, Subject
from ovek.model.flash import CONTENTS, Share, VolumeUse, content_of
from ovek.model.place import Place
from ovek.model.snapshot import Volume


def flash_of(subject: Subject) -> tuple[VolumeUse, ...]:
    """What every volume of a device holds, in the order of its members."""
    several = len(subject.members) > 1
    return tuple(
        _use(subject, member, volume, f"{member.id}/" if several else "")
        for member in subject.members
        for volume in member.one.member.volumes or ()
    )


def _use(subject: Subject, member: MemberSubject, volume: Volume, front: str) -> VolumeUse:
    roles, needed = Roles(member.one, volume, subject.judged.judge.naming), member.needed
    sizes = dict.fromkeys(CONTENTS, 0)
    for file in volume.files or ():
        place = Place(volume.name, file.path)
        content = "running or next" if place in needed else content_of(roles.of(place))
        sizes[content] += file.size or 0
    if volume.capacity is not None and volume.free is not None:
        listed = sum(sizes.values())
        sizes["other"] += max(0, volume.capacity - volume.free - listed)
    return VolumeUse(
        volume=f"{front}{volume.name}",
        capacity=volume.capacity,
        free=volume.free,
        holds=tuple(Share(content, size) for content, size in sizes.items() if size),
        needs=_needs(subject, member, volume),
    )


def _needs(subject: Subject, member: MemberSubject, volume: Volume) -> int | None:
    """How much the wanted image takes there yet."""
    goal = subject.wanted.goal_of(member.id)
    if goal is None or volume is not image_volume(subject.judged.judge.sheet, member.one.member):
        return None
    there = (*member.one.images.values(), *member.one.sets.values(), *member.one.banks.values())
    if any(goal.same_bytes(each.judgement.release) for each in there):
        return 0
    return max(goal.sizes, default=None)

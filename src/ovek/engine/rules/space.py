"""Rules on free space."""

from collections.abc import Iterator

from ovek.engine.rules import Said, Subject, rule
from ovek.model.place import Place
from ovek.model.size import show_size
from ovek.model.snapshot import Member, Volume


def image_volume(subject: Subject, member: Member) -> Volume | None:
    """The volume that images are copied to."""
    name = subject.judged.judge.sheet.start.default_volume
    if name is not None:
        return member.volume(name)
    return member.volumes[0] if member.volumes else None


@rule(
    "free-space-low",
    "warning",
    "A flash that is nearly full takes no next image, and may fail in daily work.",
)
def free_space_low(subject: Subject) -> Iterator[Said]:
    """The volume for images has less free than the policy's reserve."""
    for member in subject.members:
        volume = image_volume(subject, member.one.member)
        if volume is None or volume.free is None:
            continue
        reserve = subject.policy.reserve_of(volume.capacity)
        if reserve is not None and volume.free < reserve:
            device = subject.judged.device.device
            of = f" of {show_size(volume.capacity)}" if volume.capacity is not None else ""
            yield Said(
                member=member.id,
                place=Place(volume.name, ""),
                saw=f"{show_size(volume.free)} free{of}, the reserve is "
                f"{show_size(reserve)} ({subject.policy.reserve})",
                do=f"See what may go: ovek cleanup {device} --free {_round_mib(reserve)}MiB",
            )


def _round_mib(size: int) -> int:
    return -(-size // 2**20)

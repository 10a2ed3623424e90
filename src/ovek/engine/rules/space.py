"""Rules on volumes: free space, room for the target, and what cannot be read."""

from collections.abc import Iterator

from ovek.engine.layouts.writing import Spot, image_volume
from ovek.engine.room import need_of, sized
from ovek.engine.rules import Said, Subject, rule
from ovek.model.place import Place
from ovek.model.plain_word import typed
from ovek.model.size import show_size
from ovek.model.snapshot import Member, Volume

# File systems that keep files smaller than they are: their sums say nothing.
_PACKING = ("btrfs", "f2fs", "jffs2", "overlay", "squashfs", "ubifs", "zfs")


def _volume(subject: Subject, member: Member) -> Volume | None:
    """The volume that images are copied to."""
    return image_volume(subject.judged.judge.sheet, member)


@rule(
    "no-room-for-target",
    "warning",
    "If there is no space for the image, the upgrade fails in the window.",
    "Free space: ovek cleanup DEVICE --room-for target",
    "free-space-low",
    stops="settings",
    reads=("space", "name"),
)
def no_room_for_target(subject: Subject) -> Iterator[Said]:
    """There is not enough free space for the target image."""
    sheet = subject.judged.judge.sheet
    for member in subject.members:
        release = subject.wanted.release_of(member.id)
        if release is not None:
            sizes = subject.shelf.sizes if subject.shelf is not None else {}
            release = sized(release, subject.judged, sizes)
        if release is None or not release.sizes:
            continue
        if subject.layout.into_banks(member.one.member):
            continue
        volume = _volume(subject, member.one.member)
        if (
            volume is None
            or volume.free is None
            or volume.state in ("absent", "unreadable")
            or subject.order(member.running, release.version) == 0
        ):
            continue
        place: Place | None = Place(volume.name, release.file, member.id)
        there = any(
            release.same_bytes(image.judgement.release)
            and image.place.volume == volume.name
            and image.starts_members
            for image in member.proven
        )
        if subject.layout.holder == "banks":  # a file beside the directories is in none of them
            banks, place = member.one.banks.values(), None
            there = any(
                release.same_bytes(image.judgement.release) and image.judgement.verdict == "proven"
                for image in banks
            )
        spot = Spot(place=place, there=there)
        wanted = need_of(release, volume, spot, subject.policy, sheet).wanted
        if volume.free < wanted and not there:
            short, name = wanted - volume.free, subject.judged.device.device
            yield Said(
                member=member.id,
                place=Place(volume.name, ""),
                seen=f"not enough space for {release.file}: {show_size(wanted)} needed (image and "
                f"reserve), {show_size(volume.free)} free, {show_size(short)} missing",
                do=f"Free space: ovek cleanup {typed(name, 'DEVICE')} --room-for "
                f"{typed(release.file, 'IMAGE')}",
            )


@rule(
    "free-space-low",
    "warning",
    "A nearly full flash has no space for the next image, and may cause faults.",
    "Free space: ovek cleanup DEVICE --free SIZE",
    stops="settings",
    reads=("space", "name"),
)
def free_space_low(subject: Subject) -> Iterator[Said]:
    """The volume for images has less free space than policy's reserve."""
    for member in subject.members:
        volume = _volume(subject, member.one.member)
        if volume is None or volume.free is None or volume.state in ("absent", "unreadable"):
            continue
        reserve = subject.policy.reserve_of(volume.capacity)
        if reserve is not None and volume.free < reserve:
            device = subject.judged.device.device
            of = f" of {show_size(volume.capacity)}" if volume.capacity is not None else ""
            yield Said(
                member=member.id,
                place=Place(volume.name, ""),
                seen=f"{show_size(volume.free)} free{of}; policy wants at least "
                f"{show_size(reserve)} free ({subject.policy.reserve})",
                free=reserve,
                do=f"Free space: ovek cleanup {typed(device, 'DEVICE')} --free "
                f"{_round_mib(reserve)}MiB",
            )


def _round_mib(size: int) -> int:
    return -(-size // 2**20)


@rule(
    "volume-unreadable",
    "warning",
    "An unreadable volume cannot be booted from or written to.",
    "Copy off what can still be read, then reformat or replace the volume",
)
def volume_unreadable(subject: Subject) -> Iterator[Said]:
    """A volume is present but cannot be read."""
    for member in subject.members:
        for volume in member.one.member.volumes or ():
            if volume.state == "unreadable":
                kind = f" ({volume.filesystem})" if volume.filesystem else ""
                yield Said(
                    member=member.id,
                    place=Place(volume.name, ""),
                    seen=f"the device sees it but cannot read its file system{kind}",
                )


@rule(
    "volume-other-format",
    "warning",
    "A stick that works in a PC is useless if the device cannot read its file system.",
    "Reformat it with a file system the device reads, then copy the images again",
    reads=("files",),
)
def volume_other_format(subject: Subject) -> Iterator[Said]:
    """A volume has a file system that this kind of device cannot read."""
    start = subject.judged.judge.sheet.boot
    for member in subject.members:
        for volume in member.one.member.volumes or ():
            if volume.removable and not _may_hold_images(subject, volume):
                continue
            if volume.state == "ok" and not start.can_read(volume.filesystem):
                yield Said(
                    member=member.id,
                    place=Place(volume.name, ""),
                    seen=f"it is {volume.filesystem}; this device reads "
                    f"{', '.join(start.reads or ())}",
                )


def _may_hold_images(subject: Subject, volume: Volume) -> bool:
    """Whether anything on a volume may be an image, by its name or its digest."""
    judge, blind = subject.judged.judge, volume.case_blind
    return volume.files is None or any(
        judge.naming.of(file.path, case_blind=blind).image
        or judge.releases.named(file.path.rpartition("/")[2], case_blind=blind)
        or any(digest in judge.releases.by_digest for _, digest in file.digests or ())
        for file in volume.files
    )


@rule(
    "volume-absent",
    "warning",
    "If the volume for images is absent, the next boot depends on something else.",
    "Check that the card or stick is inserted; replace it if it is broken",
)
def volume_absent(subject: Subject) -> Iterator[Said]:
    """The volume that holds the boot images is absent. (An empty slot is not reported.)"""
    for member in subject.members:
        volume = _volume(subject, member.one.member)
        if volume is not None and volume.state == "absent":
            seen = "the volume that images are booted from is absent"
            yield Said(member=member.id, place=Place(volume.name, ""), seen=seen)


@rule(
    "free-figure-impossible",
    "warning",
    "If the reported free space is impossible, no space plan for this volume is reliable.",
    "Check the file system on the device, and read the device again",
    reads=("files", "space"),
)
def free_figure_impossible(subject: Subject) -> Iterator[Said]:
    """The files and the reported free space add up to more than the volume's capacity."""
    for member in subject.members:
        for volume in member.one.member.volumes or ():
            if volume.files is None or volume.free is None or volume.capacity is None:
                continue
            if (volume.filesystem or "").casefold().startswith(_PACKING):
                continue
            used = volume.capacity - volume.free
            # Devices round what they show, so that a little more is no wonder.
            most = used + max(2**20, volume.capacity // 1000)
            if sum([file.size or 0 for file in volume.files]) <= most:
                continue
            files = sum(file.least for file in volume.files)  # it costs time, and is no more
            if files > most:
                yield Said(
                    member=member.id,
                    place=Place(volume.name, ""),
                    seen=f"its files have {show_size(files)}, but only {show_size(used)} of "
                    f"{show_size(volume.capacity)} are in use ({show_size(volume.free)} free)",
                )

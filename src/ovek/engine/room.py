"""How much room an image needs on a volume, and what that is made of.

Room is not counted for an image that is there already, nor twice for one that is copied over a file
of its name; it is counted for one that the plan itself deletes.
"""

from collections.abc import Mapping

from msgspec.structs import replace

from ovek.engine.changes import taken
from ovek.engine.layouts.writing import Spot
from ovek.engine.verdicts import JudgedDevice
from ovek.model.plain_word import typed
from ovek.model.plan import Need, Room
from ovek.model.policy import Policy
from ovek.model.sheet import Sheet
from ovek.model.size import show_size
from ovek.model.snapshot import Volume
from ovek.model.verdict import KnownRelease

_NO_SIZES: Mapping[str, int] = {}


def need_of(
    release: KnownRelease, volume: Volume, spot: Spot, policy: Policy, sheet: Sheet
) -> Need:
    """What the room for a release is made of, at a spot on a volume."""
    size, capacity = max(release.sizes, default=0), sheet.capacity
    over = 0
    if spot.place is not None and not spot.there:
        gone = {place.path for place in spot.replaces}
        over = sum(
            taken(file.least, volume, sheet)
            for file in volume.files_at(spot.place.path)
            if file.path not in gone
        )
    unpacked = release.unpacked
    if unpacked is None:
        unpacked = int(size * (capacity.unpacked or 0))
    return Need(
        file=release.file,
        there=spot.there,
        image=0 if spot.there else taken(size, volume, sheet) - over,
        unpacked=unpacked,
        installing=capacity.installing or 0,
        reserve=policy.reserve_of(volume.capacity),
    )


def sized(
    release: KnownRelease, judged: JudgedDevice, sizes: Mapping[str, int] = _NO_SIZES
) -> KnownRelease:
    """A release with its size: as published, else that of a proven copy of it.

    `sizes` are the bytes of proven copies elsewhere, by digest; those of the device count, too.
    """
    if release.sizes:
        return release
    known = {
        sizes[digest]
        for digests in release.digests.values()
        for digest in digests
        if digest in sizes
    }
    for member in judged.members or ():
        for image in member.images.values():
            file = image.file
            if file is None or file.size is None or file.size_step is not None:
                continue
            if image.judgement.verdict == "proven" and release.same_bytes(image.judgement.release):
                known.add(file.size)
    return release if len(known) != 1 else replace(release, sizes=frozenset(known))


def no_room_to_plan(volume: Volume | None, sheet: Sheet, room: Room) -> str:
    """Why there is no plan for a volume; empty where there is one."""
    if volume is None:
        name = sheet.boot.default_volume
        return f"volume {name} is not in the snapshot" if name else "the volumes are unknown"
    name, release = volume.name, room.release
    if volume.state in ("absent", "unreadable"):
        return f"volume {name} is {volume.state}"
    if not sheet.boot.can_read(volume.filesystem):
        return f"volume {name} is {volume.filesystem}, which this device cannot read"
    if volume.state is None:
        return f"it is unknown whether volume {name} can be read"
    if volume.free is None:
        return f"the free space on {name} is unknown"
    if volume.files is None:
        return f"the files on {name} are unknown"
    if room.share is not None and volume.capacity is None:
        return f"the capacity of {name} is unknown, and so is a percentage of it"
    if release is not None and not release.sizes:
        text = f"the size of {release.file} is neither published nor known from a proven copy"
        return f"{text} (add it: ovek catalog annotate {typed(release.file, 'FILE')} --size BYTES)"
    least = release.needs.volume if release is not None else None
    if release is not None and least and volume.capacity is not None and volume.capacity < least:
        text = f"{show_size(least)}, {name}: has {show_size(volume.capacity)}"
        return f"{release.file} needs a volume of {text}"
    return ""

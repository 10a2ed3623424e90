"""`files`: images lie on a volume, and boot settings name them.

1. A once entry.
2. By mode: the order and then the fallback (`listed`), the first image on the default volume in
   directory order (`first-found`), or nothing (`hold`).
"""

from collections.abc import Iterator

from ovek.engine.layouts.interface import Attempt, Layout, NotKnownError, Seen
from ovek.engine.layouts.writing import Spot, Unwritable, Writing, image_volume
from ovek.engine.verdicts import CUT
from ovek.model.change import Change, Save, SetMode, SetOnce, SetOrder
from ovek.model.place import Place
from ovek.model.snapshot import Boot, BootEntry, BootMode, File, Member, Volume
from ovek.model.verdict import Image


class Files(Layout):
    """Images on a volume, named in an order."""

    start_facts = ("order.place", "boot.mode.saved")
    holder = "files"

    def candidates(self, seen: Seen) -> Iterator[Attempt]:
        """A once entry, then what the mode says."""
        boot = seen.boot
        yield from seen.once()
        mode = _mode(seen)
        if mode is None:
            raise NotKnownError("the boot mode is unknown")
        if mode == "hold":
            return
        tried, own = list[Place](), seen.member.id
        if mode == "listed":
            order = seen.setting(boot.order)
            if order is None:
                raise NotKnownError("the boot order is unknown")
            for entry in order:
                if entry.at is not None:
                    tried.append(entry.at)
                yield Attempt("order", entry.at, entry)
        if mode == "first-found" or seen.scheme.fallback == "first-found":
            seen.used = True
            named = {seen.judged.located(place, own) for place in tried}
            for place in _first_found(seen):
                if place.on(own) not in named:
                    yield Attempt("first-found", place)

    def named(self, seen: Seen) -> Iterator[Attempt]:
        """The once entry and every entry of the order."""
        yield from seen.once()
        for entry in seen.setting(seen.boot.order) or ():
            yield Attempt("order", entry.at, entry)

    def others(self, seen: Seen) -> Iterator[Image]:
        """Whatever image there is, where the loader looks by itself."""
        mode = _mode(seen)
        if mode == "first-found" or (mode != "hold" and seen.scheme.fallback == "first-found"):
            yield from seen.one.images.values()
            yield from seen.one.sets.values()

    def spots(self, writing: Writing) -> list[Spot] | Unwritable:
        """The volume for images, under the published name; or where the image is there already."""
        member = writing.one.member
        volume = image_volume(writing.judged.judge.sheet, member)
        if volume is None:
            name = writing.judged.judge.sheet.boot.default_volume
            text = f"volume {name} is not in the snapshot" if name else "the volumes are unknown"
            return Unwritable(text)
        if volume.removable and not writing.removable:
            return Unwritable(f"volume {volume.name} is removable, so no image is written to it")
        there = sorted(
            image.place
            for image in writing.one.images.values()
            if image.place.volume == volume.name and writing.holds(image)
        )
        if there:
            return [Spot(place=there[0].on(member.id), there=True)]
        return [Spot(place=Place(volume.name, writing.release.file, member.id))]

    def point(self, member: Member, spot: Spot) -> tuple[Change, ...]:
        """Put it first in the order and save, then follow the order."""
        assert spot.place is not None
        boot = member.boot or Boot()
        order = boot.order.effective
        name = str(spot.place.on(None))
        names = {name, str(spot.place)}
        entries = (
            BootEntry(place=name),
            *(entry for entry in order or () if entry.place not in names),
        )
        changes: list[Change] = [SetOrder(member=member.id, entries=entries)]
        changes.append(Save(member=member.id))
        if (boot.mode.live, boot.mode.saved) != ("listed", "listed"):
            # Once the order is saved: until then, a mode that follows it follows the old one.
            changes += [SetMode(member=member.id, mode="listed"), Save(member=member.id)]
        if boot.once is not None:
            changes.append(SetOnce(member=member.id, entry=None))
        return tuple(changes)

    def settings_known(self, member: Member) -> bool:
        """Whether the order is known, live or saved."""
        order = member.boot.order if member.boot is not None else None
        return order is not None and not (order.saved is None and order.live is None)


def _mode(seen: Seen) -> BootMode | None:
    """The boot mode; that of the sheet where the device has no such setting, as far as is asked."""
    mode, asks = seen.setting(seen.boot.mode), seen.judged.judge.asks
    if mode is not None or "boot.mode.saved" in asks or "boot.mode.live" in asks:
        return mode
    return seen.scheme.mode


def _default_volume(seen: Seen) -> Volume:
    volumes = seen.member.volumes
    if volumes is None:
        raise NotKnownError("the volumes are unknown")
    name = seen.scheme.default_volume or (volumes[0].name if volumes else "")
    return seen.member.volume(name) or Volume(name=name or "none", state="absent")


def _first_found(seen: Seen) -> Iterator[Place]:
    """The images of the default volume that could start a member, in directory order."""
    volume = _default_volume(seen)
    if volume.state in ("absent", "unreadable") or not seen.scheme.can_read(volume.filesystem):
        return
    if volume.state is None:
        raise NotKnownError(f"it is unknown whether volume {volume.name} can be read")
    if volume.files is None:
        raise NotKnownError(f"the files on {volume.name} are unknown")
    for file in volume.files:
        place = Place(volume.name, file.path)
        image = seen.one.sets.get(place) or seen.one.images.get(place)
        if image is not None and image.starts_members:
            yield place
        elif image is None and file.path_cut and _may_be_image(seen, volume, file):
            raise NotKnownError(f"it is unknown whether {place} is an image: {CUT}")


def _may_be_image(seen: Seen, volume: Volume, file: File) -> bool:
    """Whether what is behind the cut of a name may make it an image."""
    named = seen.judged.judge.naming.of(file.path, case_blind=volume.case_blind)
    return named.role == "unknown" and not file.is_empty


LAYOUT = Files()

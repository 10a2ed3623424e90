"""What if: a device as it would be, so that its boot walk can be walked before anything is done.

- *missing*: a file, a whole volume (`flash:`) or what a bank holds is not there.
- *bad*: a file or a bank is there and altered; a set or bank that is made of it is altered, too.
- *saved*: the live boot settings are saved, so that the next start reads them.

A place without a member is meant on every member that has it.
"""

from collections.abc import Callable, Iterable, Iterator
from difflib import get_close_matches
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.verdicts import JudgedDevice, JudgedMember, find_file, judge_device
from ovek.model.digest import Digests
from ovek.model.place import BANK, Place, PlaceError, parse_place
from ovek.model.snapshot import Bank, Boot, Device, File, Member, Setting, Volume
from ovek.model.verdict import Image, Judgement

T = TypeVar("T")
_BAD = Judgement(verdict="altered", why="taken to be bad")


class NoSuchPlaceError(Exception):
    """A what-if names a place that the device does not have; `near` is the nearest it has."""

    def __init__(self, place: str, near: str | None) -> None:
        super().__init__(place)
        self.place, self.near = place, near


class WhatIf(Struct, frozen=True, kw_only=True):
    """What is taken to be so, as it was typed."""

    missing: tuple[str, ...] = ()
    bad: tuple[str, ...] = ()
    saved: bool = False

    def told(self) -> list[str]:
        """What is taken to be so, in words."""
        told = [f"{place} were missing" for place in self.missing]
        told += [f"{place} were bad" for place in self.bad]
        return told + (["the live boot settings were saved"] if self.saved else [])


def suppose(judged: JudgedDevice, what: WhatIf) -> JudgedDevice:
    """The device as it would be. Raises NoSuchPlaceError, and PlaceError for what is no place."""
    device = judged.device
    if what.saved:
        device = _each(device, _saved)
    for text in what.missing:
        device = _changed(device, text, _without)
    for text in what.bad:
        device = _changed(device, text, _rewritten)
    changed = judge_device(device, judged.judge)
    return _with_bad(changed, [_place(text) for text in what.bad])


def _place(text: str) -> Place:
    """A place, or a whole volume: `flash:` has an empty path."""
    if text.endswith(":") and text.count(":") == 1:
        member, slash, volume = text[:-1].rpartition("/")
        if volume and volume != BANK:
            return Place(volume, "", member if slash else None)
        raise PlaceError(f"{text!r} is not a place; write it as volume:path, volume: or bank:name")
    return parse_place(text)


def _each(device: Device, change: Callable[[Member], Member]) -> Device:
    return replace(device, members=tuple(map(change, device.members or ())))


def _changed(device: Device, text: str, change: Callable[[Member, Place], Member | None]) -> Device:
    """Change every member that a place is meant on; raise NoSuchPlaceError where none has it."""
    place, found, members = _place(text), False, []
    for member in device.members or ():
        ours = None
        if place.member in (None, member.id):
            ours = change(member, place.on(None))
        found = found or ours is not None
        members.append(member if ours is None else ours)
    if not found:
        raise NoSuchPlaceError(text, _nearest(device, place))
    return replace(device, members=tuple(members))


def _nearest(device: Device, place: Place) -> str | None:
    names = list(dict.fromkeys(_names(device, with_member=place.member is not None)))
    near = get_close_matches(str(place), names, n=1, cutoff=0.4)
    return near[0] if near else None


def _names(device: Device, *, with_member: bool) -> Iterator[str]:
    for member in device.members or ():
        front = member.id if with_member else None
        for volume in member.volumes or ():
            for file in volume.files or ():
                yield str(Place(volume.name, file.path, front))
        for bank in member.banks or ():
            yield str(Place(BANK, bank.name, front))


def _saved(member: Member) -> Member:
    """The live settings, where they are known, become the saved ones."""
    boot = member.boot
    if boot is None:
        return member

    def save(setting: Setting[T]) -> Setting[T]:
        return setting if setting.live is None else Setting(live=setting.live, saved=setting.live)

    saved = Boot(
        mode=save(boot.mode),
        order=save(boot.order),
        default_bank=save(boot.default_bank),
        once=boot.once,
        ignores_saved_config=save(boot.ignores_saved_config),
    )
    return replace(member, boot=saved)


def _without(member: Member, place: Place) -> Member | None:
    """A member without a file, a volume or what a bank holds; None where it has no such thing."""
    if place.is_bank:
        return _with_bank(member, place, lambda bank: Bank(name=bank.name, state="empty"))
    volume = member.volume(place.volume)
    if volume is None:
        return None
    if not place.path:
        return _with_volume(member, Volume(name=volume.name, state="absent"))
    file = find_file(place, member)
    if file is None:
        return None
    left = replace(
        volume,
        files=tuple(each for each in volume.files or () if each is not file),
        sets=None
        if volume.sets is None
        else tuple(each for each in volume.sets if each.set_file != file.path),
    )
    return _with_volume(member, left)


def _rewritten(member: Member, place: Place) -> Member | None:
    """A member with other digests in a file or bank, as a bad copy has; None without it."""
    if place.is_bank:
        return _with_bank(
            member, place, lambda bank: replace(bank, digests=_other_digests(bank.digests))
        )
    volume, file = member.volume(place.volume), find_file(place, member)
    if volume is None or file is None:
        return None
    bad = replace(file, digests=_other_digests(file.digests))
    files = tuple(bad if each is file else each for each in volume.files or ())
    return _with_volume(member, replace(volume, files=files))


def _other_digests(digests: Digests | None) -> Digests | None:
    """Digests that are those of no published file: each first digit is another one."""
    if digests is None:
        return None
    return Digests(**{name: ("0" if d[0] != "0" else "1") + d[1:] for name, d in digests})


def _with_bank(member: Member, place: Place, change: Callable[[Bank], Bank]) -> Member | None:
    bank = member.bank(place.path)
    if bank is None:
        return None
    banks = tuple(change(each) if each is bank else each for each in member.banks or ())
    return replace(member, banks=banks)


def _with_volume(member: Member, volume: Volume) -> Member:
    volumes = tuple(volume if v.name == volume.name else v for v in member.volumes or ())
    return replace(member, volumes=volumes)


def _with_bad(judged: JudgedDevice, bad: Iterable[Place]) -> JudgedDevice:
    """The verdicts with what is taken to be bad altered, and what is made of it."""
    bad = list(bad)
    if not bad or judged.members is None:
        return judged
    members = []
    for one in judged.members:
        ours = {_spelled(place.on(None), one) for place in bad if _meant(place, one)}
        members.append(
            replace(
                one,
                images={place: _if_bad(image, ours) for place, image in one.images.items()},
                sets={place: _if_bad(image, ours) for place, image in one.sets.items()},
                banks={name: _if_bad(image, ours) for name, image in one.banks.items()},
            )
        )
    return replace(judged, members=tuple(members))


def _meant(place: Place, one: JudgedMember) -> bool:
    return place.member in (None, one.member.id)


def _spelled(place: Place, one: JudgedMember) -> Place:
    file: File | None = None if place.is_bank else find_file(place, one.member)
    return place if file is None else Place(place.volume, file.path)


def _if_bad(image: Image, bad: set[Place]) -> Image:
    touched = image.place in bad or any(part in bad for part in image.parts)
    return replace(image, judgement=_BAD) if touched else image

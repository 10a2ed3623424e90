"""What if: a device as it would be, so that its boot walk can be walked before anything is done.

- *missing*: a file, a whole volume (`flash:`) or what a bank holds is not there.
- *bad*: a file or a bank is there and altered; a set or bank that is made of it is altered, too.
- *saved*: the live boot settings are saved, so that the next start reads them.

A place without a member is meant on every member that has it.
"""

from collections.abc import Iterable, Iterator
from difflib import get_close_matches

from msgspec.structs import replace

from ovek.engine.changes import effect, refusal
from ovek.engine.verdicts import JudgedDevice, JudgedMember, judge_device
from ovek.model.change import Change, Delete, Lose, Save, Spoil
from ovek.model.place import BANK, Place, PlaceError, parse_place
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device
from ovek.model.verdict import Image, Judgement
from ovek.model.whatif import WhatIf

_BAD = Judgement(verdict="altered", why="assumed bad")


class NoSuchPlaceError(Exception):
    """A what-if names a place that the device does not have; `near` is the nearest it has."""

    def __init__(self, place: str, near: str | None) -> None:
        super().__init__(place)
        self.place, self.near = place, near


def suppose(judged: JudgedDevice, what: WhatIf) -> JudgedDevice:
    """The device as it would be. Raises NoSuchPlaceError, and PlaceError for what is no place."""
    device, sheet = judged.device, judged.judge.sheet
    changes: list[Change] = []
    if what.saved:
        changes += [Save(member=member.id) for member in device.members or ()]
    for text in what.missing:
        changes += [_missing(place) for place in _meant(judged, text)]
    for text in what.bad:
        if not _place(text).path:
            problem = (
                f"{text!r} is a volume, and a volume is not bad by itself: name a file or bank, "
            )
            raise PlaceError(problem + f"or say --if-missing {text}")
    bad = [place for text in what.bad for place in _meant(judged, text)]
    changes += [Spoil(place=place) for place in bad]
    for change in changes:
        device = effect(device, change, sheet)
    return _with_bad(judge_device(device, judged.judge), bad)


def _missing(place: Place) -> Change:
    return Lose(place=place) if place.is_bank or not place.path else Delete(place=place)


def _meant(judged: JudgedDevice, text: str) -> list[Place]:
    """The places that a text means, with the member in front; raise NoSuchPlaceError for none."""
    place, sheet = _place(text), judged.judge.sheet
    found = []
    for member in judged.members or ():
        if place.member not in (None, member.member.id):
            continue
        where = judged.located(place, member.member.id)
        whole = not place.is_bank and not place.path
        if member.member.volume(place.volume) if whole else not _gone(judged, where, sheet):
            found.append(where)
    if not found:
        raise NoSuchPlaceError(text, _nearest(judged.device, place))
    return found


def _gone(judged: JudgedDevice, place: Place, sheet: Sheet) -> bool:
    return bool(refusal(judged.device, Spoil(place=place), sheet))


def _place(text: str) -> Place:
    """A place, or a whole volume: `flash:` has an empty path."""
    if text.endswith(":") and text.count(":") == 1:
        member, slash, volume = text[:-1].rpartition("/")
        if volume and volume != BANK:
            return Place(volume, "", member if slash else None)
        raise PlaceError(f"{text!r} is not a place; use volume:path, volume: or bank:name")
    return parse_place(text)


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


def _with_bad(judged: JudgedDevice, bad: Iterable[Place]) -> JudgedDevice:
    """The verdicts with what is taken to be bad altered, and what is made of it."""
    bad = list(bad)
    if not bad or judged.members is None:
        return judged
    members = []
    for member in judged.members:
        ours = {place.on(None) for place in bad if place.member == member.member.id}
        members.append(_spoiled(member, ours) if ours else member)
    return replace(judged, members=tuple(members))


def _spoiled(member: JudgedMember, bad: set[Place]) -> JudgedMember:
    return replace(
        member,
        images={place: _if_bad(image, bad) for place, image in member.images.items()},
        sets={place: _if_bad(image, bad) for place, image in member.sets.items()},
        banks={name: _if_bad(image, bad) for name, image in member.banks.items()},
    )


def _if_bad(image: Image, bad: set[Place]) -> Image:
    touched = image.place in bad or any(part in bad for part in image.parts)
    return replace(image, judgement=_BAD) if touched else image

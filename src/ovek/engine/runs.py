"""What runs on each member, and how surely: the one place that knows.

1. The version is the member's own `running_version`, else the device's.
2. The device's `running.place` or `running.bank` is where a member was started from, unless the
   member runs another version. A place with a member in front is that member's; one without is on
   the member that runs it.
3. Where no place is told for a member, it may run any of its own images of its version: that is
   sure only where there is one, and it is a bank.
4. A device that was read at its boot loader runs nothing, whatever it tells.
5. Where the sheet asks for a fact that would tell and the device did not answer, the member may run
   any of its images.
"""

from collections.abc import Iterator

from msgspec import Struct

from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.naming import Naming
from ovek.model.place import BANK, Place, parse_place
from ovek.model.snapshot import Device
from ovek.model.verdict import Image
from ovek.model.version import LONGEST


class Runs(Struct, frozen=True, kw_only=True):
    """What one member runs.

    `places` are the files and banks that it was started from, or may have been where that is not
    `sure`; all with the member in front, spelled as their volumes do. `image` is the one that runs,
    where it is sure and there. `own` is whether it runs another version than the device tells.
    """

    member: str
    version: str | None
    variant: str | None
    places: tuple[Place, ...]
    sure: bool
    image: Image | None = None
    own: bool = False

    @property
    def bank(self) -> str | None:
        """The bank of this member that runs, where that is sure."""
        for place in self.places if self.sure else ():
            if place.is_bank and place.member == self.member:
                return place.path
        return None

    @property
    def place(self) -> Place | None:
        """The file that runs, where that is sure."""
        files = (place for place in self.places if not place.is_bank)
        return next(files, None) if self.sure else None


def runs_of(judged: JudgedDevice) -> tuple[Runs, ...]:
    """What each member of a device runs, in their order."""
    return tuple(_of_member(judged, one) for one in judged.members or ())


def version_of(judged: JudgedDevice, one: JudgedMember) -> str | None:
    """The version that a member runs: its own, else the device's."""
    if judged.device.at == "boot-loader":
        return None
    own = known_version(one.member.running_version)
    return own if own is not None else known_version(judged.device.running.version)


def variant_of(device: Device, naming: Naming) -> str | None:
    """The variant that runs: told by the device, else by the name of the file it runs from."""
    running = device.running
    if device.at == "boot-loader":
        return None
    if running.variant is not None or running.place is None:
        return running.variant
    return naming.of(parse_place(running.place).path, case_blind=False).variant


def known_version(text: str | None) -> str | None:
    """A version as a device tells it; None for what is too long to be one.

    >>> known_version("7.4.1"), known_version("1" * 5000)
    ('7.4.1', None)
    """
    return text if text is not None and len(text) <= LONGEST else None


def _of_member(judged: JudgedDevice, one: JudgedMember) -> Runs:
    if judged.device.at == "boot-loader":
        return Runs(member=one.member.id, version=None, variant=None, places=(), sure=True)
    own = known_version(one.member.running_version)
    whole = known_version(judged.device.running.version)
    version = version_of(judged, one)
    asked = asks_each(judged)
    differs: bool | None = None
    if own is not None and whole is not None:
        differs = own != whole
    elif own is None and not asked:
        differs = False  # nobody asked this member: it is as the device
    places = () if differs else tuple(_told(judged, one))
    sure = bool(places) and differs is False
    if not sure:
        places = tuple(dict.fromkeys([*places, *_of_version(judged, one, version)]))
        sure = bool(differs) and len(places) == 1 and places[0].is_bank
    return Runs(
        member=one.member.id,
        version=version,
        variant=None if differs else variant_of(judged.device, judged.judge.naming),
        places=places,
        sure=sure,
        image=judged.image(places[0]) if sure else None,
        own=bool(differs),
    )


def _told(judged: JudgedDevice, one: JudgedMember) -> Iterator[Place]:
    """Where the device says that it was started from, as this member reads it."""
    running, own = judged.device.running, one.member.id
    if running.bank is not None:
        yield Place(BANK, running.bank, own)
    if running.place is not None:
        yield judged.located(parse_place(running.place), own)


def _of_version(judged: JudgedDevice, one: JudgedMember, version: str | None) -> Iterator[Place]:
    """The images of a member that may be what runs, where no place is told for it."""
    every = version is None or _asked_in_vain(judged, one)
    for image in (*one.images.values(), *one.sets.values(), *one.banks.values()):
        if image.starts_members and (every or image.version in (None, version)):
            yield image.place.on(one.member.id)


def _asked_in_vain(judged: JudgedDevice, one: JudgedMember) -> bool:
    """Whether the sheet asks what was started from, or what a member runs, and nobody knows."""
    asks, running = judged.judge.asks, judged.device.running
    if running.place is None and running.bank is None:
        return "running.place" in asks or "running.bank" in asks
    return one.member.running_version is None and asks_each(judged)


def asks_each(judged: JudgedDevice) -> bool:
    """Whether each of several members is asked what it runs."""
    return len(judged.members or ()) > 1 and "member.running_version" in judged.judge.asks

"""Applies changes to a device one by one, and walks all members before, in the middle and after.

What is no worse (`harm` is empty where it is so), for every member:

1. The outcome of its walk is no worse: stranded, unknown, unproven, proven.
2. What it starts is the same: the same place, or the same version as well proven in the other half
   of a pair. A start that is *meant*, from the place that the changes point it at, is no harm.
   Nor is one after which more is known, or where nothing started before.

A change to a file that no walk looked at, nor is made of, changes none; nor does a live setting of
which the saved one is known: then nothing is walked again.
"""

from collections.abc import Callable, Set

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.bootwalk import started_from, walk_device
from ovek.engine.changes import effect, middle
from ovek.engine.components import loaded
from ovek.engine.layouts import layout_of
from ovek.engine.verdicts import JudgedDevice, rejudge
from ovek.model.change import (
    BackUp,
    BootByHand,
    Change,
    Delete,
    HeedConfig,
    LoadComponent,
    Reload,
    Save,
    SetDefault,
    SetMode,
    SetOrder,
)
from ovek.model.place import Place
from ovek.model.snapshot import Boot, Device
from ovek.model.walk import RELOADS_WORST_FIRST, DeviceWalk, MemberWalk, Started


class ReplayStage(Struct, frozen=True, kw_only=True):
    """One change that was applied: the device and its walk after it.

    `harm` is what a power failure right after it would leave worse than it was before all
    changes, in words, `halfway` what one in its middle would; empty where nothing is.
    """

    change: Change
    device: Device
    walk: DeviceWalk
    harm: tuple[str, ...]
    halfway: tuple[str, ...] = ()


def walk_after(
    before: JudgedDevice, walk: DeviceWalk, change: Change, after: JudgedDevice
) -> DeviceWalk:
    """The walk of a device after a change; the same one where the change cannot have changed it."""
    quiet = _quiet(change, lambda: footprint(before, walk), after.device)
    return walk if quiet else walk_device(after)


def walk_halfway(judged: JudgedDevice, change: Change) -> DeviceWalk | None:
    """The walk in the middle of a change; None where it has none, or no walk tells of it."""
    half = middle(judged.device, change, judged.judge.sheet)
    return None if half is None else walk_device(rejudge(judged, half))


def harm_halfway(
    change: Change, before: DeviceWalk, half: DeviceWalk | None, meant: Set[Place]
) -> list[str]:
    """What a power failure in the middle of a change leaves worse, in words."""
    if isinstance(change, LoadComponent):  # no walk tells of it
        slot = f" in slot {change.slot}" if change.slot is not None else ""
        return [f"the {change.component}{slot} would be half-written, and may have to be replaced"]
    return [] if half is None else worse(before, half, meant)


def done(judged: JudgedDevice, device: Device, change: Change, walk: DeviceWalk) -> Device:
    """The device once a change is done; a reload loads the firmware that an image brings, too."""
    sheet = judged.judge.sheet
    if isinstance(change, BootByHand):
        walk = _by_hand(judged, change, walk)
    elif not isinstance(change, Reload):
        return effect(device, change, sheet, walk)
    running = None
    for member in walk.members:
        at = member.boots.at if member.boots is not None else None
        image = judged.image(at) if at is not None else None
        release = image.judgement.release if image is not None else None
        running = running or release
        one = judged.member(member.member)
        for each in loaded(judged, one, release) if one is not None else ():
            component = each.component
            if each.then is not None and each.then != component.version:
                load = LoadComponent(
                    member=member.member,
                    component=component.component,
                    slot=component.slot,
                    version=each.then,
                )
                device = effect(device, load, sheet)
    device = effect(device, change, sheet, walk)
    variant = running.variant if running is not None else None
    return replace(device, running=replace(device.running, variant=variant))


def _by_hand(judged: JudgedDevice, change: BootByHand, walk: DeviceWalk) -> DeviceWalk:
    """What boots where a person names the places: any other member boots as it would."""
    places = {place.member: place for place in change.places}
    members = tuple(
        replace(each, boots=started_from(judged, places[each.member]))
        if each.member in places
        else each
        for each in walk.members
    )
    return replace(walk, members=members)


def footprint(judged: JudgedDevice, walk: DeviceWalk) -> set[Place]:
    """Every place that a walk looked at, with all that it is made of, member in front.

    Where two directories are held against each other, all of both.
    """
    found = set[Place]()
    for member in walk.members:
        # What a stranded member could be started from by hand is part of its walk.
        found |= {each.at for each in member.rescue if each.at is not None}
        for candidate in member.tried:
            if candidate.at is not None:
                found.add(candidate.at)
                image = judged.image(candidate.at)
                parts = image.parts if image is not None else ()
                found |= {p if p.member is not None else p.on(candidate.at.member) for p in parts}
    if layout_of(judged).pair:
        for one in judged.members or ():
            for bank in one.member.banks or ():
                found |= {judged.located(place, one.member.id) for place in bank.files}
    return found


def _quiet(change: Change, looked_at: Callable[[], set[Place]], device: Device) -> bool:
    """Whether a change cannot change any walk."""
    match change:
        case Delete(place=place, also=also):
            return looked_at().isdisjoint((place, *also))
        case BackUp() | Save(member=None):
            return True
        case SetOrder() | SetMode() | SetDefault() | HeedConfig():
            return _live_only(change, device)
        case _:
            return False


def _live_only(change: SetOrder | SetMode | SetDefault | HeedConfig, device: Device) -> bool:
    """Whether a setting is changed of which a start reads the saved one, which is known."""
    boot = (
        next((one.boot for one in device.members or () if one.id == change.member), None) or Boot()
    )
    match change:
        case SetOrder():
            return boot.order.saved is not None
        case SetMode():
            return boot.mode.saved is not None
        case SetDefault():
            return boot.default_bank.saved is not None
        case _:
            return True  # no walk reads it


def worse(
    before: DeviceWalk,
    after: DeviceWalk,
    meant: Set[Place] = frozenset(),
) -> list[str]:
    """What is worse after than before, member by member, in words.

    >>> import msgspec
    >>> def walk(reload):
    ...     member = {"member": "1", "from": None, "outcome": reload, "boots": None}
    ...     known = {"running": None, "changes": None, "members_differ": None}
    ...     members = [{**member, "tried": [], "note": ""}]
    ...     whole = {"device": "sw", "next_boot": reload, **known, "members": members}
    ...     return msgspec.convert(whole, DeviceWalk)
    >>> worse(walk("proven"), walk("stranded"))
    ['the next boot changes from proven to stranded']
    >>> worse(walk("stranded"), walk("proven"))
    []
    """
    members = {each.member: each for each in after.members}
    several = len(before.members) > 1
    found = []
    for was in before.members:
        told = _worse(was, members[was.member], meant)
        if told:
            found.append(f"member {was.member}: {told}" if several else told)
    return found


def _worse(before: MemberWalk, after: MemberWalk, meant: Set[Place]) -> str:
    intended = after.boots is not None and after.boots.at in meant
    rank = RELOADS_WORST_FIRST.index
    if rank(after.outcome) < rank(before.outcome):
        return f"the next boot changes from {before.outcome} to {after.outcome}"
    if intended:
        return ""
    if before.boots is None or after.boots is None:
        return ""
    if _as_good(before.boots, after.boots):
        return ""
    return f"the next boot changes from {before.boots.place} to {after.boots.place}"


def _as_good(was: Started, now: Started) -> bool:
    """Whether a start is from the same place, or the other half of a pair that holds the same."""
    if (was.at, was.place) == (now.at, now.place) or (was.at == now.at is not None):
        return True
    halves = was.at is not None and now.at is not None and was.at.is_bank and now.at.is_bank
    same = was.version == now.version is not None and was.verdict == now.verdict == "proven"
    return bool(halves and same and was.at and now.at and was.at.member == now.at.member)

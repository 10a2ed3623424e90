"""The boot settings with which a member boots the image of its leg.

In a layout of files the order: the image, then its fallback, then what leads somewhere; in one of
banks the default; in a pair a trial that is scheduled once. What is saved is also live.
"""

from collections.abc import Iterator

from msgspec.structs import replace

from ovek.engine.bootwalk import cited_candidates, others_that_boot
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.paired import COMMITTED, TRIAL
from ovek.engine.plan.aim import Leg, fallback_of, runs_trial
from ovek.engine.plan.kinds import Changes
from ovek.engine.plan.situation import Situation
from ovek.engine.verdicts import JudgedMember
from ovek.model.change import (
    Change,
    HeedConfig,
    Save,
    SetDefault,
    SetMode,
    SetOnce,
    SetOrder,
)
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Boot, BootEntry, BootMode, Setting
from ovek.model.verdict import Image
from ovek.model.walk import BROKEN, GOES_ON, Candidate


def settings_of(now: Situation, one: JudgedMember, leg: Leg) -> tuple[Change, ...]:
    """The changes of boot settings with which a member boots the image of its leg; saved last."""
    boot, member = one.member.boot, one.member.id
    if boot is None:
        return ()
    layout = layout_of(now.judged)
    heed = (HeedConfig(member=member),) if boot.ignores_saved_config.effective else ()
    if leg.home is None or not leg.checked:
        return heed
    if layout.pair:
        return (*heed, *_pair_settings(now, one, leg, boot))
    if layout.holder == "banks":
        return (*heed, *_bank_settings(now, leg, boot))
    return (*heed, *_order_settings(now, one, leg, boot))


def _pair_settings(now: Situation, one: JudgedMember, leg: Leg, boot: Boot) -> Iterator[Change]:
    member, boots = one.member.id, now.walk_of(leg.member).boots
    trial = Place(BANK, TRIAL, member)
    at = boots.at if boots is not None else None
    if leg.home == trial and at != trial and not runs_trial(now, one):
        yield SetOnce(member=member, entry=BootEntry(place=f"{BANK}:{TRIAL}"))
    elif boot.once is not None and not _once_serves(now, leg):
        committed = one.banks.get(COMMITTED)
        if committed is not None and is_leg(committed, leg):
            yield SetOnce(member=member, entry=None)


def is_leg(image: Image, leg: Leg) -> bool:
    """Whether an image is that of a leg, proven."""
    proven = image.judgement.verdict == "proven"
    return proven and leg.release is not None and leg.release.same_bytes(image.judgement.release)


def _bank_settings(now: Situation, leg: Leg, boot: Boot) -> Iterator[Change]:
    assert leg.home is not None
    bank, default = leg.home.path, boot.default_bank
    if default.effective is None:
        return  # what it is now is not known
    saves = default.effective != bank
    live = default.live if default.live is not None else default.saved
    if live != bank and (saves or not _is_ahead(now, leg)):
        yield SetDefault(member=leg.member, bank=bank)
    if saves:
        yield Save(member=leg.member)
    if boot.once is not None and not _once_serves(now, leg):
        yield SetOnce(member=leg.member, entry=None)


def _order_settings(now: Situation, one: JudgedMember, leg: Leg, boot: Boot) -> Iterator[Change]:
    member, live, saved = one.member.id, boot.order.live, boot.order.effective
    if saved is None or _mode(now, boot) is None:
        return  # what it is now is not known
    wanted: tuple[BootEntry, ...] | None = saved
    if live is not None and live != saved and _is_good(now, one, leg, live):
        wanted = live
    elif wanted is None or not _is_good(now, one, leg, wanted):
        wanted = order_for(now, one, leg)
    save = wanted is not None and _keys(wanted) != _keys(saved)
    mode = boot.mode
    saves = save or _mode(now, boot) != "listed"
    if (
        wanted is not None
        and _keys(wanted) != _keys(live if live is not None else saved)
        and (saves or not _is_ahead(now, leg))
    ):
        yield SetOrder(member=member, entries=wanted)
    if _mode(now, boot) != "listed":
        save = True
        if (mode.live if mode.live is not None else mode.saved) != "listed":
            yield SetMode(member=member, mode="listed")
    elif mode.live not in (None, "listed") and not _pending(now, boot):
        yield SetMode(member=member, mode="listed")
    if save:
        yield Save(member=member)
    if boot.once is not None and not _once_serves(now, leg):
        yield SetOnce(member=member, entry=None)


def _once_serves(now: Situation, leg: Leg) -> bool:
    """Whether a one-time boot entry boots the image of the leg, and a reload is ahead to use it."""
    boots = now.walk_of(leg.member).boots
    return _is_ahead(now, leg) and boots is not None and boots.at == leg.home


def _is_ahead(now: Situation, leg: Leg) -> bool:
    """Whether a reload is ahead, which makes the saved settings the live ones."""
    running = now.runs_on(leg.member).version
    return None not in (running, leg.version) and running != leg.version


def _mode(now: Situation, boot: Boot) -> BootMode | None:
    """The boot mode that the next boot reads; that of the sheet where there is no such setting."""
    mode = boot.mode.effective
    asks = now.judged.judge.asks
    if mode is not None or "boot.mode.saved" in asks or "boot.mode.live" in asks:
        return mode
    return now.judged.judge.sheet.boot.mode


def _pending(now: Situation, boot: Boot) -> bool:
    """Whether a saved mode differs on purpose: nothing is unsaved, and no order differs."""
    config = now.judged.device.config
    if config is None or config.unsaved_changes is not False:
        return False
    return None in (boot.order.live, boot.order.saved) or (
        _keys(boot.order.live) == _keys(boot.order.saved)
    )


def _keys(order: tuple[BootEntry, ...] | None) -> tuple[str, ...] | None:
    return None if order is None else tuple(each.shown for each in order)


def located(now: Situation, member: JudgedMember, entry: BootEntry) -> Place | None:
    """Where the image of an entry lies, with the member in front."""
    return None if entry.at is None else now.judged.located(entry.at, member.member.id)


def _is_good(now: Situation, member: JudgedMember, leg: Leg, order: tuple[BootEntry, ...]) -> bool:
    """Whether an order is as it should be: the image first, then only what leads somewhere."""
    if not order or located(now, member, order[0]) != leg.home:
        return False
    kept = kept_entries(now, member, order)
    if _keys(kept) != _keys(order):
        return False
    if now.policy.keep < 2 or len(kept) > 1 or now.is_accepted("no-fallback"):
        return True
    if fallback_of(now, member, leg) is None:
        return True
    if _mode(now, member.member.boot or Boot()) != "listed":  # it will be: what boots then counts
        return now.judged.judge.sheet.boot.fallback == "first-found"
    return others_that_boot(now.judged, member, now.walk_of(member.member.id))


def kept_entries(
    now: Situation, member: JudgedMember, order: tuple[BootEntry, ...]
) -> tuple[BootEntry, ...]:
    """The entries of an order that lead somewhere, each once."""
    found, seen = list[BootEntry](), set[object]()
    for entry, candidate in _tried(now, member, order):
        key: object = candidate.at if candidate.at is not None else entry
        bad = candidate.result in GOES_ON or candidate.result in BROKEN
        if key not in seen and not bad:
            seen.add(key)
            found.append(entry)
    return tuple(found)


def _tried(
    now: Situation, one: JudgedMember, order: tuple[BootEntry, ...]
) -> Iterator[tuple[BootEntry, Candidate]]:
    """Each entry of an order with what comes of it."""
    boot = one.member.boot or Boot()
    there = replace(boot, order=Setting(live=order, saved=order), once=None)
    same = replace(one, member=replace(one.member, boot=there))
    walk = now.walk_of(one.member.id)
    candidates = [c for c in cited_candidates(now.judged, same, walk) if c.origin == "order"]
    yield from zip(order, candidates, strict=True)


def order_for(now: Situation, member: JudgedMember, leg: Leg) -> tuple[BootEntry, ...] | None:
    """The order with the image of a leg first, then its fallback, then what leads somewhere."""
    if leg.home is None:
        return None
    current = current_order(member)
    places, entries = list[Place](), list[BootEntry]()
    back = fallback_of(now, member, leg) if now.policy.keep > 1 else None
    for place in (leg.home, back.place.on(member.member.id) if back is not None else None):
        if place is not None:
            places.append(place)
            entries.append(_entry(member, place, current))
    for entry in kept_entries(now, member, current):
        if located(now, member, entry) not in places:
            entries.append(entry)
    return tuple(entries)


def _entry(one: JudgedMember, place: Place, order: tuple[BootEntry, ...]) -> BootEntry:
    """The entry for a place, as the order writes it where it names it already."""
    member = one.member.id
    for entry in order:
        named = entry.at
        if named is not None and named.on(named.member or member) == place:
            return entry
    return BootEntry(place=str(place.on(None if place.member == member else place.member)))


def current_order(member: JudgedMember) -> tuple[BootEntry, ...]:
    """The boot order that the next boot reads; empty where it is not known."""
    return (member.member.boot or Boot()).order.effective or ()


def ordered(one: JudgedMember, entries: tuple[BootEntry, ...]) -> Changes:
    """Set and save a boot order, as far as it is not so already."""
    boot, changes = one.member.boot or Boot(), list[Change]()
    live = boot.order.live if boot.order.live is not None else boot.order.saved
    if not entries:
        return ()
    if live != entries:
        changes.append(SetOrder(member=one.member.id, entries=entries))
    if boot.order.saved != entries:
        changes.append(Save(member=one.member.id))
    return tuple(changes)

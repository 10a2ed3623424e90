"""Moves that change boot settings, and save them.

In a layout of files: save the live settings, or go back to the saved ones; correct entries to the
nearest real name; take out what starts nothing; put an image first, or behind the others; order the
newest first; follow the order. In one of banks: another default. In a pair: try the trial, or give
it up. In each: take back what is set for one start, and heed the saved configuration.
"""

from collections.abc import Iterator, Sequence
from functools import cmp_to_key
from typing import Any, TypeVar

from ovek.engine.bootwalk import cited_candidates, rescue
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.paired import TRIAL
from ovek.engine.moves import About, Move, Situation, for_each
from ovek.engine.nearest import nearest_of
from ovek.engine.runs import runs_of
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
from ovek.model.place import BANK, Place, parse_place
from ovek.model.snapshot import Boot, BootEntry, BootMode, Setting
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare
from ovek.model.walk import BROKEN, GOES_ON, Candidate

T = TypeVar("T")
Order = tuple[BootEntry, ...]
_MOST = 4  # images that an order is tried with


def settings(situation: Situation, about: About) -> Iterator[Move]:
    """Every sitting at the boot settings that may matter, the plainest first."""
    return for_each(about, lambda member: _of_member(situation, situation.member(member), about))


def unname(situation: Situation, about: About) -> Iterator[Move]:
    """Take out of the order what starts nothing, or what the goal names, so that it may go."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        one = situation.member(member)
        boot = one.member.boot or Boot()
        if layout_of(situation.judged.judge.sheet.start.layout).holder != "files":
            return
        for label, entries in _shorter(situation, one, about, effective(boot.order) or ()):
            if entries:
                yield label, _move(situation, one, entries=entries)

    return for_each(about, of_member)


def heed(situation: Situation, about: About) -> Iterator[Move]:
    """Have the next start read the saved configuration again."""

    def of_member(member: str) -> Iterator[tuple[str, Move]]:
        boot = situation.member(member).member.boot or Boot()
        if effective(boot.ignores_saved_config):
            yield "heed", Move(_edited(boot, member, heeds=True))

    return for_each(about, of_member)


def effective(setting: Setting[T]) -> T | None:
    """What the next start reads; the live value where the saved one is not known."""
    return setting.saved if setting.saved is not None else setting.live


def _of_member(situation: Situation, one: JudgedMember, about: About) -> Iterator[tuple[str, Move]]:
    boot = one.member.boot
    if boot is None:
        return
    layout = layout_of(situation.judged.judge.sheet.start.layout)
    yield "as-live", _move(situation, one)
    if layout.pair:
        yield from _of_pair(one, boot)
    elif layout.holder == "banks":
        yield from _of_banks(situation, one, boot)
    else:
        yield from _of_files(situation, one, about, boot)


def _of_pair(one: JudgedMember, boot: Boot) -> Iterator[tuple[str, Move]]:
    member = one.member.id
    if boot.once is not None:
        yield "give-up", Move((SetOnce(member=member, entry=None),))
    elif one.member.bank(TRIAL) is not None:
        at = Place(BANK, TRIAL, member)
        entry = BootEntry(place=f"{BANK}:{TRIAL}")
        yield "try", Move((SetOnce(member=member, entry=entry),), frozenset({at}))


def _of_banks(situation: Situation, one: JudgedMember, boot: Boot) -> Iterator[tuple[str, Move]]:
    if boot.default_bank.saved is not None:
        yield "as-saved", _move(situation, one, default=boot.default_bank.saved)
    for label, place in _able(situation, one):
        if place.is_bank:
            yield label, _move(situation, one, default=place.path)
            if boot.once is not None:
                yield f"{label}, only", _move(situation, one, default=place.path, only=True)
    if boot.once is not None:
        yield "only", _move(situation, one, only=True)


def _of_files(
    situation: Situation, one: JudgedMember, about: About, boot: Boot
) -> Iterator[tuple[str, Move]]:
    order, saved = effective(boot.order), boot.order.saved
    if saved is not None and boot.order.live is not None:
        yield "as-saved", _move(situation, one, entries=saved, mode=boot.mode.saved)
    orders = [each for each in _orders(situation, one, about, order or ()) if each[1]]
    mode = effective(boot.mode) or situation.judged.judge.sheet.start.mode
    modes: list[BootMode | None] = [None] if mode in (None, "listed") else [None, "listed"]
    if order is not None and mode not in (None, "listed"):
        yield "listed", _move(situation, one, mode="listed")
    if boot.once is not None:
        yield "only", _move(situation, one, only=True)
    for each in modes:
        for label, entries in orders:
            yield f"{label}, {each}", _move(situation, one, entries=entries, mode=each)
            if boot.once is not None:
                only = _move(situation, one, entries=entries, mode=each, only=True)
                yield f"{label}, {each}, only", only


def _at(situation: Situation, one: JudgedMember, entry: BootEntry) -> Place | None:
    """Where an entry's image lies, with the member in front."""
    if entry.place is None:
        return None
    return situation.judged.located(parse_place(entry.place), one.member.id)


def _orders(
    situation: Situation, one: JudgedMember, about: About, order: Order
) -> Iterator[tuple[str, Order]]:
    """Boot orders that may be better than the one there is."""
    cited = _cited(situation, one, order)
    (_, clean), (_, without) = _shorter(situation, one, about, order)
    yield "correct", _once_each(tuple(_corrected(situation, one, *each) for each in cited))
    yield "clean", clean
    yield "without", without
    able = [(label, _entry(place)) for label, place in _able(situation, one) if not place.is_bank]
    for label, entry in able:
        yield f"first {label}", (entry, *_without(clean, entry))
    for label, entry in able:
        yield f"last {label}", (*_without(clean, entry), entry)
    for label, entry in able:
        yield f"among {label}", (entry, *_without(order, entry))
    yield "newest", _newest_first(situation, one, clean)


def _shorter(
    situation: Situation, one: JudgedMember, about: About, order: Order
) -> tuple[tuple[str, Order], tuple[str, Order]]:
    """An order without what starts nothing or is there twice; and without what the goal names."""
    cited = _cited(situation, one, order)
    clean = _once_each(tuple(entry for entry, candidate in cited if _good(candidate)))
    named = {place.on(one.member.id) for place in about.places}
    without = tuple(entry for entry in clean if _at(situation, one, entry) not in named)
    return ("clean", clean), ("without", without)


def _cited(
    situation: Situation, one: JudgedMember, order: Order
) -> list[tuple[BootEntry, Candidate]]:
    """Each entry of the order that counts, and what comes of it."""
    walk = situation.walk_of(one.member.id)
    cited = [c for c in cited_candidates(situation.judged, one, walk) if c.origin == "order"]
    return list(zip(order, cited, strict=True)) if len(cited) == len(order) else []


def _good(candidate: Candidate) -> bool:
    return candidate.result not in GOES_ON and candidate.result not in BROKEN


def _once_each(order: Order) -> Order:
    """An order without what it names again."""
    return tuple({_key(entry): entry for entry in reversed(order)}.values())[::-1]


def _key(entry: BootEntry) -> str:
    return entry.place or entry.remote or entry.raw or ""


def _without(order: Order, entry: BootEntry) -> Order:
    return tuple(each for each in order if _key(each) != _key(entry))


def _entry(place: Place) -> BootEntry:
    return BootEntry(place=str(place.on(None)))


def _corrected(
    situation: Situation, one: JudgedMember, entry: BootEntry, candidate: Candidate
) -> BootEntry:
    """An entry by the name that was meant, where it names nothing and one is near."""
    if entry.place is None or candidate.result not in GOES_ON:
        return entry
    place = parse_place(entry.place)
    able = [each for _, each in _able(situation, one, most=None) if not each.is_bank]
    for each in able:
        if each.path == place.path:  # only the volume is another
            return _entry(each)
    there = {each.path: each for each in able if each.volume == place.volume}
    near = nearest_of(place.path, sorted(there))
    return entry if near is None else _entry(there[near[0]])


def _newest_first(situation: Situation, one: JudgedMember, order: Order) -> Order:
    scheme = situation.judged.judge.sheet.versions.pattern

    def version(entry: BootEntry) -> str:
        if entry.place is None:
            return ""
        place = situation.judged.located(parse_place(entry.place), one.member.id)
        image = situation.judged.image(place)
        return (image.version if image is not None else None) or ""

    def later_first(one: BootEntry, other: BootEntry) -> int:
        return compare(version(other), version(one), scheme) or 0

    return tuple(sorted(order, key=cmp_to_key(later_first)))


def _able(
    situation: Situation, one: JudgedMember, most: int | None = _MOST
) -> list[tuple[str, Place]]:
    """What could be started: the image that is wanted, what runs, then the best proven.

    Each with a label that is the same on every member.
    """
    member, goal = one.member.id, situation.wanted.goal
    runs = next(each for each in runs_of(situation.judged) if each.member == member)
    able = [
        each.at
        for each in rescue(situation.judged, one)
        if each.at is not None and _stays(situation, one, each.at)
    ]
    images = {at: situation.judged.image(at) for at in able}
    wanted = [at for at, image in images.items() if image and _is(image, goal)]
    running = [at for at in able if at in runs.places]
    found: dict[str, Place] = {}
    for label, places in (("wanted", wanted if goal is not None else []), ("running", running)):
        for at in places[:1]:
            if at not in found.values():
                found[label] = at
    for number, at in enumerate(at for at in able if at not in set(found.values())):
        found[f"{number}"] = at
    return list(found.items())[:most]


def _is(image: Image, goal: KnownRelease | None) -> bool:
    """Whether an image is the one that is wanted."""
    return goal is not None and goal.same_bytes(image.judgement.release)


def _stays(situation: Situation, one: JudgedMember, place: Place) -> bool:
    """Whether a device may be left to boot from a place: not from what can be pulled."""
    volume = None if place.is_bank else one.member.volume(place.volume)
    removable = volume is not None and volume.removable is True
    return not removable or situation.policy.boot_from_removable


def _move(
    situation: Situation,
    one: JudgedMember,
    *,
    entries: Order | None = None,
    mode: BootMode | None = None,
    default: str | None = None,
    only: bool = False,
) -> Move:
    """What is to be set and is not so yet, then save; `only` takes back the once entry."""
    boot, member = one.member.boot or Boot(), one.member.id
    changes = _edited(boot, member, entries=entries, mode=mode, default=default, only=only)
    meant = set[Place]()
    order = entries if entries is not None else boot.order.live or boot.order.saved
    for entry in (order or ())[:1]:
        if entry.place is not None:
            meant.add(situation.judged.located(parse_place(entry.place), member))
    bank = default or boot.default_bank.live or boot.default_bank.saved
    if bank is not None:
        meant.add(Place(BANK, bank, member))
    return Move(changes, frozenset(meant))


def _edited(
    boot: Boot,
    member: str,
    *,
    entries: Order | None = None,
    mode: BootMode | None = None,
    default: str | None = None,
    only: bool = False,
    heeds: bool = False,
) -> tuple[Change, ...]:
    rows: tuple[tuple[Setting[Any], object, Change], ...] = (
        (boot.order, entries, SetOrder(member=member, entries=entries or ())),
        (boot.mode, mode, SetMode(member=member, mode=mode or "listed")),
        (boot.default_bank, default, SetDefault(member=member, bank=default or "")),
        (boot.ignores_saved_config, False if heeds else None, HeedConfig(member=member)),
    )
    changes, save = list[Change](), False
    for setting, wanted, change in rows:
        now = setting.live if setting.live is not None else setting.saved
        if wanted is not None and _told(wanted) != _told(now):
            changes.append(change)
            now = wanted
        save = save or _told(now) != _told(setting.saved)
    if save:
        changes.append(Save(member=member))
    if only and boot.once is not None:
        changes.append(SetOnce(member=member, entry=None))
    return tuple(changes)


def _told(value: object) -> object:
    return _names(value) if isinstance(value, tuple) else value


def _names(order: Sequence[BootEntry] | None) -> tuple[str, ...] | None:
    return None if order is None else tuple(map(_key, order))

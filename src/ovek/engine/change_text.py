"""Changes in words, and as the list that results tell."""

from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from ovek.engine.changes import NO_RATES, Rates, seconds
from ovek.engine.replay import ReplayStage
from ovek.model.change import (
    BackUp,
    BootByHand,
    Change,
    CheckDigest,
    Commit,
    Copy,
    CopyBank,
    Delete,
    HeedConfig,
    LoadComponent,
    NewContent,
    Reload,
    Save,
    SetComponent,
    SetDefault,
    SetMode,
    SetOnce,
    SetOrder,
    WriteBank,
)
from ovek.model.digest import STRONGEST_FIRST, TITLES, Algorithm, Digests
from ovek.model.do import Do
from ovek.model.place import Place
from ovek.model.plain_word import is_plain
from ovek.model.sheet import Sheet, Worded
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device
from ovek.model.walk import DeviceWalk

_MANY = 8  # changes that a sentence tells; of more it tells the first ones
MODES = {
    "listed": "follow the boot order",
    "first-found": "take the first image found",
    "hold": "stop in the loader",
}


def told(dos: Sequence[Do]) -> str:
    """A list of changes as one sentence."""
    parts = list[str]()
    for at, one in enumerate(dos):
        before = dos[at - 1] if at else None
        parts.append(_words(one, before))
    if len(parts) > _MANY:
        left = len(parts) - _MANY + 1
        parts = [*parts[: _MANY - 1], f"{left} more steps"]
    text = ", ".join(parts[:-1]) + (", then " if len(parts) > 1 else "") + parts[-1]
    harm = [number for number, one in enumerate(dos, 1) if one.harm]
    if harm:
        first, last = harm[0], harm[-1]
        which = f"step {first}" if first == last else f"steps {first} to {last}"
        text += f"; DANGER in {which} if the power fails: {dos[first - 1].harm[0]}"
    return text[:1].upper() + text[1:]


def words_of(do: Do) -> str:
    """One change by itself, in words."""
    text = _words(do, None)
    return text[:1].upper() + text[1:]


def _slotted(do: Do) -> str:
    """A component in words, with its slot where there are several."""
    return (do.component or "") + (f" in slot {do.slot}" if do.slot else "")


def _words(do: Do, before: Do | None) -> str:
    """One change in words; `before` is what was said last, so that it is not said again."""
    of = f" of member {do.member}" if do.member is not None else ""
    at = do.place
    match do.change:
        case "check-digest":
            assert do.algorithm is not None
            if (
                before is not None
                and before.change in ("copy", "write-bank")
                and do.place in (before.place, f"bank:{before.bank}")
            ):
                return f"verify its {TITLES[do.algorithm]}"
            return f"verify the {TITLES[do.algorithm]} of {at} on the device"
        case "back-up":
            return f"back up {at}" if at is not None else "back up the configuration"
        case "delete":
            more = f" and the {len(do.also)} files of its set" if do.also else ""
            return f"delete {at}{more}"
        case "copy":
            where = at.removesuffix(do.image or "") if at is not None else None
            shelf = f" (on the shelf: {do.from_})" if do.from_ is not None else ""
            source = do.source if do.source is not None else f"{do.image}{shelf}"
            return f"copy {source} to {where}"
        case "write-bank":
            return f"write {do.image} to bank {do.bank}{of}"
        case "copy-bank":
            return f"copy bank {do.source} over bank {do.bank}{of}"
        case "load-component":
            return f"install firmware {do.version} ({do.image}) on the {_slotted(do)}{of}"
        case "set-component":
            return f"set the {_slotted(do)}{of} to load from {at} at the next reload"
        case "boot-by-hand":
            more = f" ({', '.join(do.also)} on the other members)" if do.also else ""
            return f"boot from {at} by hand, at the boot loader{more}"
        case "set-order":
            return f"set the boot order{of} to {', '.join(do.order or ()) or 'nothing'}"
        case "set-mode":
            return f"set the boot mode{of} to {MODES[do.mode or 'listed']}"
        case "set-default":
            return f"set the default bank{of} to {do.bank}"
        case "set-once":
            if do.place is None:
                return f"clear the one-time boot entry{of}"
            return f"set the one-time boot entry{of} to {do.place}"
        case "heed-config":
            return f"set the next boot{of} to read the saved configuration"
        case "save":
            return "save the configuration" if do.config else f"save the boot settings{of}"
        case "commit":
            return f"commit the trial{of}"
        case "reload":
            return "reload in a maintenance window"
        case _:
            return do.change


def dos_of(
    stages: Iterable[ReplayStage],
    device: Device,
    sheet: Sheet,
    shelf: ShelfFacts | None = None,
    rates: Rates = NO_RATES,
) -> tuple[Do, ...]:
    """Changes that were tried out as a list, with how the device stands after each."""
    found = list[Do]()
    several = len(device.members or ()) > 1
    for number, stage in enumerate(stages, 1):
        do = do_of(stage, device, sheet, several=several, rates=rates, shelf=shelf)
        found.append(replace(do, number=number))
        device = stage.device
    return tuple(found)


def do_of(
    stage: ReplayStage,
    device: Device,
    sheet: Sheet,
    *,
    several: bool,
    rates: Rates = NO_RATES,
    shelf: ShelfFacts | None = None,
) -> Do:
    """One change of a replay, of a device as it was before it."""
    change = stage.change
    takes = seconds(change, device, sheet, rates)
    lines, by_hand = lines_of(change, sheet)
    do = replace(
        _about(change, several=several),
        lines=lines,
        by_hand=by_hand,
        next_boot=stage.walk.next_boot,
        boots=starts_of(stage.walk),
        harm=tuple(dict.fromkeys((*stage.halfway, *stage.harm))),
        minutes=None if takes is None else -(-takes // 60),
    )
    match change:
        case Delete(tier=tier, why=why):
            do = replace(do, tier=tier, why=why, frees=_freed(device, stage.device, change))
        case Copy(content=content, source=None) | WriteBank(content=content):
            do = replace(do, from_=_on_shelf(content, shelf))
        case _:
            pass
    return replace(do, words=words_of(do))


def _freed(before: Device, after: Device, change: Delete) -> int | None:
    """The bytes that a deletion frees on the volume that it is about."""
    free = list[int | None]()
    for device in (before, after):
        member = next(one for one in device.members or () if one.id == change.place.member)
        volume = member.volume(change.place.volume)
        free.append(volume.free if volume is not None else None)
    was, now = free
    return None if was is None or now is None else now - was


def _on_shelf(content: NewContent, shelf: ShelfFacts | None) -> str | None:
    """Where the shelf has a proven copy of an image, by its bytes."""
    if shelf is None or content.release is None:
        return None
    for name in STRONGEST_FIRST:
        for digest in sorted(content.release.digests.get(name, ())):
            if digest in shelf.where:
                return shelf.where[digest]
    return None


def starts_of(walk: DeviceWalk) -> str | None:
    """What starts next, where all members start the same version."""
    found = dict.fromkeys(
        (each.boots.version or each.boots.place) if each.boots is not None else None
        for each in walk.members
    )
    if len(walk.members) == 1 and walk.members[0].boots is not None:
        boots = walk.members[0].boots
        return f"{boots.version} from {boots.place}" if boots.version else boots.place
    return " / ".join(each or "nothing" for each in found) if any(found) else None


def _shown(place: Place, *, several: bool) -> str:
    return str(place if several else place.on(None))


def _read(digests: Digests) -> tuple[Algorithm, str]:
    """The strongest of some digests."""
    known = dict(digests)
    name = next(each for each in STRONGEST_FIRST if each in known)
    return name, known[name]


def _about(change: Change, *, several: bool) -> Do:
    """What a change is about."""

    def shown(place: Place) -> str:
        return _shown(place, several=several)

    match change:
        case CheckDigest(place=place, digests=digests):
            name, digest = _read(digests)
            return Do(change="check-digest", place=shown(place), algorithm=name, digest=digest)
        case BackUp(place=place):
            return Do(change="back-up", place=None if place is None else shown(place))
        case Delete(place=place, also=also):
            return Do(change="delete", place=shown(place), also=tuple(map(shown, also)))
        case Copy(place=place, content=content, bank=bank, source=source):
            return Do(
                change="copy", place=shown(place), bank=bank, image=content.name,
                version=content.version, source=None if source is None else shown(source),
            )  # fmt: skip
        case SetComponent(member=member, component=component, slot=slot, place=place):
            return Do(
                change="set-component", member=member if several else None, component=component,
                slot=slot, place=shown(place),
            )  # fmt: skip
        case BootByHand(places=places):
            return Do(
                change="boot-by-hand", place=shown(places[0]), also=tuple(map(shown, places[1:]))
            )
        case WriteBank(member=member, bank=bank, content=content):
            return Do(
                change="write-bank", member=member if several else None, bank=bank,
                image=content.name, version=content.version,
            )  # fmt: skip
        case CopyBank(member=member, source=source, bank=bank):
            return Do(
                change="copy-bank", member=member if several else None, source=source, bank=bank
            )
        case LoadComponent(
            member=member, component=component, slot=slot, version=version, image=image
        ):
            return Do(
                change="load-component", member=member if several else None,
                component=component, slot=slot,
                version=version, image=image,
            )  # fmt: skip
        case _:
            return _setting(change, several=several)


def _setting(change: Change, *, several: bool) -> Do:
    """What a change of settings, or of the device as a whole, is about."""
    member = getattr(change, "member", None) if several else None
    match change:
        case SetOrder(entries=entries):
            order = tuple(each.shown for each in entries)
            return Do(change="set-order", member=member, order=order)
        case SetMode(mode=mode):
            return Do(change="set-mode", member=member, mode=mode)
        case SetDefault(bank=bank):
            return Do(change="set-default", member=member, bank=bank)
        case SetOnce(entry=entry):
            place = None if entry is None else entry.shown
            return Do(change="set-once", member=member, place=place)
        case HeedConfig():
            return Do(change="heed-config", member=member)
        case Save():
            return Do(change="save", member=member, config=change.member is None)
        case Commit():
            return Do(change="commit", member=member)
        case Reload():
            return Do(change="reload")
        case _:
            raise ValueError(f"no person does {change}")


def lines_of(change: Change, sheet: Sheet) -> tuple[tuple[str, ...], bool]:
    """The lines to type for a change, and whether a name in them is not safe to type."""
    lines = list[str]()
    for kind, words in _typed(change, sheet):
        line = sheet.worded(kind, words)
        if line is None:
            return (), False
        lines.append(line)
        names = [word for name, word in words.items() if name != "order"]
        if isinstance(change, SetOrder):  # each by itself: a blank in one would make two of it
            names += (each.shown for each in change.entries)
        if not all(map(is_plain, filter(None, names))):
            return (), True
    return tuple(lines), False


def _typed(change: Change, sheet: Sheet) -> Iterator[tuple[Worded, dict[str, str]]]:
    """What the sheet is asked to word for a change, and with which words."""
    words: dict[str, str] = {}
    match change:
        case CheckDigest(place=place, digests=digests):
            name, digest = _read(digests)
            words = {**_at(place), "algorithm": name, "digest": digest}
            yield ("check-bank" if place.is_bank else "check-digest"), words
        case BackUp(place=place):
            yield ("back-up-config", {}) if place is None else ("back-up", _at(place))
        case Delete(place=place, also=also):
            for each in (place, *also):
                yield "delete", _at(each)
        case Copy(place=place, content=content, source=source) if source is not None:
            yield (
                "copy-within",
                {**_at(place), "source": str(source.on(None)), "file": content.name},
            )
        case Copy(place=place, content=content, bank=bank):
            yield "copy", {**_at(place), "file": content.name, "bank": bank or ""}
        case WriteBank(member=member, bank=bank, content=content):
            yield "write-bank", {"member": member, "bank": bank, "file": content.name}
        case CopyBank(member=member, source=source, bank=bank):
            yield "copy-bank", {"member": member, "source": source, "bank": bank}
        case LoadComponent(
            member=member, component=component, slot=slot, version=version, image=image
        ):
            words = {
                "member": member, "component": component, "slot": slot or "", "version": version,
            }  # fmt: skip
            yield "load-component", {**words, "file": image or ""}
        case SetComponent(member=member, component=component, slot=slot, place=place):
            words = {**_at(place), "member": member, "component": component, "slot": slot or ""}
            yield "set-component", words
        case BootByHand(places=places):
            for place in places:
                yield "boot-by-hand", _at(place)
        case SetOrder(member=member, entries=entries):
            yield "set-order", {"member": member, "order": " ".join(each.shown for each in entries)}
        case SetMode(member=member, mode=mode):
            yield "set-mode", {"member": member, "mode": sheet.mode_word(mode)}
        case SetDefault(member=member, bank=bank):
            kind: Worded = "set-default" if "set-default" in sheet.wording else "set-boot"
            yield kind, {"member": member, "bank": bank}
        case SetOnce(member=member, entry=None):
            yield "clear-once", {"member": member}
        case SetOnce(member=member, entry=entry) if entry is not None:
            at = _at(entry.at) if entry.at is not None else {}
            kind = "set-once" if "set-once" in sheet.wording else "set-boot"
            yield kind, {**at, "member": member}
        case Save(member=None):
            yield ("save-config" if "save-config" in sheet.wording else "save"), {}
        case HeedConfig(member=member) | Save(member=member) | Commit(member=member):
            yield _KINDS[type(change)], {"member": member or ""}
        case _:
            yield "reload", {}


_KINDS: dict[type, Worded] = {HeedConfig: "heed-config", Save: "save", Commit: "commit"}


def _at(place: Place) -> dict[str, str]:
    """The words for a place."""
    if place.is_bank:
        return {"member": place.member or "", "bank": place.path}
    return {"member": place.member or "", "volume": place.volume, "path": place.path}

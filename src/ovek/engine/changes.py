"""Every pure edit of a device: what a person does to it, and what may befall it.

A change says what it needs (`refusal`), what it does (`effect`), what a power failure in its middle
leaves (`middle`), how long it takes (`seconds`) and what undoes it (`undoing`):

| change | does | in its middle |
| --- | --- | --- |
| check-digest, back-up | brings knowledge, or a copy off the device | nothing |
| delete | a file goes, and its set with it | of a set, only its set file is gone |
| copy | a file comes, over one of its name | a file cut short |
| write-bank, copy-bank | a bank holds an image | a bad bank |
| load-component | a component has other firmware | it has none that is known |
| set-order, set-mode, set-default | the live setting is another | nothing |
| set-once, set-component, heed-config | the next boot does otherwise, saved or not | nothing |
| save | the live settings are the saved ones | nothing |
| commit | the committed directory holds what the trial does | a committed directory cut short |
| reload, boot-by-hand | what the walk, or a person, boots is what runs | nothing: it is off |
| lose, spoil | a volume or bank is gone; a file has other bytes | nothing |

Names that a volume does not tell apart are one name. An effect never fails: what is not there is
not changed, and `refusal` is how to know beforehand.
"""

from collections.abc import Callable, Iterator
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.layouts.paired import COMMITTED, TRIAL
from ovek.engine.verdicts import find_file
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
    Lose,
    NewContent,
    Reload,
    Save,
    SetComponent,
    SetDefault,
    SetMode,
    SetOnce,
    SetOrder,
    Spoil,
    WriteBank,
)
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.sheet import Sheet
from ovek.model.snapshot import (
    Bank,
    Boot,
    Config,
    Device,
    File,
    Member,
    Running,
    Setting,
    Volume,
)
from ovek.model.verdict import KnownRelease
from ovek.model.walk import DeviceWalk

T = TypeVar("T")


def content_of(release: KnownRelease) -> NewContent:
    """The bytes of a release, with the digests on which its sources agree."""
    known = {name: min(values) for name, values in release.digests.items()}
    agreed = {name: value for name, value in known.items() if name not in release.disputed}
    return NewContent(
        name=release.file,
        size=max(release.sizes, default=None),
        digests=Digests(**agreed),
        version=release.version,
        variant=release.variant,
        release=release,
    )


def effect(device: Device, change: Change, sheet: Sheet, walk: DeviceWalk | None = None) -> Device:
    """The device once a change is done; `walk` is what boots, which a reload needs."""
    match change:
        case Delete(place=place, also=also):
            for each in (place, *also):
                device = _deleted(device, each, sheet)
            return device
        case Copy(place=place, content=content):
            file = File(path=place.path, size=content.size, digests=content.digests)
            copied = _on_volume(device, place, lambda volume: _with(volume, file, sheet))
            return _pointed(copied, change)
        case WriteBank(member=member, bank=name, content=content):
            return _on_bank(device, member, name, lambda _: _written(name, content))
        case CopyBank(member=member, source=source, bank=name):
            held = _member(device, member).bank(source)
            copy = None if held is None else replace(held, name=name)
            return _on_bank(device, member, name, lambda bank: copy or bank)
        case LoadComponent(member=member, component=name, version=version, slot=slot):
            return _on_member(device, member, lambda one: _with_component(one, name, slot, version))
        case SetComponent(member=member, component=name, slot=slot, place=place):
            source = str(place.on(None if place.member == member else place.member))
            return _on_member(device, member, lambda one: _loading(one, name, slot, source))
        case CheckDigest(place=place, digests=digests):
            return _with_digests(device, place, digests)
        case Commit(member=member):
            return _on_member(device, member, lambda one: _committed(one, sheet, half=False))
        case Reload() | BootByHand():
            return _reloaded(device, walk)
        case Lose(place=place):
            return _lost(device, place)
        case Spoil(place=place):
            return _with_digests(device, place, None)
        case BackUp():
            return device if change.place is not None else _backed_up(device)
        case Save(member=None):
            return _config_saved(device)
        case _:
            return _on_member(device, change.member or "", lambda one: _set(one, change))


def middle(device: Device, change: Change, sheet: Sheet) -> Device | None:
    """The device after a power failure in the middle of a change; None where there is no middle."""
    match change:
        case Copy(place=place, content=content):
            cut = max((content.size or 1) - 1, 0)
            half = File(path=place.path, size=cut)
            copied = _on_volume(device, place, lambda volume: _with(volume, half, sheet))
            return _pointed(copied, change)
        case WriteBank(member=member, bank=name) | CopyBank(member=member, bank=name):
            return _on_bank(device, member, name, lambda _: Bank(name=name, state="bad"))
        case Delete(place=place, also=also) if also:
            return _deleted(device, place, sheet)
        case LoadComponent(member=member, component=name, slot=slot):
            return _on_member(device, member, lambda one: _with_component(one, name, slot, None))
        case Commit(member=member):
            return _on_member(device, member, lambda one: _committed(one, sheet, half=True))
        case _:
            return None


def refusal(device: Device, change: Change, sheet: Sheet) -> str:
    """Why a change cannot be done on a device; empty where it can."""
    match change:
        case Delete(place=place) | CheckDigest(place=place) | Spoil(place=place):
            one = next((m for m in device.members or () if m.id == place.member), None)
            there = one is not None and (
                one.bank(place.path) if place.is_bank else find_file(place.on(None), one)
            )
            return "" if there else f"{place} does not exist"
        case Copy(place=place, content=content):
            return _no_room(device, place, content, sheet)
        case WriteBank(member=member, bank=name):
            return _no_bank(device, member, name) or _runs_bank(device, member, name)
        case CopyBank(member=member, source=source, bank=name):
            missing = _no_bank(device, member, source) or _no_bank(device, member, name)
            return missing or _runs_bank(device, member, name)
        case Commit(member=member):
            missing = _no_bank(device, member, TRIAL) or _no_bank(device, member, COMMITTED)
            return missing or _no_space_to_commit(_member(device, member), sheet)
        case BootByHand():
            return "" if device.at == "boot-loader" else "the member is not at its boot loader"
        case SetDefault(member=member, bank=name):
            return _no_bank(device, member, name)
        case _:
            return ""


class Rates(Struct, frozen=True):
    """What is known of one device beside its sheet, in bytes a second.

    `link` is the rate of the way there, `digest` that at which it worked out digests lately.
    """

    link: int | None = None
    digest: int | None = None


NO_RATES = Rates()


def seconds(change: Change, device: Device, sheet: Sheet, rates: Rates = NO_RATES) -> int | None:
    """How long a change takes, by the sizes and rates; None is not known.

    Of the rates of the sheet and of the way there, the slower counts; what was measured counts
    before what the sheet says.
    """
    size: int | None = None
    known = [each for each in (sheet.capacity.transfer_rate, rates.link) if each is not None]
    rate = min(known, default=None)
    digesting = rates.digest or sheet.capacity.digest_rate
    match change:
        case Copy(content=content) | WriteBank(content=content):
            size = content.size
        case BackUp(size=told):
            size = told
        case CheckDigest(place=place):
            one = next((m for m in device.members or () if m.id == place.member), None)
            file = None if one is None or place.is_bank else find_file(place.on(None), one)
            size, rate = file.size if file is not None else None, digesting
        case CopyBank(member=member, source=source):
            held = _member(device, member).bank(source)
            size, rate = held.size if held is not None else None, sheet.capacity.transfer_rate
        case LoadComponent(minutes=minutes) | Reload(minutes=minutes):
            return None if minutes is None else 60 * minutes
        case Commit() | Lose() | Spoil() | BootByHand():
            return None
        case _:
            return 0
    return None if size is None or rate is None else -(-size // rate)


def undoing(change: Change, device: Device) -> tuple[Change, ...]:
    """The changes that undo one, as the device was before it; none where nothing can."""
    match change:
        case Copy(place=place):
            one = _member(device, place.member or "")
            return () if find_file(place.on(None), one) else (Delete(place=place),)
        case SetOrder(member=member):
            order = (_member(device, member).boot or Boot()).order.live
            return () if order is None else (SetOrder(member=member, entries=order),)
        case SetMode(member=member):
            mode = (_member(device, member).boot or Boot()).mode.live
            return () if mode is None else (SetMode(member=member, mode=mode),)
        case SetDefault(member=member):
            bank = (_member(device, member).boot or Boot()).default_bank.live
            return () if bank is None else (SetDefault(member=member, bank=bank),)
        case SetOnce(member=member):
            entry = (_member(device, member).boot or Boot()).once
            return (SetOnce(member=member, entry=entry),)
        case SetComponent(member=member):
            return tuple(_set_back(change, _member(device, member)))
        case _:
            return ()


def _set_back(change: SetComponent, member: Member) -> Iterator[SetComponent]:
    """Have a component loaded from the file again that it was loaded from."""
    for component in member.components or ():
        same = (component.component, component.slot) == (change.component, change.slot)
        if same and component.place is not None:
            yield replace(change, place=component.place.on(change.place.member))


def _member(device: Device, name: str) -> Member:
    return next(member for member in device.members or () if member.id == name)


def _on_member(device: Device, name: str, edit: Callable[[Member], Member]) -> Device:
    """Edit one member; the others stay the same values, so that they are not judged again."""
    members = device.members or ()
    return replace(device, members=tuple(edit(m) if m.id == name else m for m in members))


def _on_volume(device: Device, place: Place, edit: Callable[[Volume], Volume]) -> Device:
    def edited(member: Member) -> Member:
        volumes = member.volumes or ()
        changed = tuple(edit(each) if each.name == place.volume else each for each in volumes)
        return replace(member, volumes=changed) if member.volumes is not None else member

    return _on_member(device, place.member or "", edited)


def _on_bank(device: Device, member: str, name: str, edit: Callable[[Bank], Bank]) -> Device:
    def edited(one: Member) -> Member:
        banks = tuple(edit(bank) if bank.name == name else bank for bank in one.banks or ())
        return replace(one, banks=banks) if one.banks is not None else one

    return _on_member(device, member, edited)


def taken(size: int | None, volume: Volume, sheet: Sheet) -> int:
    """The bytes that a file of a size takes on a volume: whole clusters."""
    cluster = volume.cluster or sheet.capacity.cluster or 1
    return -(-(size or 0) // cluster) * cluster


def _more_free(volume: Volume, more: int) -> int | None:
    """The free bytes once so many more (or less) are free, within what the volume holds."""
    if volume.free is None:
        return None
    free = max(0, volume.free + more)
    return free if volume.capacity is None else min(free, volume.capacity)


def _deleted(device: Device, place: Place, sheet: Sheet) -> Device:
    return _on_volume(device, place, lambda volume: _without(volume, place, sheet))


def _backed_up(device: Device) -> Device:
    config = replace(device.config or Config(), backed_up_at=device.now, backed_up=None)
    return replace(device, config=config)


def _config_saved(device: Device) -> Device:
    config = device.config
    saved = None if config is None else replace(config, unsaved_changes=False)
    return replace(device, config=saved)


def _without(volume: Volume, place: Place, sheet: Sheet) -> Volume:
    name = volume.folded(place.path)
    gone = volume.files_at(place.path)
    exact = [file for file in gone if file.path == place.path] or gone
    sets, left = volume.sets, volume.files
    for file in exact:
        left = _put(left or (), file)
    return replace(
        volume,
        files=left,
        sets=sets and tuple(one for one in sets if volume.folded(one.set_file) != name),
        free=_more_free(volume, sum(taken(file.least, volume, sheet) for file in exact)),
    )


def _put(files: tuple[File, ...], old: File, *new: File) -> tuple[File, ...]:
    """Files with others in the place of one; the rest stay the same values."""
    index = files.index(old)
    return (*files[:index], *new, *files[index + 1 :])


def _with(volume: Volume, file: File, sheet: Sheet) -> Volume:
    """A volume with one file more, over one of its name where there is one."""
    over, files = volume.files_at(file.path), volume.files or ()
    before = sum(taken(each.least, volume, sheet) for each in over)
    for other in over[1:]:
        files = _put(files, other)
    return replace(
        volume,
        files=_put(files, over[0], file) if over else (*files, file),
        free=_more_free(volume, before - taken(file.size, volume, sheet)),
    )


def _pointed(device: Device, change: Copy) -> Device:
    """The bank of files that a copy becomes part of is made of that file alone."""
    if change.bank is None:
        return device
    name = change.bank
    bank = Bank(name=name, state="ok", places=(str(change.place.on(None)),))
    return _on_bank(device, change.place.member or "", name, lambda _: bank)


def _written(name: str, content: NewContent) -> Bank:
    return Bank(
        name=name,
        state="ok",
        version=content.version,
        variant=content.variant,
        digests=content.digests,
        size=content.size,
    )


def _with_component(member: Member, name: str, slot: str | None, version: str | None) -> Member:
    """A member with other firmware of a component in one slot."""
    components = tuple(
        replace(each, version=version) if (each.component, each.slot) == (name, slot) else each
        for each in member.components or ()
    )
    return replace(member, components=components if member.components is not None else None)


def _loading(member: Member, name: str, slot: str | None, source: str) -> Member:
    """A member with a component that is loaded from another place."""
    components = tuple(
        replace(each, loads_from=source) if (each.component, each.slot) == (name, slot) else each
        for each in member.components or ()
    )
    return replace(member, components=components if member.components is not None else None)


def _other_bytes(digests: Digests | None) -> Digests | None:
    """Digests that are those of no published file: each first digit is another one."""
    if digests is None:
        return None
    return Digests(**{name: ("0" if d[0] != "0" else "1") + d[1:] for name, d in digests})


def _with_digests(device: Device, place: Place, digests: Digests | None) -> Device:
    """A file or bank with these digests; None: with others than it had."""
    if place.is_bank:
        return _on_bank(
            device,
            place.member or "",
            place.path,
            lambda bank: replace(bank, digests=digests or _other_bytes(bank.digests)),
        )
    name = place.path

    def changed(volume: Volume) -> Volume:
        files = volume.files
        for file in [each for each in files or () if each.path == name]:
            read = replace(file, digests=digests or _other_bytes(file.digests), digests_at=None)
            files = _put(files or (), file, read)
        return replace(volume, files=files)

    return _on_volume(device, place, changed)


def _lost(device: Device, place: Place) -> Device:
    if place.is_bank:
        name = place.path
        return _on_bank(device, place.member or "", name, lambda _: Bank(name=name, state="empty"))
    return _on_volume(device, place, lambda volume: Volume(name=volume.name, state="absent"))


def _set(member: Member, change: Change) -> Member:
    """A member with one boot setting changed.

    Of a setting whose saved value is not known, that is what the live one was before.
    """
    boot = member.boot or Boot()
    match change:
        case SetOrder(entries=entries):
            boot = replace(boot, order=Setting(live=entries, saved=boot.order.effective))
        case SetMode(mode=mode):
            boot = replace(boot, mode=Setting(live=mode, saved=boot.mode.effective))
        case SetDefault(bank=name):
            setting = Setting(live=name, saved=boot.default_bank.effective)
            boot = replace(boot, default_bank=setting)
        case SetOnce(entry=entry):
            boot = replace(boot, once=entry)
        case HeedConfig():
            heeded = Setting(live=boot.ignores_saved_config.live, saved=False)
            boot = replace(boot, ignores_saved_config=heeded)
        case Save():
            if member.boot is None:
                return member
            boot = Boot(
                mode=_saved(boot.mode),
                order=_saved(boot.order),
                default_bank=_saved(boot.default_bank),
                once=boot.once,
                ignores_saved_config=boot.ignores_saved_config,
            )
    return replace(member, boot=boot)


def _saved(setting: Setting[T]) -> Setting[T]:
    return setting if setting.live is None else Setting(live=setting.live, saved=setting.live)


def _committed(member: Member, sheet: Sheet, *, half: bool) -> Member:
    """A member whose committed directory holds what its trial does; `half`: only a part of it."""
    trial, committed = member.bank(TRIAL), member.bank(COMMITTED)
    if trial is None or committed is None:
        return member
    if half or trial.places is None:
        state = Bank(name=COMMITTED, state="bad") if half else replace(trial, name=COMMITTED)
        banks = tuple(state if each is committed else each for each in member.banks or ())
        return replace(member, banks=banks)
    front = next((place.path.rpartition("/")[0] for place in committed.files), "")
    files: dict[str, list[File]] = {}
    places = []
    for place in (named.on(None) for named in trial.files):
        file, path = find_file(place, member), f"{front or COMMITTED}/{place.name}"
        places.append(str(Place(place.volume, path)))
        if file is not None:
            files.setdefault(place.volume, []).append(replace(file, path=path))
    old = {place.path for place in committed.files}
    gone = {
        volume.name: {
            volume.folded(path)
            for path in (*old, *(file.path for file in files.get(volume.name, ())))
        }
        if volume.name in files
        else set[str]()
        for volume in member.volumes or ()
    }
    volumes = tuple(
        replace(
            volume,
            files=(
                *(f for f in volume.files or () if volume.folded(f.path) not in gone[volume.name]),
                *files.get(volume.name, ()),
            ),
            free=_more_free(volume, _freed_by_commit(volume, gone, files, sheet)),
        )
        for volume in member.volumes or ()
    )
    bank = replace(committed, state="ok", places=tuple(places))
    banks = tuple(bank if each is committed else each for each in member.banks or ())
    return replace(member, volumes=volumes, banks=banks)


def _freed_by_commit(
    volume: Volume, gone: dict[str, set[str]], files: dict[str, list[File]], sheet: Sheet
) -> int:
    """The bytes that a commit frees on a volume: those of the old files less those of the new."""
    old = [file for file in volume.files or () if volume.folded(file.path) in gone[volume.name]]
    new = files.get(volume.name, ())
    booked = sum(taken(file.least, volume, sheet) for file in old)
    return booked - sum(taken(file.size, volume, sheet) for file in new)


def _reloaded(device: Device, walk: DeviceWalk | None) -> Device:
    """The device after a reload: each member runs what its walk starts, by its saved settings."""
    if walk is None or not walk.members:
        return device
    boots = {each.member: each.boots for each in walk.members}
    first = boots[walk.members[0].member]
    version = first.version if first is not None else None
    alike = [begun for begun in boots.values() if begun is not None and begun.version == version]
    places = {begun.at.on(None) for begun in alike if begun.at is not None}
    place = places.pop() if len(places) == 1 else None
    several = len(walk.members) > 1
    running = Running(
        version=version,
        place=None if place is None or place.is_bank else str(place),
        bank=place.path if place is not None and place.is_bank else None,
    )

    def started(member: Member) -> Member:
        begun = boots.get(member.id)
        boot = member.boot or Boot()
        after = Boot(
            mode=_live(boot.mode),
            order=_live(boot.order),
            default_bank=_live(boot.default_bank),
            once=None,
            ignores_saved_config=_live(boot.ignores_saved_config),
        )
        version = begun.version if begun is not None else None
        return replace(member, boot=after, running_version=version if several else None)

    return replace(
        _config_saved(device),
        at="running",
        reload_at=None,
        running=running,
        members=tuple(map(started, device.members or ())),
    )


def _live(setting: Setting[T]) -> Setting[T]:
    return setting if setting.saved is None else Setting(live=setting.saved, saved=setting.saved)


def _no_room(device: Device, place: Place, content: NewContent, sheet: Sheet) -> str:
    """Why a copy does not fit; empty where it does."""
    one = next((m for m in device.members or () if m.id == place.member), None)
    volume = one.volume(place.volume) if one is not None else None
    if volume is None or volume.state != "ok":
        return f"volume {place.volume} cannot be written to"
    if volume.free is None or content.size is None:
        return f"it is unknown whether {content.name} fits on {place.volume}"
    over = volume.files_at(place.path)
    free = volume.free + sum(taken(file.least, volume, sheet) for file in over)
    needs = taken(content.size, volume, sheet)
    return "" if free >= needs else f"{content.name} needs {needs} bytes, {free} are free"


def _no_space_to_commit(member: Member, sheet: Sheet) -> str:
    """Why what a trial holds does not fit beside itself; empty where it does, or is not known."""
    trial, committed = member.bank(TRIAL), member.bank(COMMITTED)
    if trial is None or committed is None:
        return ""
    for volume in member.volumes or ():
        held = [
            [
                file
                for place in bank.files
                if place.volume == volume.name
                and (file := find_file(place.on(None), member)) is not None
            ]
            for bank in (trial, committed)
        ]
        new, old = (sum(taken(each.least, volume, sheet) for each in files) for files in held)
        if volume.free is not None and volume.free + old < new:
            return f"the trial image needs {new} bytes, {volume.free + old} are free for it"
    return ""


def _no_bank(device: Device, member: str, name: str) -> str:
    one = next((m for m in device.members or () if m.id == member), None)
    return "" if one is not None and one.bank(name) else f"bank {name} does not exist"


def _runs_bank(device: Device, member: str, name: str) -> str:
    """Whether a member was started from a bank, as the device tells; empty where it was not."""
    one, running = _member(device, member), device.running
    alike = one.running_version in (None, running.version)
    return f"bank {name} is running" if running.bank == name and alike else ""

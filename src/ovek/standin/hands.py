"""A stand-in that obeys: what a person types changes its state, as it would a device's.

Nothing here knows how Ovek walks or edits a device: whoever compares the two compares two readings.
A change has a state in its middle, in which a power failure leaves it; then the loader starts what
it finds (see `loader`).
"""

from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ovek.files.decode import explain, read_bytes
from ovek.files.errors import InputError
from ovek.model.digest import Digests
from ovek.model.snapshot import (
    Bank,
    Boot,
    BootEntry,
    BootMode,
    Device,
    File,
    Member,
    Setting,
    Volume,
)

T = TypeVar("T")


class ServerImage(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """An image on the file server, and what is in it."""

    file: str
    size: int
    digests: Digests
    version: str
    kind: str = "system-image"
    variant: str | None = None
    carries: dict[str, str] = {}


def read_server(file: Path) -> dict[str, ServerImage]:
    """What the file server of a site has, by file name; nothing where there is no such list.

    Raises InputError.
    """
    if not file.exists():
        return {}
    data = read_bytes(file)
    try:
        found = msgspec.json.decode(data, type=list[ServerImage])
    except msgspec.ValidationError as error:
        raise explain(file, error, msgspec.json.decode(data), ServerImage, "server list") from None
    except msgspec.DecodeError as error:
        raise InputError(file, f"is not JSON: {error}", "Fix the list") from None
    return {one.file: one for one in found}


class ChangeRefusedError(Exception):
    """The device does not do what was typed; the text is its answer."""


Edit = Callable[[Device], Device]


class Hands:
    """One device that is worked on. `cut` is whether the power fails in the next change."""

    def __init__(
        self,
        device: Device,
        server: dict[str, ServerImage],
        start: "Callable[[Device, dict[str, ServerImage]], Device]",
    ) -> None:
        self.device, self.server, self._start = device, server, start
        self.cut = False

    def change(self, whole: Edit, half: Edit | None = None) -> None:
        """Make a change, or half of it where the power fails."""
        if not self.cut:
            self.device = whole(self.device)
            return
        self.cut = False
        self.device = self._start(
            half(self.device) if half is not None else self.device, self.server
        )

    def reload(self) -> None:
        """Start anew."""
        self.cut = False
        self.device = self._start(self.device, self.server)

    def image(self, name: str) -> ServerImage:
        """An image of the server; raises RefusedError."""
        if name not in self.server:
            raise ChangeRefusedError(f"the server has no {name}")
        return self.server[name]

    def member(self, name: str) -> Member:
        """A member; raises RefusedError."""
        for one in self.device.members or ():
            if one.id == name:
                return one
        raise ChangeRefusedError(f"there is no unit {name}")

    def first(self) -> str:
        """The only member's name."""
        return (self.device.members or ())[0].id

    def copy(self, name: str, member: str, volume: str, path: str) -> None:
        """Copy an image from the server; half of it is a shorter file."""
        image = self.image(name)
        there = self.member(member).volume(volume)
        if there is None:
            raise ChangeRefusedError(f"there is no {volume}")
        old = next((file for file in there.files or () if file.path == path), None)
        room = (there.free or 0) + (old.size or 0 if old is not None else 0)
        if room < image.size:
            raise ChangeRefusedError("no room is left")
        file = File(path=path, size=image.size, digests=image.digests)
        torn = {name: value[::-1] for name, value in image.digests}
        part = File(path=path, size=image.size // 2, digests=Digests(**torn))
        self.change(_filed(member, volume, file), _filed(member, volume, part))
        self._fill_banks(member, volume, path)

    def copy_within(self, source: str, member: str, volume: str, path: str) -> None:
        """Copy a file of the device itself; half of it is a shorter file."""
        store, _, name = source.partition(":")
        held = self.member(member).volume(store)
        old = next((file for file in (held.files or () if held else ()) if file.path == name), None)
        if old is None or self.member(member).volume(volume) is None:
            raise ChangeRefusedError(f"there is no {source}")
        file = replace(old, path=path)
        torn = {name: value[::-1] for name, value in old.digests or ()}
        part = replace(file, size=(file.size or 0) // 2, digests=Digests(**torn))
        self.change(_filed(member, volume, file), _filed(member, volume, part))
        self._fill_banks(member, volume, path)

    def set_component(self, member: str, component: str, slot: str | None, source: str) -> None:
        """Have a component loaded from a file at the next reload."""

        def loading(one: Member) -> Member:
            components = tuple(
                replace(each, loads_from=source)
                if (each.component, each.slot) == (component, slot)
                else each
                for each in one.components or ()
            )
            return replace(one, components=components)

        self.change(_on(member, loading))

    def by_hand(self, place: str) -> None:
        """Boot from a place that is named at the loader: as if it were set for once."""
        entry = BootEntry(place=place, raw=place)
        was = {one.id: one.boot for one in self.device.members or ()}
        for name in was:
            self.device = _on(
                name, lambda one: replace(one, boot=replace(one.boot or Boot(), once=entry))
            )(self.device)
        self.device = self._start(self.device, self.server)

    def _fill_banks(self, member: str, volume: str, path: str) -> None:
        """A directory that is a bank holds what is in it."""
        front = path.rpartition("/")[0]

        def filled(one: Member) -> Member:
            banks = tuple(
                replace(bank, state="ok", places=(*(bank.places or ()), f"{volume}:{path}"))
                if bank.name == front and f"{volume}:{path}" not in (bank.places or ())
                else bank
                for bank in one.banks or ()
            )
            return replace(one, banks=banks) if one.banks is not None else one

        self.device = _on(member, filled)(self.device)

    def delete(self, member: str, volume: str, path: str) -> None:
        """Delete a file."""
        there = self.member(member).volume(volume)
        if there is None or not any(file.path == path for file in there.files or ()):
            raise ChangeRefusedError(f"there is no {path}")
        self.change(_unfiled(member, volume, path))
        self.device = _on(member, lambda one: _unlisted(one, f"{volume}:{path}"))(self.device)

    def write_bank(self, bank: str, image: str) -> None:
        """Write an image into a bank; half of it is a bad bank."""
        found = self.image(image)
        digests = Digests(md5=found.digests.md5)
        full = Bank(
            name=bank,
            state="ok",
            version=found.version,
            variant=found.variant,
            size=found.size,
            digests=digests,
        )
        self._put_bank(full)

    def copy_bank(self, source: str, bank: str) -> None:
        """Copy a bank over another."""
        held = self.member(self.first()).bank(source)
        if held is None:
            raise ChangeRefusedError(f"there is no {source}")
        self._put_bank(replace(held, name=bank))

    def _put_bank(self, full: Bank) -> None:
        member = self.first()
        if self.member(member).bank(full.name) is None:
            raise ChangeRefusedError(f"there is no {full.name}")
        self.change(_banked(member, full), _banked(member, Bank(name=full.name, state="bad")))

    def weigh(self, bank: str) -> None:
        """Work out what a bank holds: from then on the device tells its digest."""
        held = self.member(self.first()).bank(bank)
        if held is None:
            raise ChangeRefusedError(f"there is no {bank}")
        known = [one for one in self.server.values() if one.version == held.version]
        if held.digests is None and known:
            digests = Digests(md5=known[0].digests.md5)
            weighed = _banked(self.first(), replace(held, digests=digests))
            self.device = weighed(self.device)

    def load_component(self, name: str, member: str, component: str, slot: str | None) -> None:
        """Load the firmware of a component; half of it is none that is known."""
        brings = self.image(name).carries.get(component)
        if brings is None:
            raise ChangeRefusedError(f"{name} brings no {component}")
        self.change(
            _loaded(member, component, slot, brings), _loaded(member, component, slot, None)
        )

    def boot(self, member: str, edit: Callable[[Boot], Boot]) -> None:
        """Change the boot settings; that is done at once."""
        self.member(member)
        self.change(_on(member, lambda one: replace(one, boot=edit(one.boot or Boot()))))

    def order(self, member: str, places: list[str]) -> None:
        """Set the live order."""
        entries = tuple(BootEntry(place=place, raw=place) for place in places)
        self.boot(member, lambda boot: replace(boot, order=replace(boot.order, live=entries)))

    def mode(self, member: str, mode: BootMode) -> None:
        """Set the live mode."""
        self.boot(member, lambda boot: replace(boot, mode=replace(boot.mode, live=mode)))

    def default(self, bank: str) -> None:
        """Set the live default bank."""
        self.boot(
            self.first(),
            lambda boot: replace(boot, default_bank=replace(boot.default_bank, live=bank)),
        )

    def once(self, member: str, place: str | None) -> None:
        """Set, or take back, what the next start alone is from."""
        entry = None if place is None else BootEntry(place=place, raw=place)
        self.boot(member, lambda boot: replace(boot, once=entry))

    def heed(self, member: str) -> None:
        """Have the next start read the saved configuration."""
        self.boot(
            member,
            lambda boot: replace(
                boot, ignores_saved_config=replace(boot.ignores_saved_config, saved=False)
            ),
        )

    def save(self, member: str) -> None:
        """The live boot settings are saved."""
        self.boot(
            member,
            lambda boot: replace(
                boot,
                mode=_kept(boot.mode),
                order=_kept(boot.order),
                default_bank=_kept(boot.default_bank),
            ),
        )

    def save_settings(self) -> None:
        """The configuration is saved."""
        config = self.device.config
        if config is not None:
            self.device = replace(self.device, config=replace(config, unsaved_changes=False))

    def backed_up(self) -> None:
        """The configuration is copied away."""
        config = self.device.config
        if config is not None:
            copied = replace(config, backed_up_at=self.device.now, backed_up=None)
            self.device = replace(self.device, config=copied)

    def commit(self, member: str) -> None:
        """The committed directory becomes what the trial is; half of it lacks its image."""
        one = self.member(member)
        trial, committed = one.bank("trial"), one.bank("committed")
        if trial is None or committed is None or not trial.places:
            raise ChangeRefusedError("there is nothing to settle")
        self.change(_settled(member, trial, committed), _unsettled(member, committed))


def _kept(setting: Setting[T]) -> Setting[T]:
    return setting if setting.live is None else Setting(live=setting.live, saved=setting.live)


def _on(name: str, edit: Callable[[Member], Member]) -> Edit:
    def edited(device: Device) -> Device:
        members = tuple(edit(one) if one.id == name else one for one in device.members or ())
        return replace(device, members=members)

    return edited


def _on_volume(member: str, name: str, edit: Callable[[Volume], Volume]) -> Edit:
    return _on(
        member,
        lambda one: replace(
            one,
            volumes=tuple(edit(each) if each.name == name else each for each in one.volumes or ()),
        ),
    )


def _blocks(file: File, volume: Volume) -> int:
    block = volume.cluster or 1
    return -(-(file.size or 0) // block) * block


def _filed(member: str, volume: str, file: File) -> Edit:
    def filed(each: Volume) -> Volume:
        old = next((one for one in each.files or () if one.path == file.path), None)
        free = (each.free or 0) + (_blocks(old, each) if old is not None else 0)
        files = [file if one.path == file.path else one for one in each.files or ()]
        files += [] if old is not None else [file]
        return replace(each, files=tuple(files), free=max(0, free - _blocks(file, each)))

    return _on_volume(member, volume, filed)


def _unfiled(member: str, volume: str, path: str) -> Edit:
    def unfiled(each: Volume) -> Volume:
        gone = sum(_blocks(one, each) for one in each.files or () if one.path == path)
        files = tuple(one for one in each.files or () if one.path != path)
        sets = tuple(one for one in each.sets or () if one.set_file != path)
        free = (each.free or 0) + gone
        return replace(each, files=files, free=free, sets=each.sets and sets)

    return _on_volume(member, volume, unfiled)


def _banked(member: str, bank: Bank) -> Edit:
    def banked(one: Member) -> Member:
        banks = tuple(bank if each.name == bank.name else each for each in one.banks or ())
        return replace(one, banks=banks)

    return _on(member, banked)


def _loaded(member: str, name: str, slot: str | None, version: str | None) -> Edit:
    def loaded(one: Member) -> Member:
        components = tuple(
            replace(each, version=version) if (each.component, each.slot) == (name, slot) else each
            for each in one.components or ()
        )
        return replace(one, components=components)

    return _on(member, loaded)


def _unlisted(member: Member, place: str) -> Member:
    """A member of which no bank holds a place any more."""
    banks = list[Bank]()
    for bank in member.banks or ():
        if place in (bank.places or ()):
            left = tuple(each for each in bank.places or () if each != place)
            bank = replace(bank, state=bank.state if left else "empty", places=left)
        banks.append(bank)
    return replace(member, banks=tuple(banks)) if member.banks is not None else member


def _settled(member: str, trial: Bank, committed: Bank) -> Edit:
    """The files of the trial are copied over those of the committed directory."""

    def settled(one: Member) -> Member:
        volumes, places = list[Volume](), list[str]()
        for volume in one.volumes or ():
            front = f"{volume.name}:"
            old = {p.removeprefix(front) for p in committed.places or () if p.startswith(front)}
            new = [
                replace(file, path=f"committed/{file.path.rpartition('/')[2]}")
                for file in volume.files or ()
                if f"{front}{file.path}" in (trial.places or ())
            ]
            places += [f"{front}{file.path}" for file in new]
            left = [file for file in volume.files or () if file.path not in old]
            volumes.append(replace(volume, files=(*left, *new)))
        banks = tuple(
            replace(each, state="ok", places=tuple(places)) if each.name == "committed" else each
            for each in one.banks or ()
        )
        return replace(one, volumes=tuple(volumes), banks=banks)

    return _on(member, settled)


def _unsettled(member: str, committed: Bank) -> Edit:
    """Half way, the old files are gone and the new ones are not whole."""
    return _banked(member, Bank(name=committed.name, state="bad"))

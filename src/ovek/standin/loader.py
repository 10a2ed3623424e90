"""The boot loaders of the stand-ins, each by its own rules, and written apart from Ovek's walk.

A system image starts where its bytes are those of one that the server has, or where nobody knows
its name; under a name that the server has, other bytes do not start.
"""

import re
from collections.abc import Callable, Iterator
from typing import NamedTuple, TypeVar

from msgspec.structs import replace

from ovek.model.digest import Digests
from ovek.model.snapshot import (
    Bank,
    Boot,
    Component,
    Device,
    File,
    Member,
    Running,
    Setting,
    Volume,
)
from ovek.standin.hands import ServerImage

T = TypeVar("T")
Server = dict[str, ServerImage]
_VERSION = re.compile(r"(\d[0-9a-z.]*)\.[a-z]+$")


class Begun(NamedTuple):
    """What a member started."""

    version: str | None
    place: str | None = None
    bank: str | None = None


def same(digests: Digests | None, image: ServerImage) -> bool:
    """Whether a file has the bytes of an image of the server."""
    known = dict(image.digests)
    common = [(name, value) for name, value in digests or () if name in known]
    return bool(common) and all(known[name] == value for name, value in common)


def _image(file: File, server: Server) -> ServerImage | None:
    return next((each for each in server.values() if same(file.digests, each)), None)


def _starts(file: File, server: Server) -> Begun | None:
    """What starts from a file; None where it does not start."""
    found, name = _image(file, server), file.path.rpartition("/")[2]
    if found is not None:
        return Begun(found.version) if found.kind == "system-image" else None
    if name in server and (file.digests is not None or file.size != server[name].size):
        return None
    told = _VERSION.search(name)
    return Begun(told[1] if told else None)


def _file(member: Member, place: str) -> tuple[Volume | None, File | None]:
    store, _, path = place.partition(":")
    volume = member.volume(store)
    for file in volume.files or () if volume is not None else ():
        if file.path == path:
            return volume, file
    return volume, None


def _on_flash(member: Member, place: str, server: Server) -> Begun | None:
    """What a switch starts from one place: a file, or a set with all of its packages."""
    volume, file = _file(member, place)
    if volume is None or file is None or volume.state != "ok":
        return None
    for each in volume.sets or ():
        if each.set_file == file.path:
            files = {one.path: one for one in volume.files or ()}
            images = [_image(files[name], server) for name in each.packages if name in files]
            whole = len(images) == len(each.packages) and all(images)
            return Begun(images[0].version, place) if whole and images[0] is not None else None
    begun = _starts(file, server)
    return begun and begun._replace(place=place)


def oxwick(member: Member, server: Server) -> Begun | None:
    """Just once; then by list; then what is seen first on flash. What does not start is passed."""
    boot = member.boot or Boot()
    if boot.once is not None and boot.once.place is not None:
        begun = _on_flash(member, boot.once.place, server)
        if begun is not None:
            return begun
    way = boot.mode.saved or boot.mode.live
    if way == "hold":
        return None
    order = boot.order.effective
    for entry in (order or ()) if way == "listed" else ():
        begun = _on_flash(member, entry.place, server) if entry.place is not None else None
        if begun is not None:
            return begun
    flash = member.volume("flash")
    for file in flash.files or () if flash is not None else ():
        name = file.path.rpartition("/")[2]
        listed = any(each.set_file == file.path for each in flash.sets or ()) if flash else False
        if listed or (name.startswith(("ox40-", "ox41-")) and name.endswith(".img")):
            begun = _on_flash(member, f"flash:{file.path}", server)
            if begun is not None:
                return begun
    return None


def _bank(bank: Bank, server: Server) -> Begun | None:
    """What starts from a bank that holds its image itself."""
    if bank.state != "ok" or bank.version is None:
        return None
    published = [one for one in server.values() if one.version == bank.version]
    right = (
        not published or bank.digests is None or any(same(bank.digests, one) for one in published)
    )
    return Begun(bank.version, None, bank.name) if right else None


def _tries(member: Member) -> Iterator[Bank]:
    """Just once, then the default slot, then the others."""
    boot = member.boot or Boot()
    default = boot.default_bank.saved or boot.default_bank.live
    once = boot.once.place.removeprefix("bank:") if boot.once and boot.once.place else None
    for name in (once, default):
        bank = member.bank(name) if name is not None else None
        if bank is not None:
            yield bank
    yield from (bank for bank in member.banks or () if bank.name != default)


def tolvane(member: Member, server: Server) -> Begun | None:
    """A slot that does not start is passed."""
    return next((begun for bank in _tries(member) if (begun := _bank(bank, server))), None)


def pellard(member: Member, server: Server) -> Begun | None:
    """An empty slot is passed; at one that is broken the controller stops."""
    for bank in _tries(member):
        if bank.state == "empty":
            continue
        return _bank(bank, server)
    return None


def _tree(member: Member, name: str, server: Server) -> Begun | None:
    """What a router starts from a tree: its image, where every file of it is right."""
    bank = member.bank(name)
    if bank is None or bank.state != "ok" or not bank.places:
        return None
    found = [_file(member, place)[1] for place in bank.places]
    begun = [_starts(file, server) for file in found if file is not None]
    if len(begun) < len(bank.places) or not all(begun):
        return None
    return Begun(begun[0].version, bank.places[0]) if begun[0] is not None else None


def merrowby(member: Member, server: Server) -> Begun | None:
    """A trial that is due; a trial that is what is committed; what is committed; then the trial."""
    boot, trial = member.boot or Boot(), _tree(member, "trial", server)
    committed = _tree(member, "committed", server)
    if boot.once is not None and trial is not None:
        return trial
    if trial is not None and committed is not None and trial.version == committed.version:
        return trial
    return committed or trial


LOADERS: dict[str, Callable[[Member, Server], Begun | None]] = {
    "oxwick": oxwick,
    "tolvane": tolvane,
    "pellard": pellard,
    "merrowby": merrowby,
}


def starter(language: str) -> Callable[[Device, Server], Device]:
    """How a device of a language starts: each member by itself, by what is saved."""
    loader = LOADERS[language]

    def start(device: Device, server: Server) -> Device:
        begun = {one.id: loader(one, server) for one in device.members or ()}
        members = tuple(
            _started(one, begun[one.id], server, several=len(begun) > 1)
            for one in device.members or ()
        )
        first = next(iter(begun.values()), None)
        if any(each is None for each in begun.values()):
            return replace(device, at="boot-loader", running=Running(), members=members)
        running = Running(
            version=first.version if first else None,
            place=first.place if first else None,
            bank=first.bank if first else None,
        )
        config = device.config and replace(device.config, unsaved_changes=False)
        return replace(
            device, at=None, reload_at=None, running=running, members=members, config=config
        )

    return start


def _started(member: Member, begun: Begun | None, server: Server, *, several: bool) -> Member:
    """A member that started: what is saved is in effect, and an image loaded what it brings."""
    boot = member.boot or Boot()
    after = Boot(
        mode=_read(boot.mode),
        order=_read(boot.order),
        default_bank=_read(boot.default_bank),
        ignores_saved_config=_read(boot.ignores_saved_config),
    )
    version = begun.version if begun is not None else None
    carries = next((o.carries for o in server.values() if o.version == version and o.carries), {})
    components = member.components and tuple(
        _firmware(each, member, server, carries) for each in member.components
    )
    told = version if several else member.running_version
    return replace(member, boot=after, components=components, running_version=told)


def _firmware(
    component: Component, member: Member, server: Server, carries: dict[str, str]
) -> Component:
    """A component after a start: what its file holds, else what the image brought, if newer."""
    place, name = component.place, component.component
    if place is not None and place.member in (None, member.id):
        volume = member.volume(place.volume)
        files = (volume.files if volume is not None else None) or ()
        file = next((each for each in files if each.path == place.path), None)
        held = _image(file, server) if file is not None else None
        version = held.carries.get(name) if held is not None else None
        return component if version is None else replace(component, version=version)
    if name in carries and _older(component.version, carries[name]):
        return replace(component, version=carries[name])
    return component


def _older(one: str | None, other: str) -> bool:
    numbers = [[int(n) for n in re.findall(r"\d+", text or "0")] for text in (one, other)]
    return numbers[0] < numbers[1]


def _read(setting: Setting[T]) -> Setting[T]:
    return setting if setting.saved is None else Setting(live=setting.saved, saved=setting.saved)

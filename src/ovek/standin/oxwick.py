"""The language of Oxwick switches: `tell …`, tables, KiB, dates like 21 Oct 2026 21:14:05."""

from collections.abc import Iterator
from datetime import UTC, datetime

from ovek.model.snapshot import BootEntry, Device, Hardware, Member, Volume

BANNER = "Oxwick 40\nAuthorised hands only. What you do here is written down.\n\n"
PAGER = "   [more below: blank goes on]"
PAGE = 20
_HEALTH = {"ok": "fine", "unreadable": "torn", "absent": "out", None: "-"}
_SEATS = {True: "plugged", False: "fixed", None: "-"}
_WAYS = {"listed": "by-list", "first-found": "first-seen", "hold": "wait-here", None: "-"}


def prompt(device: Device) -> str:
    """What the device shows when it waits."""
    return f"{device.device}> "


def answer(device: Device, typed: list[str], rate: int) -> Iterator[str | float]:
    """Go through what the device prints; a number is a pause in seconds."""
    match typed:
        case ["tell", "system"]:
            yield _system(device)
        case ["tell", "stack"]:
            yield "Unit  Duty      Runs      Serial      Revision\n"
            yield "----  --------  --------  ----------  --------\n"
            for one in device.members or ():
                hardware, runs = one.hardware or Hardware(), one.running_version or "-"
                serial, revision = hardware.serial or "-", hardware.revision or "-"
                yield f"{one.id:<4}  {one.role or '-':<8}  {runs:<8}  {serial:<10}  {revision}\n"
        case ["tell", "stores", unit] if (member := _unit(device, unit)) is not None:
            yield _stores(member)
        case ["tell", "files", unit, store] if volume := _store(device, unit, store):
            yield _files(volume)
        case ["tell", "sets", unit, store] if volume := _store(device, unit, store):
            for each in volume.sets or ():
                yield f"{each.set_file}\n" + "".join(f"    {name}\n" for name in each.packages)
            yield "" if volume.sets else "no sets\n"
        case ["tell", "start", unit] if (member := _unit(device, unit)) and member.boot:
            yield _start(member)
        case ["tell", "parts", unit] if (member := _unit(device, unit)) and (
            member.components is not None
        ):
            yield "Part          Bay  Version   Loads\n"
            for component in member.components:
                slot, version = component.slot or "-", component.version or "-"
                yield f"{component.component:<12}  {slot:<3}  {version:<8}  "
                yield f"{component.loads_from or '-'}\n"
        case ["digest", algorithm, unit, store, path] if volume := _store(device, unit, store):
            yield from _digest(volume, algorithm, path, rate)
        case ["goodbye"]:
            return
        case _:
            yield "?? that is not to be told\n"


def _unit(device: Device, unit: str) -> Member | None:
    return next((one for one in device.members or () if one.id == unit), None)


def _store(device: Device, unit: str, store: str) -> Volume | None:
    member = _unit(device, unit)
    return member.volume(store) if member is not None else None


def _system(device: Device) -> str:
    hardware, running, config = device.hardware, device.running, device.config
    rows = [("Model", hardware.model), ("Revision", hardware.revision)]
    rows.append(("Serial", hardware.serial))
    if device.clock is not None:  # it goes on, as wrong as it was when the state was taken
        clock = datetime.now(UTC) + (device.clock - device.taken_at)
        rows.append(("Clock", f"{clock:%d %b %Y %H:%M:%S}"))
    if device.reload_at is not None:
        rows.append(("Starts anew", f"{device.reload_at:%d %b %Y %H:%M:%S}"))
    if hardware.memory is not None:
        rows.append(("Memory", f"{hardware.memory // 2**20} MiB"))
    rows += [("Running", running.version), ("Flavour", running.variant)]
    rows.append(("Started from", running.place))
    if config is not None:
        rows.append(("Unsaved", {True: "yes", False: "no", None: None}[config.unsaved_changes]))
        if config.backed_up_at is not None:
            rows.append(("Copied away", f"{config.backed_up_at:%d %b %Y %H:%M:%S}"))
        elif config.backed_up is not None:
            rows.append(("Copied away", "never"))
    return "".join(f"{name:<13}{value}\n" for name, value in rows if value is not None)


def _stores(member: Member) -> str:
    lines = ["Store     Health  Format  Size KiB      Free KiB      Block   Seat"]
    for volume in member.volumes or ():
        size = "-" if volume.capacity is None else str(volume.capacity // 1024)
        free = "-" if volume.free is None else str(volume.free // 1024)
        lines.append(
            f"{volume.name:<8}  {_HEALTH[volume.state]:<6}  {volume.filesystem or '-':<6}  "
            f"{size:<12}  "
            f"{free:<12}  {volume.cluster or '-':<6}  {_SEATS[volume.removable]}"
        )
    return "\n".join(lines) + "\n"


def _files(volume: Volume) -> str:
    lines = [f"Files on {volume.name}"]
    for file in volume.files or ():
        when = f"{file.modified:%d %b %Y %H:%M:%S}" if file.modified else "no date"
        lines.append(f"{file.size:>13}  {when:<20}  {file.path}")
    return "\n".join([*lines, f"{len(volume.files or ())} files"]) + "\n"


def _start(member: Member) -> str:
    boot = member.boot
    assert boot is not None
    ignores = {True: "yes", False: "no", None: "-"}
    live, saved = boot.ignores_saved_config.live, boot.ignores_saved_config.saved
    lines = [
        f"Way          now {_WAYS[boot.mode.live]:<11} saved {_WAYS[boot.mode.saved]}",
        f"Ignore saved now {ignores[live]:<11} saved {ignores[saved]}",
        f"Just once    {_entry(boot.once) if boot.once else 'nothing'}",
    ]
    for title, order in (("Now", boot.order.live), ("Saved", boot.order.saved)):
        if order is not None:
            lines += [
                f"{title:<12} {number:>2}  {_entry(each)}" for number, each in enumerate(order, 1)
            ] or [f"{title:<12} nothing"]
    return "\n".join(lines) + "\n"


def _entry(entry: BootEntry) -> str:
    return entry.raw or entry.place or entry.remote or ""


def _digest(volume: Volume, algorithm: str, path: str, rate: int) -> Iterator[str | float]:
    """Work out a digest as slowly as the device would, with a dot for each tenth."""
    file = next((each for each in volume.files or () if each.path == path), None)
    known = dict(file.digests or ()) if file is not None else {}
    if file is None or algorithm not in known:
        yield "?? cannot work that out\n"
        return
    yield f"working out {algorithm} of {volume.name}:{path} "
    for _ in range(10):
        yield (file.size or 0) / rate / 10
        yield "."
    yield f"\n{algorithm} = {known[algorithm]}\n"

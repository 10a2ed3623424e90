"""The language of Merrowby routers: `describe …`, fields between bars, ISO times, bytes."""

from collections.abc import Iterator

from ovek.model.snapshot import Device, File, Member, Volume

BANNER = "Merrowby M\n"
PAGER = "~~ more ~~"
PAGE = 30


def prompt(device: Device) -> str:
    """What the device shows when it waits."""
    return f"{device.device} % "


def answer(device: Device, typed: list[str], rate: int) -> Iterator[str | float]:
    """Go through what the device prints; a number is a pause in seconds."""
    match typed:
        case ["describe", "machine"]:
            hardware, running = device.hardware, device.running
            backed = device.config.backed_up_at if device.config is not None else None
            unsaved = device.config.unsaved_changes if device.config is not None else None
            parts = (hardware.model, hardware.revision, hardware.memory)
            yield "|".join(["machine", *(str(each or "") for each in parts)]) + "\n"
            yield f"running|{running.version or ''}|{running.place or ''}\n"
            kept = {True: "dirty", False: "clean", None: ""}[unsaved]
            yield f"settings|{kept}|{backed.isoformat() if backed else ''}\n"
        case ["describe", "supervisors"]:
            for each in device.members or ():
                serial = each.hardware.serial if each.hardware is not None else None
                facts = (each.id, each.role, each.running_version, serial)
                yield "|".join(["supervisor", *(fact or "" for fact in facts)]) + "\n"
        case ["describe", "disks", name] if (member := _supervisor(device, name)) is not None:
            for one in member.volumes or ():
                state = one.state or ""
                numbers = [one.capacity, one.free, one.cluster]
                text = "|".join("" if number is None else str(number) for number in numbers)
                yield f"{one.name}|{state}|{one.filesystem or ''}|{text}\n"
        case ["list", "disk", name, disk] if (member := _supervisor(device, name)) and (
            volume := member.volume(disk)
        ):
            for file in volume.files or ():
                when = file.modified.isoformat() if file.modified else ""
                yield f"{file.size}|{when}|{file.path}\n"
            yield "end of list\n"
        case ["describe", "trees", name] if (member := _supervisor(device, name)) is not None:
            for bank in member.banks or ():
                if bank.state != "ok":
                    yield f"{bank.name}|{bank.state}|\n"
                for place in bank.places or ():
                    yield f"{bank.name}|{bank.state}|{place}\n"
        case ["describe", "next", name] if (member := _supervisor(device, name)) and member.boot:
            once = member.boot.once
            yield f"once|{(once.place or '').removeprefix('bank:') if once else 'never'}\n"
        case ["fingerprint", algorithm, name, place]:
            member = _supervisor(device, name)
            yield from _fingerprint(member.volumes if member else None, algorithm, place, rate)
        case ["end"]:
            return
        case _:
            yield "!! unknown wish\n"


def _supervisor(device: Device, name: str) -> Member | None:
    return next((one for one in device.members or () if one.id == name), None)


def _fingerprint(
    volumes: tuple[Volume, ...] | None, algorithm: str, place: str, rate: int
) -> Iterator[str | float]:
    name, _, path = place.partition(":")
    for volume in volumes or ():
        for file in volume.files or () if volume.name == name else ():
            if file.path == path and algorithm in dict(file.digests or ()):
                yield from _slowly(file, algorithm, rate)
                return
    yield "!! no fingerprint of that\n"


def _slowly(file: File, algorithm: str, rate: int) -> Iterator[str | float]:
    """Count up in place while working, as a progress line does."""
    for percent in (0, 50, 100):
        yield f"\r{percent:3} percent"
        yield (file.size or 0) / rate / 3
    yield f"\r{algorithm}|{dict(file.digests or ())[algorithm]}\n"  # type: ignore[index]

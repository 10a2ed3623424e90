"""The language of Merrowby routers: `describe …`, fields between bars, ISO times, bytes."""

from collections.abc import Iterator

from ovek.model.snapshot import Device, File, Volume

BANNER = "Merrowby M\n"
PAGER = "~~ more ~~"
PAGE = 30


def prompt(device: Device) -> str:
    """What the device shows when it waits."""
    return f"{device.device} % "


def answer(device: Device, typed: list[str], rate: int) -> Iterator[str | float]:
    """Go through what the device prints; a number is a pause in seconds."""
    member = (device.members or (None,))[0]
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
        case ["describe", "disks"] if member is not None and member.volumes is not None:
            for one in member.volumes:
                state = one.state or ""
                numbers = [one.capacity, one.free, one.cluster]
                told = "|".join("" if number is None else str(number) for number in numbers)
                yield f"{one.name}|{state}|{one.filesystem or ''}|{told}\n"
        case ["list", "disk", name] if volume := member.volume(name) if member else None:
            for file in volume.files or ():
                when = file.modified.isoformat() if file.modified else ""
                yield f"{file.size}|{when}|{file.path}\n"
            yield "end of list\n"
        case ["describe", "trees"] if member is not None and member.banks is not None:
            for bank in member.banks:
                if bank.state != "ok":
                    yield f"{bank.name}|{bank.state}|\n"
                for place in bank.places or ():
                    yield f"{bank.name}|{bank.state}|{place}\n"
        case ["describe", "next"] if member is not None and member.boot is not None:
            once = member.boot.once
            yield f"once|{(once.place or '').removeprefix('bank:') if once else 'never'}\n"
        case ["fingerprint", algorithm, place]:
            yield from _fingerprint(member.volumes if member else None, algorithm, place, rate)
        case ["end"]:
            return
        case _:
            yield "!! unknown wish\n"


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

"""The language of Pellard controllers: `report …`, sentences, and a table of slots."""

from collections.abc import Iterator

from ovek.model.snapshot import Device

BANNER = "\x1b[1mPellard 9\x1b[0m controller\n\nThis is a private system.\n\n"
PAGER = "<<more>>"
PAGE = 24
_HEALTH = {"ok": "sound", "empty": "empty", "bad": "broken", None: "-"}


def prompt(device: Device) -> str:
    """What the device shows when it waits."""
    return f"{device.device} :: "


def answer(device: Device, typed: list[str], rate: int) -> Iterator[str | float]:
    """Go through what the device prints; a number is a pause in seconds."""
    members = device.members or ()
    match typed:
        case ["report", "controller"]:
            hardware, running, config = device.hardware, device.running, device.config
            yield f"This is a {hardware.model} of revision {hardware.revision}"
            yield f" with {(hardware.memory or 0) // 2**20} MiB of memory.\n"
            yield f"It runs {running.version} from slot {running.bank}.\n"
            if config is not None and config.backed_up_at is not None:
                kept = "Some settings are not kept" if config.unsaved_changes else "All are kept"
                yield f"{kept}; last copied away at {config.backed_up_at:%H:%M on %d/%m/%Y}.\n"
        case ["report", "slots"] if members and members[0].banks is not None:
            yield "slot  state   carries     bytes        md5\n"
            for bank in members[0].banks:
                md5 = dict(bank.digests or ()).get("md5", "-")
                yield f"{bank.name:<4}  {_HEALTH[bank.state]:<6}  {bank.version or '-':<10}  "
                yield f"{bank.size or '-':<11}  {md5}\n"
        case ["report", "start"] if members and members[0].boot is not None:
            boot = members[0].boot
            once = boot.once.place.removeprefix("bank:") if boot.once and boot.once.place else None
            yield f"Starts from slot {boot.default_bank.live or '-'} now"
            yield f" and from slot {boot.default_bank.saved or '-'} once saved settings count.\n"
            yield f"The next start alone is from slot {once}.\n" if once else ""
        case ["bye"]:
            return
        case _:
            yield "E! no report of that kind\n"

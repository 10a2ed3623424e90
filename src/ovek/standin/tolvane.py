"""The language of Tolvane switches: `give …`, one `key: value` a line, stanzas for banks."""

from collections.abc import Iterator

from ovek.model.snapshot import Device

BANNER = "\nTolvane 8. Please behave.\n"
PAGER = "(press blank)"
PAGE = 40
_HEALTH = {"ok": "good", "empty": "blank", "bad": "faulty", None: "-"}


def prompt(device: Device) -> str:
    """What the device shows when it waits."""
    return f"({device.device}) "


def answer(device: Device, typed: list[str], rate: int) -> Iterator[str | float]:
    """Go through what the device prints; a number is a pause in seconds."""
    members = device.members or ()
    match typed:
        case ["give", "facts"]:
            hardware, running, config = device.hardware, device.running, device.config
            facts = {
                "machine": hardware.model,
                "release": hardware.revision,
                "memory-mb": None if hardware.memory is None else hardware.memory // 2**20,
                "runs": running.version,
                "runs-bank": running.bank,
                "unsaved": None if config is None else "ny"[bool(config.unsaved_changes)],
                "backup": None
                if config is None or config.backed_up_at is None
                else f"{config.backed_up_at:%Y-%m-%d %H:%M:%S}",
            }
            yield "".join(f"{k}: {v}\n" for k, v in facts.items() if v is not None)
        case ["give", "banks"] if members and members[0].banks is not None:
            for bank in members[0].banks:
                yield f"bank {bank.name}\n  health: {_HEALTH[bank.state]}\n"
                known = [("carries", bank.version), ("bytes", bank.size), *(bank.digests or ())]
                yield "".join(f"  {k}: {v}\n" for k, v in known if v is not None)
        case ["give", "start"] if members and members[0].boot is not None:
            boot = members[0].boot
            yield f"default-now: {boot.default_bank.live or '-'}\n"
            yield f"default-saved: {boot.default_bank.saved or '-'}\n"
            once = boot.once.place if boot.once is not None else None
            yield f"once: {once.removeprefix('bank:') if once else '-'}\n"
        case ["leave"]:
            return
        case _:
            yield "Sorry, no such thing.\n"

"""The lines of each language that change a device: what a stand-in does that obeys."""

from collections.abc import Callable

from ovek.model.snapshot import BootMode
from ovek.standin.hands import ChangeRefusedError, Hands, ServerImage
from ovek.standin.loader import starter
from ovek.standin.state import Standin

RELOADS = (["start", "anew"], ["begin", "again"], ["wake", "anew"], ["come", "up", "again"])
_WAYS: dict[str, BootMode] = {"by-list": "listed", "first-seen": "first-found", "wait-here": "hold"}


def hands_of(standin: Standin, server: dict[str, ServerImage]) -> Hands:
    """A stand-in as somebody works on it; `server` are the images that it can copy."""
    return Hands(standin.device, server, starter(standin.language))


def obeyed(language: str, hands: Hands, typed: list[str]) -> str | None:
    """Do what was typed, and return what the device says; None where it is no line that changes."""
    try:
        return "done\n" if _LANGUAGES[language](hands, typed) else None
    except ChangeRefusedError as refused:
        return f"not done: {refused}\n"


def _oxwick(hands: Hands, typed: list[str]) -> bool:
    match typed:
        case ["carry", "file", name, "in", unit, store, path]:
            hands.copy(name, unit, store, path)
        case ["carry", "file", source, "over", unit, store, path]:
            hands.copy_within(source, unit, store, path)
        case ["carry", "file", _, _, _, "out"]:
            pass
        case ["start", "part", unit, part, store, path, *bay]:
            hands.set_component(unit, part, bay[0] if bay else None, f"{store}:{path}")
        case ["begin", store, path]:
            hands.by_hand(f"{store}:{path}")
        case ["carry", "settings", "out"]:
            hands.backed_up()
        case ["carry", "part", name, "in", unit, part, *bay]:
            hands.load_component(name, unit, part, bay[0] if bay else None)
        case ["cast", "off", "file", unit, store, path]:
            hands.delete(unit, store, path)
        case ["start", "order", unit, *places]:
            hands.order(unit, places)
        case ["start", "way", unit, way] if way in _WAYS:
            hands.mode(unit, _WAYS[way])
        case ["start", "once", unit, "nothing"]:
            hands.once(unit, None)
        case ["start", "once", unit, store, path]:
            hands.once(unit, f"{store}:{path}")
        case ["start", "heed", unit]:
            hands.heed(unit)
        case ["start", "keep", unit]:
            hands.save(unit)
        case ["settings", "keep"]:
            hands.save_settings()
        case ["start", "anew"]:
            hands.reload()
        case _:
            return False
    return True


def _tolvane(hands: Hands, typed: list[str]) -> bool:
    match typed:
        case ["fill", "slot", bank, "from", "slot", source]:
            hands.copy_bank(source, bank)
        case ["fill", "slot", bank, "from", name]:
            hands.write_bank(bank, name)
        case ["prefer", "slot", bank, "once"]:
            hands.once(hands.first(), f"bank:{bank}")
        case ["prefer", "no", "slot", "once"]:
            hands.once(hands.first(), None)
        case ["prefer", "slot", bank]:
            hands.default(bank)
        case ["begin", "slot", bank]:
            hands.by_hand(f"bank:{bank}")
        case ["write", "down"]:
            hands.save(hands.first())
            hands.save_settings()
        case ["fetch", "settings"]:
            hands.backed_up()
        case ["weigh", "slot", bank, _]:
            hands.weigh(bank)
        case ["fetch", "slot", _]:
            pass
        case ["begin", "again"]:
            hands.reload()
        case _:
            return False
    return True


def _pellard(hands: Hands, typed: list[str]) -> bool:
    match typed:
        case ["lay", "place", source, "into", "place", bank]:
            hands.copy_bank(source, bank)
        case ["lay", name, "into", "place", bank]:
            hands.write_bank(bank, name)
        case ["favour", "place", bank, "next"]:
            hands.once(hands.first(), f"bank:{bank}")
        case ["favour", "nothing", "next"]:
            hands.once(hands.first(), None)
        case ["favour", "place", bank]:
            hands.default(bank)
        case ["wake", "place", bank]:
            hands.by_hand(f"bank:{bank}")
        case ["keep", "favours"]:
            hands.save(hands.first())
        case ["keep", "settings"]:
            hands.save_settings()
        case ["hand", "out", "settings"]:
            hands.backed_up()
        case ["weigh", "place", bank, _]:
            hands.weigh(bank)
        case ["hand", "out", "place", _]:
            pass
        case ["wake", "anew"]:
            hands.reload()
        case _:
            return False
    return True


def _merrowby(hands: Hands, typed: list[str]) -> bool:
    match typed:
        case ["take", name, "as", supervisor, place]:
            store, _, path = place.partition(":")
            hands.copy(name, supervisor, store, path)
        case ["twin", source, "as", supervisor, place]:
            store, _, path = place.partition(":")
            hands.copy_within(source, supervisor, store, path)
        case ["come", "up", "from", bank]:
            hands.by_hand(f"bank:{bank}")
        case ["discard", supervisor, place]:
            store, _, path = place.partition(":")
            hands.delete(supervisor, store, path)
        case ["trial", "next", "time", supervisor]:
            hands.once(supervisor, "bank:trial")
        case ["no", "trial", "next", "time", supervisor]:
            hands.once(supervisor, None)
        case ["settle", "the", "trial", supervisor]:
            hands.commit(supervisor)
        case ["store", "settings"]:
            for member in hands.device.members or ():
                hands.save(member.id)
            hands.save_settings()
        case ["lend", "settings"]:
            hands.backed_up()
        case ["lend", _, _]:
            pass
        case ["come", "up", "again"]:
            hands.reload()
        case _:
            return False
    return True


_LANGUAGES: dict[str, Callable[[Hands, list[str]], bool]] = {
    "oxwick": _oxwick,
    "tolvane": _tolvane,
    "pellard": _pellard,
    "merrowby": _merrowby,
}

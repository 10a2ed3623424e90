"""What a row may say of each kind of thing: every field, how it is counted, and an example.

The first fields of a thing say where it is; the rest is what is known of it.
"""

from typing import Literal

from msgspec import Struct

Fills = Literal[
    "device",
    "member",
    "volume",
    "file",
    "digest",
    "set",
    "bank",
    "boot",
    "order",
    "component",
]


class Field(Struct, frozen=True):
    """One field: what it is, how it is counted or written, and an example."""

    tells: str
    unit: str
    example: str


_SIZE = "bytes, or with a unit (KiB, MiB, GiB)"
_TIME = "a time: ISO 8601, or as `dates` says"
_TRUTH = "yes or no"
_NAME = "a name"
_PLACE = "volume:path, or a name"
_MODE = "listed, first-found or hold"

_MEMBER = Field(
    "the member that it is of; where none is told, the one asked, or the first", "an id", "2"
)
_VOLUME = Field("the volume that it is on", _NAME, "flash")
_DIGESTS = {
    "md5": Field("its MD5", "32 hex digits, in capitals or in groups, too", "9a0364b9…"),
    "sha1": Field("its SHA-1", "40 hex digits", "da39a3ee…"),
    "sha256": Field("its SHA-256", "64 hex digits", "e3b0c442…"),
    "sha512": Field("its SHA-512", "128 hex digits", "cf83e135…"),
}
_HARDWARE = {
    "hardware.model": Field("the model, as releases name it", _NAME, "OX40-24F"),
    "hardware.revision": Field("the hardware revision", _NAME, "B2"),
    "hardware.memory": Field("the main memory", _SIZE, "4096 MiB"),
    "hardware.serial": Field("the serial number", _NAME, "SKF424D49C"),
}
_HALVES = (("live", "in effect now"), ("saved", "what the next start reads"))

# fmt: off
OF_THINGS: dict[Fills, dict[str, Field]] = {
    "device": {
        "running.version": Field("the version that runs", "a version", "7.4.2"),
        "running.variant": Field("the variant that runs", _NAME, "full"),
        "running.place": Field("what was started", _PLACE, "flash:ox40-full-7.4.2.img"),
        "running.bank": Field("the bank that was started", _NAME, "primary"),
        **_HARDWARE,
        "config.unsaved_changes": Field("whether live settings are not saved", _TRUTH, "no"),
        "config.backed_up_at": Field("when the settings were copied away", _TIME, "2026-11-18"),
        "config.backed_up": Field("that they never were", "the word never", "never"),
        "clock": Field("the device's own time; ask for it first", _TIME, "20 Nov 2026 21:14:00"),
        "reload_at": Field("when it is to reload", _TIME, "21 Nov 2026 02:00"),
        "at": Field("where it was read", "running or boot-loader", "running"),
    },
    "member": {
        "member": Field("the member's id", "an id", "1"),
        "role": Field("what the member is in the stack", _NAME, "active"),
        "running_version": Field("the version that this member runs", "a version", "7.4.2"),
        **_HARDWARE,
    },
    "volume": {
        "member": _MEMBER,
        "volume": Field("the volume's name", _NAME, "flash"),
        "state": Field("whether it can be read", "ok, unreadable or absent", "ok"),
        "filesystem": Field("its file system", _NAME, "fat32"),
        "removable": Field("whether it can be taken out", _TRUTH, "no"),
        "capacity": Field("how much it holds", _SIZE, "2048000 KiB"),
        "free": Field("how much of it is free", _SIZE, "831432 KiB"),
        "cluster": Field("the piece in which room is given", _SIZE, "4096"),
    },
    "file": {
        "member": _MEMBER,
        "volume": _VOLUME,
        "path": Field("its name, with the folders above it", "a path", "web/index.pkg"),
        "size": Field("how large it is", _SIZE, "618659840"),
        "modified": Field("when it was written", _TIME, "21 Oct 2026 21:14:00"),
        **_DIGESTS,
    },
    "digest": {
        "member": _MEMBER,
        "volume": _VOLUME,
        "path": Field("the file that was measured; where none is told, the one asked", "a path",
                      "ox40-full-7.4.2.img"),
        **_DIGESTS,
    },
    "set": {
        "member": _MEMBER,
        "volume": _VOLUME,
        "set_file": Field("the file that lists a set", "a path", "system.set"),
        "package": Field("a package of it, or several", "a path", "pkg/base-7.4.1.oxp"),
    },
    "bank": {
        "member": _MEMBER,
        "bank": Field("the bank's name", _NAME, "primary"),
        "state": Field("what is in it", "ok, empty or bad", "ok"),
        "version": Field("the version in it", "a version", "3.8.1"),
        "variant": Field("the variant in it", _NAME, "full"),
        "size": Field("how large the image in it is", _SIZE, "25165824"),
        **_DIGESTS,
        "place": Field("a file that it is made of, or several", _PLACE, "flash:a/system.img"),
    },
    "boot": {
        "member": _MEMBER,
        **{f"mode.{half}": Field(f"the boot mode, {told}", _MODE, "listed")
           for half, told in _HALVES},
        **{f"default_bank.{half}": Field(f"the bank that starts, {told}", _NAME, "primary")
           for half, told in _HALVES},
        "once": Field("what starts the next time only", _PLACE, "flash:ox40-full-7.4.2.img"),
        **{f"ignores_saved_config.{half}":
           Field(f"whether it starts without its saved settings, {told}", _TRUTH, "no")
           for half, told in _HALVES},
    },
    "order": {
        "member": _MEMBER,
        "list": Field("which order it is of; where none is told, both", "live or saved",
                      "saved"),
        "place": Field("what is tried", _PLACE, "flash:ox40-full-7.4.2.img"),
        "volume": Field("the volume of what is tried, beside `path`", _NAME, "flash"),
        "path": Field("the file that is tried, beside `volume`", "a path", "ox40-full-7.4.2.img"),
        "raw": Field("the entry as it stands, where it cannot be understood", "text", "net first"),
    },
    "component": {
        "member": _MEMBER,
        "component": Field("the component's name", _NAME, "boot-loader"),
        "slot": Field("the slot that it is in, where there are several", _NAME, "3"),
        "version": Field("the version of its firmware", "a version", "10.1.12"),
        "loads_from": Field("where it is loaded from at the next reload", "a place, or itself",
                            "flash:web/"),
        "volume": Field("the volume of that, beside `path`", _NAME, "flash"),
        "path": Field("the path of that, beside `volume`", "a path", "web/"),
    },
}
# fmt: on
FIELDS: dict[Fills, frozenset[str]] = {
    fills: frozenset(fields) for fills, fields in OF_THINGS.items()
}

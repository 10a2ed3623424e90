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

_MEMBER = Field("its member; if missing, the one asked about, or the first", "an id", "2")
_VOLUME = Field("its volume", _NAME, "flash")
_DIGESTS = {
    "md5": Field("its MD5", "32 hex digits (capitals and groups are accepted)", "9a0364b9…"),
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
_HALVES = (("live", "in effect now"), ("saved", "what the next boot reads"))

# fmt: off
OF_THINGS: dict[Fills, dict[str, Field]] = {
    "device": {
        "running.version": Field("the running version", "a version", "7.4.2"),
        "running.variant": Field("the running variant", _NAME, "full"),
        "running.place": Field("what was booted", _PLACE, "flash:ox40-full-7.4.2.img"),
        "running.bank": Field("the bank that was booted", _NAME, "primary"),
        **_HARDWARE,
        "config.unsaved_changes": Field("whether live settings are not saved", _TRUTH, "no"),
        "config.backed_up_at": Field("when the configuration was backed up", _TIME, "2026-11-18"),
        "config.backed_up": Field("that it never was", "the word never", "never"),
        "clock": Field("the device's own time; ask for it first", _TIME, "20 Nov 2026 21:14:00"),
        "reload_at": Field("when a reload is scheduled", _TIME, "21 Nov 2026 02:00"),
        "at": Field("the prompt at which it was read", "running or boot-loader", "running"),
    },
    "member": {
        "member": Field("the member's id", "an id", "1"),
        "role": Field("the member's role in the stack", _NAME, "active"),
        "running_version": Field("the running version of this member", "a version", "7.4.2"),
        **_HARDWARE,
    },
    "volume": {
        "member": _MEMBER,
        "volume": Field("the volume's name", _NAME, "flash"),
        "state": Field("whether it can be read", "ok, unreadable or absent", "ok"),
        "filesystem": Field("its file system", _NAME, "fat32"),
        "removable": Field("whether it is removable", _TRUTH, "no"),
        "capacity": Field("its capacity", _SIZE, "2048000 KiB"),
        "free": Field("its free space", _SIZE, "831432 KiB"),
        "cluster": Field("allocation unit (block size)", _SIZE, "4096"),
    },
    "file": {
        "member": _MEMBER,
        "volume": _VOLUME,
        "path": Field("its name, with the folders above it", "a path", "web/index.pkg"),
        "size": Field("its size", _SIZE, "618659840"),
        "modified": Field("its modification time", _TIME, "21 Oct 2026 21:14:00"),
        **_DIGESTS,
    },
    "digest": {
        "member": _MEMBER,
        "volume": _VOLUME,
        "path": Field("the file of the digest; if missing, the one asked about", "a path",
                      "ox40-full-7.4.2.img"),
        **_DIGESTS,
    },
    "set": {
        "member": _MEMBER,
        "volume": _VOLUME,
        "set_file": Field("the file that lists a package set", "a path", "system.set"),
        "package": Field("one of its packages, or several", "a path", "pkg/base-7.4.1.oxp"),
    },
    "bank": {
        "member": _MEMBER,
        "bank": Field("the bank's name", _NAME, "primary"),
        "state": Field("its state", "ok, empty or bad", "ok"),
        "version": Field("the version it contains", "a version", "3.8.1"),
        "variant": Field("the variant it contains", _NAME, "full"),
        "size": Field("the size of its image", _SIZE, "25165824"),
        **_DIGESTS,
        "place": Field("a file of the bank, or several", _PLACE, "flash:a/system.img"),
    },
    "boot": {
        "member": _MEMBER,
        **{f"mode.{half}": Field(f"the boot mode, {told}", _MODE, "listed")
           for half, told in _HALVES},
        **{f"default_bank.{half}": Field(f"the default bank, {told}", _NAME, "primary")
           for half, told in _HALVES},
        "once": Field("the one-time boot entry", _PLACE, "flash:ox40-full-7.4.2.img"),
        **{f"ignores_saved_config.{half}":
           Field(f"whether it boots without its saved configuration, {told}", _TRUTH, "no")
           for half, told in _HALVES},
    },
    "order": {
        "member": _MEMBER,
        "list": Field("which boot order; if missing, both", "live or saved",
                      "saved"),
        "place": Field("the place to boot from", _PLACE, "flash:ox40-full-7.4.2.img"),
        "volume": Field("the volume of that place, with `path`", _NAME, "flash"),
        "path": Field("the path of that place, with `volume`", "a path", "ox40-full-7.4.2.img"),
        "raw": Field("the entry as printed, if it cannot be parsed", "text", "net first"),
    },
    "component": {
        "member": _MEMBER,
        "component": Field("the component's name", _NAME, "boot-loader"),
        "slot": Field("its slot, if there are several of its kind", _NAME, "3"),
        "version": Field("the version of its firmware", "a version", "10.1.12"),
        "loads_from": Field("the place it loads from at the next reload", "a place, or itself",
                            "flash:web/"),
        "volume": Field("the volume of that place, with `path`", _NAME, "flash"),
        "path": Field("the path of that place, with `volume`", "a path", "web/"),
    },
}
# fmt: on
FIELDS: dict[Fills, frozenset[str]] = {
    fills: frozenset(fields) for fills, fields in OF_THINGS.items()
}

"""Auditing again: what was found the last time holds for a device that rests on the same.

A result is kept with a digest of all that it was made of: the device's line without its times and
its evidence, what the fleet file says of the device, its waivers, and what is the same for all: the
sheets, the catalog, the policy, the shelf, and this program. Times are held against the bounds
within which the result stays as it is.
"""

import hashlib
import logging
import os
import re
import sys
from collections.abc import Iterable, Iterator
from datetime import datetime
from fnmatch import fnmatchcase
from pathlib import Path
from typing import NamedTuple

import msgspec
from msgspec import Struct
from msgspec.structs import replace

import ovek
from ovek.app.devices import Devices
from ovek.app.shortcuts import takes_shortcuts
from ovek.engine.audit import Terms
from ovek.files.cache import DISTRUST, Kept, KeptRow, distrusted, kept_file
from ovek.files.decode import read_bytes
from ovek.files.sheets import find_sheet
from ovek.files.site import Site
from ovek.files.state import SnapshotLine
from ovek.model.bound import Bound, holds
from ovek.model.finding import DeviceAudit
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device, Source, Time
from ovek.model.waiver import Waiver

_LOG = logging.getLogger(__name__)

_clock = msgspec.json.Decoder(Time | None).decode
_source = msgspec.json.Decoder(Source | None).decode
_encode = msgspec.json.Encoder(order="deterministic").encode


# Why one digest for all that is shared: a change of the catalog may change any device's result, and
# finding out which would take as long as to audit again.
class Basis(Struct, frozen=True):
    """Where results are kept, and a digest of what all of them rest on."""

    file: Path
    digest: bytes


class CachedResult(Struct, frozen=True):
    """The audit of one device, within which bounds it holds, and the waivers of use for it."""

    audit: DeviceAudit
    bounds: tuple[Bound, ...]
    used: tuple[Waiver, ...]


class _CacheLine(NamedTuple):
    """A line without what tells of when and how its device was read, and those as JSON."""

    rest: bytes
    taken_at: bytes
    clock: bytes
    source: bytes


_TIME = re.compile(rb'"[^"\\]*"')
_STRING = rb'"(?:[^"\\]|\\.)*+"'
_FLAT = rb"\{(?:[^{}\"]|%s)*+\}" % _STRING
_OBJECT = re.compile(rb"\{(?:[^{}\"]|%s|%s)*+\}" % (_STRING, _FLAT))
_CUT = ((b'"taken_at":', _TIME), (b'"clock":', _TIME), (b'"source":', _OBJECT))


def _cut(text: bytes) -> _CacheLine:
    """Cut out the first of each, where it is written as Ovek writes it."""
    found, spans = [], []
    for key, value in _CUT:
        at = text.find(key)
        match = value.match(text, at + len(key)) if at >= 0 else None
        found.append(match[0] if match is not None else b"")
        if match is not None:
            spans.append(match.span())
    rest, start = [], 0
    for at, end in sorted(spans):
        rest.append(text[start:at])
        start = end
    return _CacheLine(b"".join((*rest, text[start:])), *found)


def _is_whole(line: _CacheLine, text: bytes, device: Device) -> bool:
    """Whether what was cut out is what a device was made of, and nothing else tells of it."""
    told = zip(
        (b'"taken_at"', b'"clock"', b'"source"'),
        (line.taken_at, line.clock, line.source),
        (device.taken_at, device.clock, device.source),
        (_clock, _clock, _source),
        strict=True,
    )
    return all(
        text.count(key) == (1 if value else 0) and read(value or b"null") == was
        for key, value, was, read in told
    )


def basis_of(devices: Devices, shelf: ShelfFacts | None) -> Basis | None:
    """What audits of a site rest on now; None where none are kept. Raises InputError."""
    site = devices.site
    file = kept_file(site.folder)
    if (
        file is None
        or not takes_shortcuts()
        or site.until is not None
        or (devices.runner is not None and devices.runner.elsewhere)
    ):
        return None
    if (why := distrusted(file)) is not None:
        _LOG.warning("the audit cache is not used: %s. %s.", why, DISTRUST)
        return None
    made = hashlib.blake2b(digest_size=16)
    for part in (*_program(), *_sheets(site), _encode(site.policy), _shelf(shelf)):
        made.update(b"%d " % len(part) + part)
    made.update(_encode(site.releases))
    return Basis(file, made.digest())


def _program() -> Iterable[bytes]:
    """What tells this program from any other that might answer otherwise."""
    yield f"{ovek.__version__} {sys.version} {msgspec.__version__}".encode()
    yield from sorted(_modules_in(str(Path(ovek.__file__).parent)))


def _modules_in(folder: str) -> Iterator[bytes]:
    """What tells each module of the program from any other text of it."""
    with os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.endswith(".py"):
                info = entry.stat()
                yield f"{entry.path} {info.st_size} {info.st_mtime_ns}".encode()
            elif entry.is_dir() and entry.name != "__pycache__":
                yield from _modules_in(entry.path)


def _sheets(site: Site) -> Iterable[bytes]:
    for name in site.sheet_names:
        file = find_sheet(site.folder, name)
        yield name.encode()
        yield b"" if file is None else read_bytes(file)


def _shelf(shelf: ShelfFacts | None) -> bytes:
    """What the shelf tells of every device; whose backup is of when is told device by device."""
    if shelf is None or shelf.backups is None:
        return _encode(shelf)
    return _encode(replace(shelf, backups=replace(shelf.backups, newest={})))


class Again:
    """Looks up what was found before, and puts down what is found now."""

    def __init__(self, basis: Basis, devices: Devices, now: datetime) -> None:
        self.basis, self.devices, self.now = basis, devices, now
        self.rows: list[KeptRow] = []
        self._kept = Kept(basis.file)
        self._asked: tuple[bytes, _CacheLine, bytes] | None = None
        self._result = msgspec.json.Decoder(CachedResult).decode

    def find(
        self, name: str, place: SnapshotLine, text: bytes, terms: Terms
    ) -> CachedResult | None:
        """What was found for a device, where it still holds. `place` tells when it was read."""
        line = _cut(text)
        key = self._key_of(name, line, terms)
        self._asked = key, line, text
        found = self._kept.find(name, key)
        if found is None:
            return None
        try:
            clock = _clock(line.clock or b"null") or place.taken_at
            _source(line.source or b"null")  # what is wrong with it is told where it is read
            result = self._result(found)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            return None
        if not holds(result.bounds, self.now, place.taken_at, clock):
            return None
        return replace(result, audit=replace(result.audit, taken_at=place.taken_at))

    def put(self, device: Device, result: CachedResult) -> None:
        """Put down what was found for the device that was looked up last."""
        if self._asked is not None:
            key, line, text = self._asked
            if _is_whole(line, text, device):
                self.rows.append(KeptRow(device.device, key, _encode(result)))

    def _key_of(self, name: str, line: _CacheLine, terms: Terms) -> bytes:
        listed, shelf = self.devices.listed(name), terms.shelf
        newest = None
        if shelf is not None and shelf.backups is not None:
            newest = shelf.backups.newest.get(name)
        today = self.now.date()
        rest = (
            listed.site if listed is not None else None,
            listed.role if listed is not None else None,
            terms.expected,
            terms.not_read,
            terms.rates,
            newest,
            [(one, one.until >= today) for one in terms.waivers if fnmatchcase(name, one.device)],
            bool(line.clock),
        )
        made = hashlib.blake2b(self.basis.digest, digest_size=16)
        made.update(_encode(rest))
        made.update(line.rest)
        return made.digest()

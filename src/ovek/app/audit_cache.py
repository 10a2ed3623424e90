"""Auditing again: what was found the last time holds for a device that rests on the same.

A result is kept with a digest of all that it was made of: the device's line without its times and
its evidence, what the fleet file says of the device, its waivers, and what is the same for all: the
sheets, the catalog, the policy, the shelf, and this program. Times are held against the bounds
within which the result stays as it is.
"""

import hashlib
import logging
import os
import sys
from collections.abc import Iterable, Iterator
from datetime import datetime
from fnmatch import fnmatchcase
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import replace

import ovek
from ovek.app.devices import Devices
from ovek.app.shortcuts import takes_shortcuts
from ovek.engine.audit import Terms, answer_in
from ovek.files.cache import DISTRUST, Kept, KeptRow, distrusted, kept_file
from ovek.files.decode import read_bytes
from ovek.files.fingerprint import tells_all_of
from ovek.files.newest import SnapshotLine
from ovek.files.packages import stamp
from ovek.files.sheets import find_sheet
from ovek.files.site import Site
from ovek.model.answer import Answered
from ovek.model.bound import Bound, holds
from ovek.model.finding import AuditSummary, DeviceAudit
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device
from ovek.model.waiver import Waiver

_LOG = logging.getLogger(__name__)

_TAKEN_AT = b'"taken_at":'
_encode = msgspec.json.Encoder(order="deterministic").encode
_as_line = msgspec.json.Encoder(order="sorted").encode
_audit = msgspec.json.Decoder(DeviceAudit).decode


# Why one digest for all that is shared: a change of the catalog may change any device's result, and
# finding out which would take as long as to audit again.
class Basis(Struct, frozen=True):
    """Where results are kept, and a digest of what all of them rest on."""

    file: Path
    digest: bytes


class MadeAudit(Struct, frozen=True):
    """The audit of one device, within which bounds it holds, and the waivers of use for it."""

    audit: DeviceAudit
    bounds: tuple[Bound, ...]
    used: tuple[Waiver, ...]

    @property
    def line(self) -> bytes:
        """It as a line of JSON."""
        return _as_line(self.audit)

    @property
    def summary(self) -> AuditSummary:
        """What it adds to those of others."""
        summary = AuditSummary()
        summary.add(self.audit)
        return summary

    @property
    def answer(self) -> Answered:
        """The answer."""
        return answer_in(self.audit)


class _Kept(Struct, frozen=True, array_like=True):
    """The same as it is kept: its line, ready before and behind the time, and what it adds."""

    before: bytes
    behind: bytes
    bounds: tuple[Bound, ...]
    used: tuple[Waiver, ...]
    summary: AuditSummary
    answer: Answered


class KnownAudit(Struct, frozen=True):
    """The audit of one device, as it was found before."""

    line: bytes
    used: tuple[Waiver, ...]
    summary: AuditSummary
    answer: Answered

    @property
    def audit(self) -> DeviceAudit:
        """It as it is told."""
        return _audit(self.line)


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
    made.update(_encode((site.advisory_stamps, site.product_aliases)))
    return Basis(file, made.digest())


def _program() -> Iterable[bytes]:
    """What tells this program from any other that might answer otherwise."""
    yield f"{ovek.__version__} {sys.version} {msgspec.__version__}".encode()
    yield from sorted(_modules_in(str(Path(ovek.__file__).parent)))
    yield stamp().encode()


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
        self._asked: tuple[bytes, SnapshotLine] | None = None
        self._result = msgspec.msgpack.Decoder(_Kept).decode
        self._pack = msgspec.msgpack.Encoder().encode

    def find(self, name: str, line: SnapshotLine, terms: Terms) -> KnownAudit | None:
        """What was found for a device by what its line says, where it still holds."""
        self._asked = None
        if not line.digest:
            return None
        key = self._key_of(name, line, terms)
        self._asked = key, line
        found = self._kept.find(name, key)
        if found is None:
            return None
        try:
            kept = self._result(found)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            return None
        if not holds(kept.bounds, self.now, line.taken_at, line.clock or line.taken_at):
            return None
        whole = b"".join((kept.before, _as_line(line.taken_at), kept.behind))
        return KnownAudit(whole, kept.used, kept.summary, kept.answer)

    def put(self, device: Device, text: bytes, made: MadeAudit) -> None:
        """Put down what was found for the device that was looked up last, by this text."""
        if self._asked is None:
            return
        key, line = self._asked
        before, time, behind = made.line.partition(_TAKEN_AT + _as_line(line.taken_at))
        if not time or _TAKEN_AT in behind or not tells_all_of(text, device):
            return
        kept = _Kept(before + _TAKEN_AT, behind, made.bounds, made.used, made.summary, made.answer)
        self.rows.append(KeptRow(device.device, key, self._pack(kept)))

    def _key_of(self, name: str, line: SnapshotLine, terms: Terms) -> bytes:
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
            line.clock is not None,
        )
        made = hashlib.blake2b(self.basis.digest, digest_size=16)
        made.update(_encode(rest))
        made.update(line.digest)
        return made.digest()

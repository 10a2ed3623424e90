"""What a line of a snapshot says beside when and how its device was read.

Two readings of one device that found the same have one fingerprint, so that what was found out of
the first holds for the second.
"""

import hashlib
import re
from typing import NamedTuple

import msgspec

from ovek.model.snapshot import Device, Source, Time

_clock = msgspec.json.Decoder(Time | None).decode
_source = msgspec.json.Decoder(Source | None).decode
_TIME = re.compile(rb'"[^"\\]*"')
_STRING = rb'"(?:[^"\\]|\\.)*+"'
_FLAT = rb"\{(?:[^{}\"]|%s)*+\}" % _STRING
_OBJECT = re.compile(rb"\{(?:[^{}\"]|%s|%s)*+\}" % (_STRING, _FLAT))
_CUT = ((b'"taken_at":', _TIME), (b'"clock":', _TIME), (b'"source":', _OBJECT))


class Fingerprint(NamedTuple):
    """A digest of what a line says beside its times and its source, and the device's clock."""

    digest: bytes
    clock: Time | None


class _CutLine(NamedTuple):
    """A line without what tells of when and how its device was read, and those as JSON."""

    rest: bytes
    taken_at: bytes
    clock: bytes
    source: bytes


def fingerprint(text: bytes) -> Fingerprint | None:
    """The fingerprint of a line; None where what tells of times and source is not as it should be.

    What is wrong with it is told where the line is read.
    """
    line = _cut(text)
    try:
        clock = _clock(line.clock or b"null")
        _source(line.source or b"null")
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None
    return Fingerprint(hashlib.blake2b(line.rest, digest_size=16).digest(), clock)


def tells_all_of(text: bytes, device: Device) -> bool:
    """Whether what a fingerprint leaves out of a line is what the device was made of, and no more.

    It is not where a key is written otherwise than Ovek writes it, or stands elsewhere, too.
    """
    line = _cut(text)
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


def _cut(text: bytes) -> _CutLine:
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
    return _CutLine(b"".join((*rest, text[start:])), *found)

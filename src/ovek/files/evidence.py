"""The raw evidence of a snapshot: one compressed JSON file a device, beside the snapshot."""

import gzip
import json
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec

from ovek.files.atomic import write_whole
from ovek.files.errors import InputError
from ovek.files.names import file_name
from ovek.files.safe_open import opened

FORMAT = "ovek.evidence/1"
_ROWS = 10_000  # that are turned into text at once
_MOST = 256 * 2**20


def evidence_folder(snapshot: Path) -> Path:
    """The folder that holds the evidence of a snapshot."""
    return snapshot.with_name(f"{snapshot.name.partition('.jsonl')[0]}.evidence")


def evidence_file(snapshot: Path, device: str) -> Path:
    """The file that holds the evidence of one device."""
    return evidence_folder(snapshot) / f"{file_name(device)}.json.gz"


def write_evidence(file: Path, head: dict[str, Any], answers: Iterable[Any]) -> None:
    """Write the answers of one device, whole or not at all; no more than one answer is held."""
    write_whole(file, _packed(_pieces({"format": FORMAT, **head}, answers)))


def _pieces(head: dict[str, Any], answers: Iterable[Any]) -> Iterator[bytes]:
    yield msgspec.json.encode(head)[:-1] + b',"answers":['
    for number, answer in enumerate(answers):
        yield b",\n" if number else b"\n"
        rows = getattr(answer, "rows", ())
        if len(rows) <= _ROWS:
            yield msgspec.json.encode(answer)
            continue
        yield msgspec.json.encode(msgspec.structs.replace(answer, rows=()))[:-1] + b',"rows":['
        for at in range(0, len(rows), _ROWS):
            yield (b"," if at else b"") + msgspec.json.encode(rows[at : at + _ROWS])[1:-1]
        yield b"]}"
    yield b"]}\n"


def _packed(pieces: Iterable[bytes]) -> Iterator[bytes]:
    """The same bytes as gzip (RFC 1952), without a time."""
    packer = zlib.compressobj(wbits=31)
    for piece in pieces:
        yield packer.compress(piece)
    yield packer.flush()


def read_evidence(file: Path) -> dict[str, Any]:
    """Read the evidence of one device. Raises InputError."""
    try:
        with opened(file) as packed, gzip.GzipFile(fileobj=packed) as stream:
            data = stream.read(_MOST + 1)
    except (OSError, EOFError, zlib.error) as error:
        raise InputError(file, f"cannot be read ({error})", "Read the device again") from None
    if len(data) > _MOST:
        raise InputError(file, f"unpacks to over {_MOST} bytes", "Read the device again")
    try:
        whole = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise InputError(file, f"invalid JSON: {error}", "Read the device again") from None
    if not isinstance(whole, dict) or whole.get("format") != FORMAT:
        raise InputError(file, f"is not {FORMAT}", "Read the device again", key="format")
    return whole

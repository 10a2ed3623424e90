"""The raw evidence of a snapshot: one compressed JSON file a device, beside the snapshot."""

import gzip
import json
import zlib
from pathlib import Path
from typing import Any

from ovek.files.errors import InputError
from ovek.files.names import file_name
from ovek.files.regular import opened
from ovek.files.whole import write_whole

FORMAT = "ovek.evidence/1"
_MOST = 256 * 2**20


def evidence_folder(snapshot: Path) -> Path:
    """The folder that holds the evidence of a snapshot."""
    return snapshot.with_name(f"{snapshot.name.partition('.jsonl')[0]}.evidence")


def evidence_file(snapshot: Path, device: str) -> Path:
    """The file that holds the evidence of one device."""
    return evidence_folder(snapshot) / f"{file_name(device)}.json.gz"


def write_evidence(file: Path, head: dict[str, Any], answers: list[Any]) -> None:
    """Write the answers of one device, whole or not at all."""
    whole = {"format": FORMAT, **head, "answers": answers}
    data = json.dumps(whole, indent=0, ensure_ascii=True).encode()
    write_whole(file, [gzip.compress(data, mtime=0)])


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
        raise InputError(file, f"is not JSON: {error}", "Read the device again") from None
    if not isinstance(whole, dict) or whole.get("format") != FORMAT:
        raise InputError(file, f"is not {FORMAT}", "Read the device again", key="format")
    return whole

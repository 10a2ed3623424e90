"""State files of stand-ins, `ovek.standin/1`: JSON Lines, one simulated device a line."""

from collections.abc import Iterator
from pathlib import Path
from typing import Literal

import msgspec

from ovek.files.decode import explain, read_bytes, text_of
from ovek.files.errors import InputError
from ovek.model.snapshot import Device

FORMAT = "ovek.standin/1"

Fault = Literal[
    "closed",
    "hang-login",
    "refuse",
    "second-factor",
    "changed-key",
    "drop",
    "hang",
    "garbage",
    "flood",
    "escapes",
]


class Standin(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One simulated device: its true state, the language it speaks, and how it misbehaves.

    `digest_rate` is in bytes a second. `sftp` is a folder, beside the state file, that it serves.
    """

    format: Literal["ovek.standin/1"]
    language: Literal["oxwick", "tolvane", "merrowby", "pellard"]
    device: Device
    user: str = "reader"
    password: str = "harbour"  # noqa: S105 - the sample's, and no secret
    fault: Fault | None = None
    digest_rate: int = 2**30
    sftp: str | None = None


def read_standins(file: Path) -> Iterator[Standin]:
    """Go through the stand-ins of a state file; raise InputError."""
    text = text_of(file, read_bytes(file))
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        try:
            plain = msgspec.json.decode(line)
        except msgspec.DecodeError as error:
            met = f"is not JSON: {error}"
            raise InputError(file, met, "Fix that line", line=number) from None
        try:
            yield msgspec.convert(plain, Standin)
        except msgspec.ValidationError as error:
            raise explain(file, error, plain, Standin, FORMAT, number) from None

"""Snapshots, `ovek.snapshot/1`: JSON Lines, one device a line, read as a stream."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path

import msgspec

from ovek.files.atomic import write_whole
from ovek.files.decode import cannot_read, explain, text_of
from ovek.files.errors import InputError
from ovek.files.safe_open import opened
from ovek.model.snapshot import FORMAT, Device

_LONGEST_LINE = 64 * 2**20
_DECODER = msgspec.json.Decoder(Device)
_MARK = b"\xef\xbb\xbf"  # of UTF-8, where an editor put one
_DO = "Delete that line, or read the devices again: ovek survey"


class _SnapshotHead(msgspec.Struct):
    """What tells one snapshot's age, whatever else the line holds."""

    taken_at: datetime


def read_snapshot(file: Path) -> Iterator[Device]:
    """Go through the devices of a snapshot, one at a time and in order; raise InputError.

    Only one device is held at a time; the names of those seen are kept to refuse a second line
    for the same device.
    """
    seen = SeenDevices(file)
    for number, line in snapshot_lines(file):
        device = snapshot_device(file, number, line)
        seen.add(device.device, number)
        yield device
    seen.done()


class SeenDevices:
    """The devices of a snapshot so far, each of which has one line."""

    def __init__(self, file: Path) -> None:
        self.file = file
        self.lines: dict[str, int] = {}

    def add(self, name: str, line: int) -> None:
        """Take a device in; raise InputError where it has a line already."""
        first = self.lines.setdefault(name, line)
        if first != line:
            text = f"{name!r} is already on line {first}"
            do = "Keep one line per device"
            raise InputError(self.file, text, do, line=line, key="device")

    def done(self) -> None:
        """Raise InputError where there was no device at all."""
        if not self.lines:
            raise InputError(
                self.file, "is empty: no device", "Read the devices again: ovek survey"
            )


def newest_snapshot(folder: Path) -> Path:
    """Return the snapshot in `folder` (`*.jsonl`) whose first device was read last.

    Raises InputError where there is none, or where one cannot be dated.
    """
    try:
        files = sorted(file for file in folder.glob("*.jsonl") if file.is_file())
    except OSError as error:
        raise cannot_read(folder, error) from None
    if not files:
        text = "has no snapshot (*.jsonl)"
        raise InputError(folder, text, "Put one there, or use --snapshot FILE")
    return max(files, key=lambda file: (_taken_at(file), file.name)) if files[1:] else files[0]


def _taken_at(file: Path) -> float:
    for number, line in snapshot_lines(file):
        try:
            return msgspec.json.decode(line, type=_SnapshotHead).taken_at.timestamp()
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            return snapshot_device(file, number, line).taken_at.timestamp()
    raise InputError(
        file,
        "is empty, so the newest snapshot is unknown",
        "Delete it, or use --snapshot FILE",
    )


def write_snapshot(file: Path, devices: Iterable[Device]) -> None:
    """Write devices as a snapshot, whole or not at all."""
    encoder = msgspec.json.Encoder()
    write_whole(file, (encoder.encode(device) + b"\n" for device in devices))


def snapshot_lines(file: Path) -> Iterator[tuple[int, bytes]]:
    """Go through the lines that hold a device, with their numbers from 1; raise InputError."""
    for number, line, _ in placed_lines(file):
        yield number, line


def placed_lines(file: Path) -> Iterator[tuple[int, bytes, int]]:
    """Go through the lines that hold a device: number from 1, line, and the byte it starts at.

    Raises InputError.
    """
    at = 0
    try:
        with opened(file) as stream:
            number = 0
            while line := stream.readline(_LONGEST_LINE + 1):
                number += 1
                if len(line) > _LONGEST_LINE:
                    text = f"is longer than {_LONGEST_LINE} bytes"
                    raise InputError(file, text, "Check that it is a snapshot", line=number)
                if number == 1 and line.startswith(_MARK):
                    line, at = line.removeprefix(_MARK), at + len(_MARK)
                length = len(line)
                if not line.isspace() and line:
                    yield number, line, at
                at += length
    except OSError as error:
        raise cannot_read(file, error) from None


def snapshot_device(file: Path, number: int, line: bytes) -> Device:
    """The device of one line; raise InputError."""
    try:
        return _DECODER.decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise _why(file, number, line, error) from None


def _why(file: Path, number: int, line: bytes, error: Exception) -> InputError:
    """Tell what is wrong with a line that is no device."""
    if number == 1:
        text_of(file, line[:2])
    try:
        line.decode()
    except UnicodeDecodeError as wrong:
        text = f"byte 0x{line[wrong.start]:02x} is not UTF-8"
        return InputError(file, text, _DO, line=number)
    try:
        plain = msgspec.json.decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as wrong:
        reason = str(wrong).removeprefix("JSON is malformed: ")
        reason = "nested too deeply" if isinstance(wrong, RecursionError) else reason
        text = f"damaged: {reason[:1].lower()}{reason[1:]}"
        return InputError(file, text, _DO, line=number)
    return explain(file, error, plain, Device, FORMAT, number)

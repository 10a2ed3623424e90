"""The journal of a survey: finished devices as they come, so that a run cut off loses none.

It stands beside the snapshot as `NAME.jsonl.unfinished` and is a snapshot itself; when the survey
ends its lines go, in the fleet's order, into the snapshot, whole or not at all.
"""

import os
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from ovek.files.errors import InputError
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.snapshot import Device

SUFFIX = ".unfinished"
_SYNC_EVERY = 1.0


class _Name(msgspec.Struct):
    device: str


class Journal:
    """Lines of finished devices, kept on disk; `names` are those it holds."""

    def __init__(self, snapshot: Path) -> None:
        self.snapshot = snapshot
        self.file = snapshot.with_name(snapshot.name + SUFFIX)
        self._at: dict[str, tuple[int, int]] = {}
        self._synced = 0.0
        try:
            self.file.parent.mkdir(parents=True, exist_ok=True)
            self._stream = self.file.open("a+b")
        except OSError as error:
            raise cannot_read(self.file, error) from None
        self._take_up()

    @property
    def names(self) -> set[str]:
        """The devices that have a line."""
        return set(self._at)

    def _take_up(self) -> None:
        """Find the lines that are there; a last line that was cut off goes."""
        self._stream.seek(0)
        at = 0
        for line in self._stream:
            try:
                name = msgspec.json.decode(line, type=_Name).device
            except (msgspec.DecodeError, UnicodeDecodeError):
                break
            if not line.endswith(b"\n"):
                break
            self._at[name] = (at, len(line))
            at += len(line)
        self._stream.truncate(at)
        self._stream.seek(0, os.SEEK_END)

    def add(self, line: bytes, name: str) -> None:
        """Keep the line of a device; a later one counts."""
        self._stream.seek(0, os.SEEK_END)
        self._at[name] = (self._stream.tell(), len(line))
        self._stream.write(line)
        self._stream.flush()
        if time.monotonic() - self._synced > _SYNC_EVERY:
            os.fsync(self._stream.fileno())
            self._synced = time.monotonic()

    def add_device(self, device: Device) -> None:
        """Keep one device."""
        self.add(msgspec.json.encode(device) + b"\n", device.device)

    def add_snapshot(self, file: Path) -> None:
        """Keep all lines of an earlier snapshot."""
        try:
            with file.open("rb") as lines:
                for number, line in enumerate(lines, 1):
                    try:
                        name = msgspec.json.decode(line, type=_Name).device
                    except (msgspec.DecodeError, UnicodeDecodeError):
                        met = "is no line of a snapshot"
                        raise InputError(file, met, "Read the fleet anew", line=number) from None
                    self.add(line if line.endswith(b"\n") else line + b"\n", name)
        except OSError as error:
            raise cannot_read(file, error) from None

    def finish(self, order: Iterable[str]) -> None:
        """Write the snapshot, devices in this order, and remove the journal."""
        if self._at:
            write_whole(self.snapshot, self._lines(order))
        self.close()
        self.file.unlink()

    def close(self) -> None:
        """Leave the journal for a later run."""
        self._stream.close()

    def _lines(self, order: Iterable[str]) -> Iterator[bytes]:
        left = dict(self._at)
        for name in order:
            if name in left:
                yield self._read(*left.pop(name))
        for at, length in left.values():
            yield self._read(at, length)

    def _read(self, at: int, length: int) -> bytes:
        self._stream.seek(at)
        return self._stream.read(length)


def unfinished(folder: Path) -> Path | None:
    """The snapshot that the newest journal in a folder belongs to; None where there is none."""
    files = sorted(folder.glob(f"*.jsonl{SUFFIX}"))
    return files[-1].with_name(files[-1].name.removesuffix(SUFFIX)) if files else None

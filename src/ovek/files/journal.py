"""The journal of a survey: finished devices as they come, so that a run cut off loses none.

It stands beside the snapshot as `NAME.jsonl.unfinished` and is a snapshot itself; when the survey
ends its lines go, in the fleet's order, into the snapshot, whole or not at all.
"""

import os
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

import msgspec

from ovek.files.atomic import write_whole
from ovek.files.decode import cannot_read
from ovek.files.errors import InputError
from ovek.files.safe_open import opened, opened_to_add
from ovek.model.snapshot import Device

SUFFIX = ".unfinished"
_SYNC_EVERY = 1.0
_DECODER = msgspec.json.Decoder(Device)


class Journal:
    """Lines of finished devices, kept on disk; `names` are those it holds, `bad` lines that go.

    Lines may be added by several threads.
    """

    def __init__(self, snapshot: Path) -> None:
        self.snapshot = snapshot
        self.file = journal_of(snapshot)
        self.bad: list[int] = []
        self._at: dict[str, tuple[int, int]] = {}
        self._end, self._synced = 0, 0.0
        self._lock = threading.Lock()
        try:
            self.file.parent.mkdir(parents=True, exist_ok=True)
            # Without a buffer: what could not be written is not tried again behind our back.
            self._stream = opened_to_add(self.file)
            self._take_up()
        except OSError as error:
            raise cannot_read(self.file, error) from None

    @property
    def names(self) -> set[str]:
        """The devices that have a line."""
        return set(self._at)

    def _take_up(self) -> None:
        """Find the lines that are there; one that is no device costs itself, a cut one goes."""
        self._stream.seek(0)
        with opened(self.file) as lines:
            for number, line in enumerate(lines, 1):
                if not line.endswith(b"\n"):
                    break
                try:
                    self._at[_DECODER.decode(line).device] = (self._end, len(line))
                except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                    self.bad.append(number)
                self._end += len(line)
        self._stream.truncate(self._end)

    def add(self, line: bytes, name: str) -> None:
        """Keep the line of a device; a later one counts. Raises InputError, nothing half kept."""
        with self._lock:
            try:
                self._write(line)
            except OSError as error:
                with suppress(OSError):
                    self._stream.truncate(self._end)
                reason = (error.strerror or str(error)).lower()
                text = f"cannot be written ({reason})"
                raise InputError(self.file, text, "Check the folder and its free space") from None
            self._at[name] = (self._end, len(line))
            self._end += len(line)

    def _write(self, line: bytes) -> None:
        left = memoryview(line)
        while left:
            left = left[self._stream.write(left) :]
        # Why not after each line: a sync takes milliseconds, and a thousand devices may end at
        # once. A crash of the machine loses a second of devices; a killed process loses none.
        if time.monotonic() - self._synced > _SYNC_EVERY:
            os.fsync(self._stream.fileno())
            self._synced = time.monotonic()

    def add_device(self, device: Device) -> None:
        """Keep one device."""
        self.add(msgspec.json.encode(device) + b"\n", device.device)

    def finish(self, order: Iterable[str]) -> None:
        """Write the snapshot, devices in this order, and remove the journal."""
        if self._at:
            write_whole(self.snapshot, self._lines(order))
        self.close()
        self.file.unlink(missing_ok=True)

    def close(self) -> None:
        """Leave the journal for a later run; one that holds nothing goes."""
        if not self._at and not self.bad:
            self.file.unlink(missing_ok=True)
        with self._lock:
            self._stream.close()

    def _lines(self, order: Iterable[str]) -> Iterator[bytes]:
        left = dict(self._at)
        for name in order:
            if name in left:
                yield self._read(*left.pop(name))
        for at, length in left.values():
            yield self._read(at, length)

    def _read(self, at: int, length: int) -> bytes:
        pieces, left = [], length
        self._stream.seek(at)
        while left and (piece := self._stream.read(left)):
            pieces.append(piece)
            left -= len(piece)
        return b"".join(pieces)


def journal_of(snapshot: Path) -> Path:
    """The file of a snapshot's journal."""
    return snapshot.with_name(snapshot.name + SUFFIX)


def unfinished(folder: Path) -> Path | None:
    """The snapshot that the newest journal in a folder belongs to; None where there is none."""
    files = sorted(folder.glob(f"*.jsonl{SUFFIX}"))
    return files[-1].with_name(files[-1].name.removesuffix(SUFFIX)) if files else None

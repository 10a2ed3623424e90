"""The state of a fleet: the newest line of each device over all its snapshots.

1. Of two lines of one device the one that was read later counts; of equal ones, that in the file
   whose name comes later.
2. A device that `fleet.toml` does not list counts while the newest snapshot holds it.
3. A survey leaves what it tried beside its snapshot (`NAME.survey.json`). A device that the last
   survey that tried it could not read is *not read*, whatever is known from before.

An index (`files.newest`) keeps which line is the newest of each device. Only files that are new are
read; where it is missing, or a file that it points into was changed or is gone, it is made anew.
"""

import os
from collections.abc import Collection, Iterable, Iterator
from contextlib import ExitStack
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

import msgspec
from msgspec import Struct

from ovek.files.decode import cannot_read, read_bytes
from ovek.files.errors import InputError
from ovek.files.fingerprint import fingerprint
from ovek.files.newest import (
    Failed,
    IndexedFile,
    Newest,
    SnapshotLine,
    forget,
    keep_newest,
    last_of,
    newest_in,
)
from ovek.files.safe_open import opened
from ovek.files.snapshot import SeenDevices, placed_lines, snapshot_device
from ovek.model.fleet import FleetDevice
from ovek.model.snapshot import Device, Time

TRIED = ".survey.json"
_ASKED = 50  # surveys that are asked how fast devices are
_MOST_OPEN = 64


class _Head(Struct):
    """What tells a line's device and its age, whatever else it holds."""

    device: str
    taken_at: datetime


class _TriedDevice(Struct):
    device: str
    result: str
    problem: str | None = None
    do: str | None = None
    digest_rate: int | None = None


class _Survey(Struct):
    began: Time
    devices: list[_TriedDevice]


class _ExpectedHardware(Struct, frozen=True):
    model: str | None = None


class _Running(Struct, frozen=True):
    version: str | None = None


class _Member(Struct):
    running_version: str | None = None
    hardware: _ExpectedHardware | None = None


class _DeviceFact(Struct):
    device: str
    sheet: str | None = None
    site: str | None = None
    role: str | None = None
    hardware: _ExpectedHardware = _ExpectedHardware()
    running: _Running = _Running()
    members: list[_Member] | None = None


class Facts(Struct, frozen=True):
    """What tells a device from others, without all that is on it; None is not known."""

    site: str | None = None
    role: str | None = None
    sheet: str | None = None
    models: tuple[str | None, ...] = ()
    versions: tuple[str | None, ...] = ()

    def told(self, key: str) -> list[str | None]:
        """What is told under a key: site, role, sheet, model or version."""
        several = {"model": self.models, "version": self.versions}
        return list(several[key]) if key in several else [getattr(self, key)]

    def of_fleet(self, listed: FleetDevice) -> "Facts":
        """The same, with what the fleet file says of the device."""
        return Facts(
            listed.site or self.site,
            listed.role or self.role,
            self.sheet or listed.sheet,
            self.models,
            self.versions,
        )


class LineReader:
    """Reads lines where they stand in their files, of which a few are held open."""

    def __init__(self, files: list[Path]) -> None:
        self._files = files
        self._streams: dict[int, BinaryIO] = {}
        self._stack = ExitStack()

    def __enter__(self) -> "LineReader":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:  # fmt: skip
        self._stack.close()

    def text(self, line: SnapshotLine) -> bytes:
        """The text of a line. Raises InputError."""
        file = self._files[line.file]
        try:
            stream = self._streams.get(line.file)
            if stream is None:
                if len(self._streams) >= _MOST_OPEN:
                    self._stack.close()
                    self._streams.clear()
                stream = self._stack.enter_context(opened(file))
                self._streams[line.file] = stream
            stream.seek(line.at)
            return stream.read(line.length)
        except OSError as error:
            forget(file.parent)
            raise cannot_read(file, error) from None


class State:
    """The newest line of each device; `root` is the folder or file that it was found in.

    `last` is the file with the line that was read last of all, also where it is not among these.
    """

    def __init__(
        self,
        root: Path,
        files: list[Path],
        lines: dict[str, SnapshotLine],
        failed: dict[str, Failed] | None = None,
        last: int | None = None,
    ) -> None:
        self.root, self.files, self.lines, self.failed = root, files, lines, failed or {}
        self.last = last

    @property
    def names(self) -> list[str]:
        """The devices that have a line."""
        return list(self.lines)

    @property
    def used(self) -> list[Path]:
        """The files that hold a newest line, by name."""
        return [self.files[at] for at in sorted({line.file for line in self.lines.values()})]

    def only(self, names: Iterable[str]) -> "State":
        """The state of these devices alone, in their order."""
        lines = {name: self.lines[name] for name in names if name in self.lines}
        return State(self.root, self.files, lines, self.failed, self.last)

    def of_fleet(self, fleet: Iterable[str], *, lists_none: bool) -> "State":
        """The devices of a fleet in its order, then those that only the newest snapshot holds.

        All others count where the fleet file lists none.
        """
        known = dict.fromkeys(fleet)
        strange = list(self.lines.keys() - known.keys())
        if strange and not lists_none:
            last = last_of(self.lines) if self.last is None else self.last
            strange = [name for name in strange if self.lines[name].file == last]
        strange.sort(key=lambda name: self.lines[name][:2])
        return self.only([*known, *strange])

    def read(self, name: str) -> Device | None:
        """The device of this name; None where there is no line of it. Raises InputError."""
        line = self.lines.get(name)
        if line is None:
            return None
        return next(self.devices([(name, line)]))

    def devices(self, wanted: Iterable[tuple[str, SnapshotLine]]) -> Iterator[Device]:
        """Go through the devices of some lines, one held at a time. Raises InputError.

        Where a line is not what the index says, the index goes, so that it is made anew.
        """
        for name, line, text in self.texts(wanted):
            yield self.device(name, line, text)

    def device(self, name: str, line: SnapshotLine, text: bytes) -> Device:
        """The device of one line, of which this is the text. Raises InputError."""
        file = self.files[line.file]
        try:
            device = snapshot_device(file, line.number, text)
            if device.device != name:
                met = f"has {device.device!r} where {name!r} was"
                raise InputError(file, met, "Run the command again", line=line.number)
        except InputError:
            forget(file.parent)
            raise
        return device

    def reader(self) -> LineReader:
        """What reads lines, to be closed."""
        return LineReader(self.files)

    def texts(
        self, wanted: Iterable[tuple[str, SnapshotLine]]
    ) -> Iterator[tuple[str, SnapshotLine, bytes]]:
        """Go through some lines as they stand in their files. Raises InputError."""
        with self.reader() as reader:
            for name, line in wanted:
                yield name, line, reader.text(line)

    def facts(self) -> Iterator[tuple[str, Facts]]:
        """Go through what tells each device from others. Raises InputError."""
        decode = msgspec.json.Decoder(_DeviceFact).decode
        for name, _, text in self.texts(self.lines.items()):
            try:
                told = decode(text)
            except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                yield name, Facts()  # what is wrong is told where it is read
                continue
            members = told.members or []
            models = [each.hardware.model for each in members if each.hardware is not None]
            versions = [each.running_version or told.running.version for each in members]
            yield (
                name,
                Facts(
                    told.site,
                    told.role,
                    told.sheet,
                    tuple(dict.fromkeys(each or told.hardware.model for each in models))
                    or (told.hardware.model,),
                    tuple(dict.fromkeys(versions)) or (told.running.version,),
                ),
            )

    def lines_of(self) -> Iterator[bytes]:
        """Go through the newest lines as they stand in their files. Raises InputError."""
        for _, _, text in self.texts(self.lines.items()):
            yield text.rstrip(b"\r\n") + b"\n"

    def failure(self, name: str) -> Failed | None:
        """The last survey that tried a device, where it could not read it."""
        failed, line = self.failed.get(name), self.lines.get(name)
        if failed is None or (line is not None and line.taken_at >= failed.at):
            return None
        return failed


def state_in(file: Path) -> State:
    """The devices of one snapshot, in its order. Raises InputError."""
    seen = SeenDevices(file)
    lines = {name: line for name, line, _ in _lines(file, 0, seen)}
    seen.done()
    return State(file, [file], lines)


def state_of(folder: Path, only: Collection[str] | None = None) -> State:
    """The newest line of each device over all snapshots in a folder, or `only` of some.

    Raises InputError where there is none, or where one cannot be read.
    """
    there = _there(folder)
    if not any(name.endswith(".jsonl") for name in there):
        text = "has no snapshot (*.jsonl) yet"
        do = "Read the devices first: ovek survey; or use --snapshot FILE"
        raise InputError(folder, text, do)
    known = newest_in(folder, there, only)
    old = {file.name for file in known.files}
    if new := [file for name, file in sorted(there.items()) if name not in old]:
        known = _with(folder, known, new)
        keep_newest(folder, known)
    files = [folder / file.name for file in known.files]
    state = State(folder, files, known.lines, known.failed, known.last)
    return state if only is None else state.only(only)


def _with(folder: Path, known: Newest, new: list[IndexedFile]) -> Newest:
    """What is known, with what new files tell. Raises InputError."""
    files = [*known.files, *new]
    lines, failed = dict(known.lines), dict(known.failed)
    for number, file in enumerate(new, len(known.files)):
        if file.name.endswith(TRIED):
            _take_tried(folder / file.name, number, failed)
        else:
            _take_lines(folder / file.name, number, lines, files, marked=True)
    return Newest(files, lines, failed, last_of(lines))


def state_over(files: list[Path]) -> State:
    """The newest line of each device over some snapshots, wherever they lie. Raises InputError."""
    named = [IndexedFile(str(file), 0, 0) for file in files]
    lines: dict[str, SnapshotLine] = {}
    for number, file in enumerate(files):
        _take_lines(file, number, lines, named)
    return State(Path(os.path.commonpath([str(file.parent) for file in files])), files, lines)


def state_until(folder: Path, until: datetime) -> State:
    """The line of each device that was the newest one at a time. Raises InputError.

    It is found anew each time; no index is kept of it.
    """
    files = sorted(_there(folder).values())
    lines: dict[str, SnapshotLine] = {}
    failed: dict[str, Failed] = {}
    for number, file in enumerate(files):
        if file.name.endswith(TRIED):
            _take_tried(folder / file.name, number, failed, until)
        else:
            _take_lines(folder / file.name, number, lines, files, until)
    if not lines:
        text = f"has no device that was read by {until:%Y-%m-%d %H:%M} UTC"
        raise InputError(folder, text, "Use a later time, or put older snapshots there")
    return State(folder, [folder / file.name for file in files], lines, failed)


def _there(folder: Path) -> dict[str, IndexedFile]:
    """The snapshots of a folder, and what their surveys tried, each with its size and time."""
    found: dict[str, IndexedFile] = {}
    try:
        with os.scandir(folder) as entries:
            for entry in entries:
                if entry.name.endswith((".jsonl", TRIED)) and entry.is_file():
                    info = entry.stat()
                    found[entry.name] = IndexedFile(entry.name, info.st_size, info.st_mtime_ns)
    except FileNotFoundError:
        return {}
    except OSError as error:
        raise cannot_read(folder, error) from None
    return found


def _take_lines(
    file: Path,
    at: int,
    lines: dict[str, SnapshotLine],
    files: list[IndexedFile],
    until: datetime | None = None,
    *,
    marked: bool = False,
) -> None:
    """Take in the lines of one snapshot, those read by a time; `marked` by their fingerprints."""
    seen = SeenDevices(file)
    for name, line, text in _lines(file, at, seen):
        if until is not None and line.taken_at > until:
            continue
        known = lines.get(name)
        if known is None or _age(known, files) < _age(line, files):
            mark = fingerprint(text) if marked else None
            lines[name] = line if mark is None else line._replace(digest=mark[0], clock=mark[1])
    seen.done()


def _age(line: SnapshotLine, files: list[IndexedFile]) -> tuple[datetime, str]:
    """What the newest line has most of; surveys of one second are numbered in their names."""
    return line.taken_at, files[line.file].name.removesuffix(".jsonl")


def _lines(file: Path, at: int, seen: SeenDevices) -> Iterator[tuple[str, SnapshotLine, bytes]]:
    """Go through the lines of a snapshot: the device, where it stands, and its text."""
    decode = msgspec.json.Decoder(_Head).decode
    for number, text, place in placed_lines(file):
        try:
            head = decode(text)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            device = snapshot_device(file, number, text)
            head = _Head(device.device, device.taken_at)
        if head.taken_at.tzinfo is None:
            snapshot_device(file, number, text)  # says what is wrong
        seen.add(head.device, number)
        yield head.device, SnapshotLine(at, number, place, len(text), head.taken_at), text


def _take_tried(
    file: Path, at: int, failed: dict[str, Failed], until: datetime | None = None
) -> None:
    """Take in what one survey tried; the last that tried a device counts."""
    try:
        survey = msgspec.json.decode(read_bytes(file), type=_Survey)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        text = f"was not written by a survey: {error}"
        raise InputError(file, text, "Delete it, or read the devices again: ovek survey") from None
    if until is not None and survey.began > until:
        return
    for one in survey.devices:
        known = failed.get(one.device)
        if one.result == "not read" and (known is None or known.at <= survey.began):
            failed[one.device] = Failed(at, survey.began, one.problem or "it was not read", one.do)


def digest_rates(folder: Path) -> dict[str, int]:
    """How fast devices worked out digests, in bytes a second, by the newest survey that tells.

    Of many surveys the last ones are asked; one that cannot be read tells nothing.
    """
    found: dict[str, int] = {}
    files = sorted(folder.glob(f"*{TRIED}"), key=lambda each: each.name, reverse=True)
    for file in files[:_ASKED]:
        try:
            survey = msgspec.json.decode(read_bytes(file), type=_Survey)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError, InputError):
            continue
        for device in survey.devices:
            if device.digest_rate:
                found.setdefault(device.device, device.digest_rate)
    return found


def is_older(file: Path, limit: datetime) -> bool:
    """Whether every line of a snapshot was read before a time. Raises InputError."""
    return all(line.taken_at < limit for _, line, _ in _lines(file, 0, SeenDevices(file)))


def tried_file(snapshot: Path) -> Path:
    """The file in which a survey leaves what it tried, beside its snapshot."""
    return snapshot.with_name(snapshot.name.removesuffix(".jsonl") + TRIED)

"""The fleet with its CSV lists: a list adds devices, or facts of devices that are there."""

import csv
import hashlib
import io
import sqlite3
from collections.abc import Collection, Iterable
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import Any

import msgspec

from ovek import __version__
from ovek.files.database import FLEET, FLEET_TABLES, opened_database, write_database
from ovek.files.decode import read_bytes, read_toml, text_of
from ovek.files.errors import InputError
from ovek.files.packages import ACCESS, brought
from ovek.files.toml_lines import line_of
from ovek.model.fleet import FORMAT, WAYS, Fleet, FleetDevice

_LISTS = {"access", "capture", "serials"}
_TABLES = {"snmp"}  # which no cell of a list can hold
_KNOWN = tuple(
    field.name for field in msgspec.structs.fields(FleetDevice) if field.name not in _TABLES
)


_LARGE = 2**17  # bytes of files, from which on it is remembered what they came to
_WRONG = (sqlite3.Error, msgspec.MsgspecError, ValueError, TypeError)  # what is kept is damaged
_MOST_NAMES = 500  # that are looked up one by one


class _Used(msgspec.Struct):
    """Which sites, roles and sheets the devices of a fleet have, each in order."""

    sites: list[str]
    roles: list[str]
    sheets: list[str]


class FleetFile:
    """`fleet.toml` of a site and the lists it names, read as far as it is asked.

    What large ones came to is kept beside them, told by the content of all their files, so that
    they are not parsed anew for each command, and a device is found by its name; where it cannot
    be kept, they are. Raises InputError.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        for access in brought(ACCESS):
            WAYS.setdefault(access.name, "host")
        self._first = read_bytes(folder / "fleet.toml")
        self._is_kept = False
        with opened_database(folder / FLEET, FLEET_TABLES) as kept:
            if kept is not None:
                with suppress(*_WRONG, InputError):
                    ((digest, head, used),) = kept.execute("SELECT sha256, head, used FROM fleet")
                    self.head, self._used = _HEAD(head), _USED(used)
                    self._is_kept = digest == _told_by(folder, self._first, self.head.lists)
        if not self._is_kept:
            self.head = msgspec.structs.replace(self.whole, device=())
            self._used = _Used(self.whole.sites, self.whole.roles, self.whole.used_sheets)

    @cached_property
    def whole(self) -> Fleet:
        """All of it."""
        return (self._kept() if self._is_kept else None) or self._read()

    @property
    def names(self) -> list[str]:
        """The devices, in their order."""
        rows = self._ask("SELECT name FROM device ORDER BY at")
        with suppress(*_WRONG):
            if rows is not None:
                return msgspec.convert([name for (name,) in rows], list[str])
        return self.whole.names

    @property
    def sites(self) -> list[str]:
        """Where devices stand, in order."""
        return self._used.sites

    @property
    def roles(self) -> list[str]:
        """What devices do there, in order."""
        return self._used.roles

    @property
    def sheets(self) -> list[str]:
        """The sheets of devices, in order."""
        return self._used.sheets

    def devices(self, names: Collection[str]) -> dict[str, FleetDevice]:
        """The devices of these names, as far as they are listed, in the order of the list."""
        if len(names) <= _MOST_NAMES:
            marks = ",".join("?" * len(names))
            question = f"SELECT content FROM device WHERE name IN ({marks}) ORDER BY at"  # noqa: S608
            rows = self._ask(question, *names)
            with suppress(*_WRONG):
                if rows is not None:
                    return {one.name: one for one in (_DEVICE(content) for (content,) in rows)}
        wanted = set(names)
        return {one.name: one for one in self.whole.device if one.name in wanted}

    def _ask(self, question: str, *values: str) -> list[tuple[Any, ...]] | None:
        """What is kept; None where nothing is."""
        if self._is_kept:
            file = self.folder / FLEET
            with opened_database(file, FLEET_TABLES) as kept, suppress(*_WRONG):
                return kept.execute(question, values).fetchall() if kept is not None else None
        return None

    def _kept(self) -> Fleet | None:
        rows = self._ask("SELECT content FROM device ORDER BY at")
        with suppress(*_WRONG):
            if rows is not None:
                devices = _DEVICES(b"[" + b",".join(content for (content,) in rows) + b"]")
                return msgspec.structs.replace(self.head, device=devices)
        return None

    def _read(self) -> Fleet:
        """Read the files, and keep what large ones came to."""
        fleet = _read_fleet(self.folder)
        with suppress(InputError, OSError):
            size = sum((self.folder / name).stat().st_size for name in fleet.lists)
            if len(self._first) + size >= _LARGE:
                self._keep(fleet)
        return fleet

    def _keep(self, fleet: Fleet) -> None:
        encode = msgspec.json.encode
        digest = _told_by(self.folder, self._first, fleet.lists)
        head = encode(msgspec.structs.replace(fleet, device=()))
        used = encode(_Used(fleet.sites, fleet.roles, fleet.used_sheets))

        def fill(database: sqlite3.Connection) -> None:
            database.execute("INSERT INTO fleet VALUES (?, ?, ?)", (digest, head, used))
            rows = ((one.name, encode(one)) for one in fleet.device)
            database.executemany("INSERT INTO device (name, content) VALUES (?, ?)", rows)

        write_database(self.folder / FLEET, FLEET_TABLES, fill)


_HEAD = msgspec.json.Decoder(Fleet).decode
_USED = msgspec.json.Decoder(_Used).decode
_DEVICE = msgspec.json.Decoder(FleetDevice).decode
_DEVICES = msgspec.json.Decoder(tuple[FleetDevice, ...]).decode


def _told_by(folder: Path, first: bytes, lists: Iterable[str]) -> str:
    """The digest of a fleet's files, and of the program that reads them."""
    made = hashlib.sha256(f"{__version__} {len(first)} ".encode() + first)
    for name in lists:
        data = read_bytes(folder / name)
        made.update(f"{name} {len(data)} ".encode() + data)
    return made.hexdigest()


def _read_fleet(folder: Path) -> Fleet:
    fleet = read_toml(folder / "fleet.toml", Fleet, FORMAT)
    devices = {device.name: device for device in fleet.device}
    for name in fleet.lists:
        if Path(name).is_absolute() or ".." in Path(name).parts:
            text = f"the list {name!r} is outside the site folder"
            raise InputError(folder / "fleet.toml", text, "Move it inside", key="lists")
        _read_list(folder / name, devices)
    fleet = msgspec.structs.replace(fleet, device=tuple(devices.values()))
    for device, login in fleet.logins():
        if isinstance(login, str):
            text = f"the device {device.name!r}: {login}"
            do = "Use a device with a host, or a [[jump_host]]"
            raise InputError(folder / "fleet.toml", text, do, key="through")
    return fleet


def _read_list(file: Path, devices: dict[str, FleetDevice]) -> None:
    """Read one CSV list (RFC 4180, a header first) into `devices`; an empty cell says nothing."""
    text = text_of(file, read_bytes(file))
    rows = csv.reader(io.StringIO(text, newline=""), strict=True)
    seen: dict[str, int] = {}
    try:
        header = [name.strip() for name in next(rows, [])]
        _check_header(file, header)
        for cells in rows:
            if any(cell.strip() for cell in cells):
                _read_row(file, rows.line_num, header, cells, devices, seen)
    except csv.Error as error:
        met = f"invalid CSV: {error}"
        raise InputError(file, met, "Fix that line", line=rows.line_num) from None


def listed_at(folder: Path, fleet: Fleet, name: str) -> tuple[Path, int | None]:
    """The file of a site that lists a device, and the line, as far as that is sure."""
    for each in fleet.lists:
        text = text_of(folder / each, read_bytes(folder / each))
        rows = csv.reader(io.StringIO(text, newline=""))
        at = [cell.strip() for cell in next(rows, [])].index("name")
        for cells in rows:
            if cells and cells[at].strip() == name:
                return folder / each, rows.line_num
    file = folder / "fleet.toml"
    number = next((n for n, one in enumerate(fleet.device) if one.name == name), 0)
    return file, line_of(text_of(file, read_bytes(file)), f"device[{number}].sheet", "")


def _check_header(file: Path, header: list[str]) -> None:
    if "name" not in header:
        do = f"Give it a header with name and any of: {', '.join(_KNOWN)}"
        raise InputError(file, "has no column 'name'", do, line=1)
    for column in header:
        if column not in _KNOWN or header.count(column) > 1:
            text = f"the column {column!r} is " + ("unknown" if column not in _KNOWN else "twice")
            raise InputError(file, text, f"Known are: {', '.join(_KNOWN)}", line=1)


def _read_row(
    file: Path,
    line: int,
    header: list[str],
    cells: list[str],
    devices: dict[str, FleetDevice],
    seen: dict[str, int],
) -> None:
    if len(cells) != len(header):
        text = f"has {len(cells)} cells, the header has {len(header)}"
        raise InputError(file, text, "Fix that line", line=line)
    row: dict[str, Any] = {n: cell.strip() for n, cell in zip(header, cells, strict=True)}
    row = {name: cell for name, cell in row.items() if cell}
    for name in _LISTS & row.keys():
        row[name] = row[name].split()
    name = row.get("name", "")
    if name in seen:
        text = f"device {name!r} is already on line {seen[name]}"
        raise InputError(file, text, "Keep one line per device", line=line, key="name")
    seen[name] = line
    before = msgspec.to_builtins(devices[name]) if name in devices else {}
    try:
        devices[name] = msgspec.convert({**before, **row}, FleetDevice, strict=False)
    except msgspec.ValidationError as error:
        message = str(error).replace("`", "").replace(" - at $.", " in the column ")
        raise InputError(file, message, "Fix that line", line=line) from None

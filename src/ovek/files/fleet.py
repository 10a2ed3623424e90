"""The fleet with its CSV lists: a list adds devices, or facts of devices that are there."""

import csv
import hashlib
import io
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec

from ovek import __version__
from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes, read_toml, text_of
from ovek.files.errors import InputError
from ovek.files.safe_open import bytes_of
from ovek.files.toml_lines import line_of
from ovek.model.fleet import FORMAT, Fleet, FleetDevice

_LISTS = {"access", "capture", "serials"}
_TABLES = {"snmp"}  # which no cell of a list can hold
_KNOWN = tuple(
    field.name for field in msgspec.structs.fields(FleetDevice) if field.name not in _TABLES
)


KEPT = ".fleet.json"
_LARGE = 2**17  # of such files it is remembered what they came to


class _Kept(msgspec.Struct):
    """What the files of a fleet came to, told by their content."""

    sha256: str
    fleet: Fleet


def read_fleet(folder: Path) -> Fleet:
    """Read `fleet.toml` of a site and the lists it names. Raises InputError.

    What a large one came to is kept beside it, told by the content of all its files, so that it is
    not parsed anew for each command; where it cannot be kept, it is.
    """
    first = read_bytes(folder / "fleet.toml")
    if len(first) < _LARGE:
        return _read_fleet(folder)
    kept = _kept(folder / KEPT)
    if kept is not None and kept.sha256 == _told_by(folder, first, kept.fleet.lists):
        return kept.fleet
    fleet = _read_fleet(folder)
    with suppress(InputError):
        now = _Kept(_told_by(folder, first, fleet.lists), fleet)
        write_whole(folder / KEPT, [msgspec.json.encode(now)])
    return fleet


def _kept(file: Path) -> _Kept | None:
    try:
        return msgspec.json.decode(bytes_of(file), type=_Kept)
    except (
        OSError,
        InputError,
        msgspec.DecodeError,
        UnicodeDecodeError,
        RecursionError,
        ValueError,
    ):
        return None


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

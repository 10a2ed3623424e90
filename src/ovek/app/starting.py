"""Start a site of one's own."""

import csv
import io
import json
import logging
from collections.abc import Mapping
from difflib import get_close_matches
from importlib import resources
from pathlib import Path

import msgspec

from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.files.hosts import Hosts, read_hosts
from ovek.files.sheets import sheet_names
from ovek.model.fleet import FleetDevice
from ovek.model.plain_word import is_plain
from ovek.model.results.started import StartedSite
from ovek.sources.capture import read_capture

_LOG = logging.getLogger(__name__)
_FOLDERS = ("sheets", "catalog", "snapshots")


def start_site(
    folder: Path,
    devices_file: Path | None = None,
    *,
    groups: str = "role",
    sheet: str | None = None,
    sessions_folder: Path | None = None,
) -> StartedSite:
    """Write a site to a folder: its devices from a list, and saved sessions of them.

    `groups` is what a group of hosts tells of them, `sheet` the kind of those that have none.
    What is there already is never written over. Raises InputError.
    """
    check_free(folder)
    hosts = read_hosts(devices_file, groups) if devices_file is not None else Hosts((), ())
    sessions = _sessions(sessions_folder) if sessions_folder is not None else {}
    hosts = _with_sessions(hosts, sessions)
    unknown = _check(devices_file or sessions_folder, hosts, sheet)
    try:
        for name in _FOLDERS:
            (folder / name).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise InputError(folder, f"cannot be written ({reason})", "Choose another folder") from None
    title = folder.resolve().name or "My network"
    for name, file in sessions.items():
        write_whole(folder / "sessions" / f"{name}.txt", [read_bytes(file)])
    if hosts.devices:
        write_whole(folder / "devices.csv", [_listed(hosts, sheet)])
    write_whole(folder / "fleet.toml", [_start("fleet", title, hosts)])
    write_whole(folder / "policy.toml", [_start("policy", title, hosts)])
    return StartedSite(
        folder=str(folder),
        devices=len(hosts.devices),
        unknown=unknown,
        session=next((f"{folder / f'sessions/{name}.txt'}" for name in sessions), None),
        asks=any("capture" not in each for each in hosts.devices) or not hosts.devices,
    )


def check_free(folder: Path) -> None:
    """Raise InputError where a site, or something else, is there."""
    for name in ("fleet.toml", "policy.toml", "devices.csv"):
        if (folder / name).exists():
            problem = f"already contains {name}"
            raise InputError(folder, problem, "Give a new folder: ovek init FOLDER")
    if folder.exists() and not folder.is_dir():
        raise InputError(folder, "is not a folder", "Give a new folder: ovek init FOLDER")


def _sessions(folder: Path) -> dict[str, Path]:
    """The saved sessions of a folder by the device that each is of. Raises InputError."""
    if not folder.is_dir():
        raise InputError(folder, "is not a folder", "Give the folder that has the saved sessions")
    by_device: dict[str, Path] = {}
    for file in sorted(folder.iterdir()):
        if not file.is_file() or file.name.startswith("."):
            continue
        if not is_plain(file.stem) or file.stem in by_device:
            allowed = "letters, digits, dashes"
            problem = "its name must be the name of a device"
            _LOG.warning("%s is skipped: %s (%s)", file.name, problem, allowed)
            continue
        read_capture(file)  # what is no text is refused
        by_device[file.stem] = file
    if not by_device:
        raise InputError(
            folder, "has no saved sessions", "Save each as NAME.txt, NAME being the device"
        )
    return by_device


def _with_sessions(hosts: Hosts, sessions: Mapping[str, Path]) -> Hosts:
    """The devices, each read from its saved session where there is one; listed where none is."""
    devices = {each["name"]: each for each in hosts.devices}
    if not devices:
        devices = {name: {"name": name} for name in sessions}
    for name in sessions:
        if name in devices:
            devices[name] = {
                **devices[name],
                "access": "capture",
                "capture": f"sessions/{name}.txt",
            }
        else:
            _LOG.warning("%s.txt is skipped: the list has no device %r", name, name)
    return Hosts(tuple(devices.values()), hosts.left_out)


def _check(file: Path | None, hosts: Hosts, sheet: str | None) -> list[str]:
    """The sheets that are to be learned yet. Raises InputError where a device cannot be listed."""
    if file is None:
        return []
    names = [each["name"] for each in hosts.devices if "sheet" not in each]
    if names and sheet is None:
        problem = f"does not say which sheet {names[0]!r} uses"
        do = "Give it a column sheet, or add --sheet NAME; a sheet may be learned later"
        raise InputError(file, problem, do)
    for each in hosts.devices:
        try:
            lists: dict[str, object] = {
                key: each[key].split() for key in ("access", "capture") if key in each
            }
            plain: dict[str, object] = {"sheet": sheet} | each | lists
            msgspec.convert(plain, FleetDevice, strict=False)
        except msgspec.ValidationError as error:
            reason = str(error).replace("`", "").replace(" - at $.", " at ")
            raise InputError(file, f"the device {each['name']!r}: {reason}", "Fix that") from None
    known = sheet_names(Path())
    unknown = sorted({one.get("sheet", sheet) or "" for one in hosts.devices} - set(known))
    for kind in unknown:
        near = get_close_matches(kind, known, n=1)
        meant = f"; did you mean {near[0]!r}?" if near else "; learn it from a saved session"
        _LOG.warning("the sheet %r does not exist yet%s", kind, meant)
    if hosts.left_out:
        reason = ", ".join(hosts.left_out[:10])
        _LOG.warning("not recognised, and ignored: %s", reason)
    return unknown


def _listed(hosts: Hosts, sheet: str | None) -> bytes:
    """The devices as a list of `fleet.toml`."""
    keys = [key for key in ("name", "sheet", "site", "role", "access", "host", "port", "user",
                            "members", "capture") if key in ("name", "sheet", "access")
            or any(key in device for device in hosts.devices)]  # fmt: skip
    out = io.StringIO(newline="")
    rows = csv.DictWriter(out, keys)
    rows.writeheader()
    for device in hosts.devices:
        full = {"sheet": sheet, **device}
        full.setdefault("access", "ssh" if "host" in device else "")
        rows.writerow(full)
    return out.getvalue().encode()


def _start(name: str, title: str, hosts: Hosts) -> bytes:
    """A commented file to begin with."""
    text = (resources.files("ovek.files") / f"new-{name}.toml").read_text(encoding="utf-8")
    lists = 'lists = ["devices.csv"]' if hosts.devices else '# lists = ["devices.csv"]'
    named = json.dumps(title, ensure_ascii=False).replace("\x7f", "\\u007f")
    return text.replace('"NAME"', named).replace("LISTS", lists).encode("utf-8", "replace")

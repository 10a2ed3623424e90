"""`ovek init`: start a site of my own."""

import csv
import io
import json
import sys
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from importlib import resources
from pathlib import Path

import click
import msgspec

from ovek.cli.command import Command, OneOf
from ovek.cli.options import write_lines
from ovek.cli.say import tell
from ovek.files.errors import InputError
from ovek.files.hosts import Hosts, read_hosts
from ovek.files.sheets import sheet_names
from ovek.files.typed import read_bytes
from ovek.files.whole import write_whole
from ovek.model.fleet import FleetDevice
from ovek.model.typed import is_plain, typed
from ovek.sources.capture import read_capture

_FOLDERS = ("sheets", "catalog", "snapshots")


@click.command(
    "init", cls=Command, examples=("init", "init another --devices addresses.csv --sheet oxwick-40")
)
@click.argument("folder", type=click.Path(path_type=Path), default=Path("my-network"))
@click.option(
    "--devices",
    "devices_file",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="The devices: CSV with a header (name, address, sheet, site, role), or hosts in groups, "
    "INI or YAML.",
)
@click.option(
    "--groups",
    type=OneOf(["role", "site", "sheet"]),
    default="role",
    help="What a group of hosts tells of them (default: role).",
)
@click.option("--sheet", metavar="NAME", help="The kind of devices that have none in the list.")
@click.option(
    "--sessions",
    "sessions_folder",
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    help="Saved terminal sessions, NAME.txt of the device NAME: they are copied into the site.",
)
def command(
    folder: Path,
    devices_file: Path | None,
    groups: str,
    sheet: str | None,
    sessions_folder: Path | None,
) -> None:
    """Write a site of one's own to FOLDER (default: my-network), and say what comes next.

    In a terminal it asks for what was not given: the list of devices, their kind (the name of a
    sheet, which may be learned later), and where saved sessions lie. The files have comments and
    work as they are: fleet.toml (the devices), policy.toml (what is wanted), and folders for
    sheets, catalog and snapshots. What is there already is never written over.
    """
    _check_free(folder)
    if not (devices_file or sheet or sessions_folder) and _in_terminal():
        devices_file = _asked_path("A list of your devices (CSV, INI or YAML; Enter: none yet)")
        sessions_folder = _asked_path("A folder with saved sessions (Enter: none yet)")
        if devices_file is not None or sessions_folder is not None:
            sheet = _asked("The sheet of the devices for which the list names none") or None
    hosts = read_hosts(devices_file, groups) if devices_file is not None else Hosts((), ())
    sessions = _sessions(sessions_folder) if sessions_folder is not None else {}
    hosts = _with_sessions(hosts, sessions)
    unknown = _check(devices_file or sessions_folder, hosts, sheet)
    try:
        for name in _FOLDERS:
            (folder / name).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise InputError(folder, f"cannot be written ({reason})", "Name another folder") from None
    title = folder.resolve().name or "My network"
    for name, file in sessions.items():
        write_whole(folder / "sessions" / f"{name}.txt", [read_bytes(file)])
    if hosts.devices:
        write_whole(folder / "devices.csv", [_listed(hosts, sheet)])
    write_whole(folder / "fleet.toml", [_start("fleet", title, hosts)])
    write_whole(folder / "policy.toml", [_start("policy", title, hosts)])
    _next(folder, hosts, unknown, sessions)


def _check_free(folder: Path) -> None:
    """Raise InputError where a site, or something else, is there."""
    for name in ("fleet.toml", "policy.toml", "devices.csv"):
        if (folder / name).exists():
            problem = f"holds {name} already"
            raise InputError(folder, problem, "Name a new folder: ovek init FOLDER")
    if folder.exists() and not folder.is_dir():
        raise InputError(folder, "is no folder", "Name a new folder: ovek init FOLDER")


def _in_terminal() -> bool:
    return sys.stdin.isatty()


def _asked(what: str) -> str:
    answer: str = click.prompt(what, default="", show_default=False, err=True)
    return answer.strip()


def _asked_path(what: str) -> Path | None:
    answer = _asked(what)
    return Path(answer) if answer else None


def _sessions(folder: Path) -> dict[str, Path]:
    """The saved sessions of a folder by the device that each is of. Raises InputError."""
    if not folder.is_dir():
        raise InputError(folder, "is not a folder", "Name the folder that has the saved sessions")
    by_device: dict[str, Path] = {}
    for file in sorted(folder.iterdir()):
        if not file.is_file() or file.name.startswith("."):
            continue
        if not is_plain(file.stem) or file.stem in by_device:
            allowed = "letters, digits, dashes"
            tell(f"{file.name} is skipped: its name has to be that of a device ({allowed})")
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
            devices[name] = {**devices[name], "ways": "capture", "capture": f"sessions/{name}.txt"}
        else:
            tell(f"{name}.txt is skipped: the list has no device {name!r}")
    return Hosts(tuple(devices.values()), hosts.left_out)


def _check(file: Path | None, hosts: Hosts, sheet: str | None) -> list[str]:
    """The sheets that are to be learned yet. Raises InputError where a device cannot be listed."""
    if file is None:
        return []
    names = [each["name"] for each in hosts.devices if "sheet" not in each]
    if names and sheet is None:
        problem = f"does not say which kind of device {names[0]!r} is"
        do = "Give it a column sheet, or add --sheet NAME; a sheet may be learned later"
        raise InputError(file, problem, do)
    for each in hosts.devices:
        try:
            lists: dict[str, object] = {
                key: each[key].split() for key in ("ways", "capture") if key in each
            }
            plain: dict[str, object] = {"sheet": sheet} | each | lists
            msgspec.convert(plain, FleetDevice, strict=False)
        except msgspec.ValidationError as error:
            reason = str(error).replace("`", "").replace(" - at $.", " at ")
            raise InputError(file, f"the device {each['name']!r}: {reason}", "Mend that") from None
    known = sheet_names(Path())
    unknown = sorted({one.get("sheet", sheet) or "" for one in hosts.devices} - set(known))
    for kind in unknown:
        near = get_close_matches(kind, known, n=1)
        meant = f"; did you mean {near[0]!r}?" if near else "; learn it from a saved session"
        tell(f"the sheet {kind!r} does not exist yet{meant}")
    if hosts.left_out:
        reason = ", ".join(hosts.left_out[:10])
        tell(f"not understood, and left out: {reason}")
    return unknown


def _listed(hosts: Hosts, sheet: str | None) -> bytes:
    """The devices as a list of `fleet.toml`."""
    keys = [key for key in ("name", "sheet", "site", "role", "ways", "host", "port", "user",
                            "members", "capture") if key in ("name", "sheet", "ways")
            or any(key in each for each in hosts.devices)]  # fmt: skip
    out = io.StringIO(newline="")
    rows = csv.DictWriter(out, keys)
    rows.writeheader()
    for each in hosts.devices:
        full = {"sheet": sheet, **each}
        full.setdefault("ways", "ssh" if "host" in each else "")
        rows.writerow(full)
    return out.getvalue().encode()


def _start(name: str, title: str, hosts: Hosts) -> bytes:
    """A commented file to begin with."""
    text = (resources.files("ovek.files") / f"new-{name}.toml").read_text(encoding="utf-8")
    lists = 'lists = ["devices.csv"]' if hosts.devices else '# lists = ["devices.csv"]'
    named = json.dumps(title, ensure_ascii=False).replace("\x7f", "\\u007f")
    return text.replace('"NAME"', named).replace("LISTS", lists).encode("utf-8", "replace")


def _next(folder: Path, hosts: Hosts, unknown: Sequence[str], sessions: Mapping[str, Path]) -> None:
    """Say what was written, and the next commands in the order in which they work."""
    number = len(hosts.devices)
    devices = f"{number} device{'s' if number != 1 else ''}" if number else "no device yet"
    where = f"--site {typed(str(folder), 'FOLDER')}"
    first = next(iter(sessions), None)
    session = folder / f"sessions/{first}.txt" if first is not None else "a saved session"
    asked = any("capture" not in each for each in hosts.devices)
    keys = " --take-new-keys" if asked or not hosts.devices else ""
    steps = [
        (
            f"ovek sheet learn {typed(kind, 'NAME')} COPY {where}",
            f"COPY: a copy of {session} with marks in it",
        )
        for kind in unknown
    ]
    steps += [
        (f"ovek catalog import FILE {where}", "what the publisher released: digests"),
        (f"ovek survey{keys} {where}", "" if hosts.devices else "once fleet.toml lists a device"),
        (f"ovek audit {where}", ""),
    ]
    lines = []
    for line, why in steps:
        lines += [f"  {line}", *([f"    ({why})"] if why else [])]
    write_lines([f"{folder} is a site, with {devices}. Next:", *lines])

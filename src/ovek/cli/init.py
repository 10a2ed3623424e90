"""`ovek init`: start a site of my own."""

import csv
import io
import json
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
from ovek.files.whole import write_whole
from ovek.model.fleet import FleetDevice
from ovek.model.typed import typed

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
@click.option("--sheet", metavar="NAME", help="The sheet of devices that have none in the list.")
def command(folder: Path, devices_file: Path | None, groups: str, sheet: str | None) -> None:
    """Write a site of one's own to FOLDER (default: my-network), and say what comes next.

    Asks nothing. The files have comments and work as they are: fleet.toml (the devices),
    policy.toml (what is wanted), and folders for sheets, catalog and snapshots. What is there
    already is never written over.
    """
    hosts = read_hosts(devices_file, groups) if devices_file is not None else Hosts((), ())
    if devices_file is not None:
        _check(devices_file, hosts, sheet)
    for name in ("fleet.toml", "policy.toml", "devices.csv"):
        if (folder / name).exists():
            met = f"holds {name} already"
            raise InputError(folder, met, "Name a new folder: ovek init FOLDER")
    if folder.exists() and not folder.is_dir():
        raise InputError(folder, "is no folder", "Name a new folder: ovek init FOLDER")
    try:
        for name in _FOLDERS:
            (folder / name).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise InputError(folder, f"cannot be written ({reason})", "Name another folder") from None
    title = folder.resolve().name or "My network"
    if hosts.devices:
        write_whole(folder / "devices.csv", [_listed(hosts, sheet)])
    write_whole(folder / "fleet.toml", [_start("fleet", title, hosts)])
    write_whole(folder / "policy.toml", [_start("policy", title, hosts)])
    _next(folder, hosts)


def _check(file: Path, hosts: Hosts, sheet: str | None) -> None:
    """Raise InputError where a device cannot be listed; tell which sheets are to be written yet."""
    names = [each["name"] for each in hosts.devices if "sheet" not in each]
    if names and sheet is None:
        met = f"does not say which kind of device {names[0]!r} is"
        do = "Give it a column sheet, or add --sheet NAME; see ovek sheet new"
        raise InputError(file, met, do)
    for each in hosts.devices:
        try:
            msgspec.convert({"sheet": sheet, **each}, FleetDevice, strict=False)
        except msgspec.ValidationError as error:
            told = str(error).replace("`", "").replace(" - at $.", " at ")
            raise InputError(file, f"the device {each['name']!r}: {told}", "Mend that") from None
    known = sheet_names(Path())
    for kind in sorted({one.get("sheet", sheet) or "" for one in hosts.devices} - set(known)):
        near = get_close_matches(kind, known, n=1)
        meant = (
            f"; did you mean {near[0]!r}?"
            if near
            else f"; start it: ovek sheet new {typed(kind, 'NAME')}"
        )
        tell(f"there is no sheet {kind!r} yet{meant}")
    if hosts.left_out:
        told = ", ".join(hosts.left_out[:10])
        tell(f"not understood, and left out: {told}")


def _listed(hosts: Hosts, sheet: str | None) -> bytes:
    """The devices as a list of `fleet.toml`."""
    keys = [key for key in ("name", "sheet", "site", "role", "ways", "host", "port", "user",
                            "members") if key in ("name", "sheet", "ways")
            or any(key in each for each in hosts.devices)]  # fmt: skip
    out = io.StringIO(newline="")
    rows = csv.DictWriter(out, keys)
    rows.writeheader()
    for each in hosts.devices:
        full = {"sheet": sheet, **each}
        full["ways"] = "ssh" if "host" in each else ""
        rows.writerow(full)
    return out.getvalue().encode()


def _start(name: str, title: str, hosts: Hosts) -> bytes:
    """A commented file to begin with."""
    text = (resources.files("ovek.files") / f"new-{name}.toml").read_text(encoding="utf-8")
    lists = 'lists = ["devices.csv"]' if hosts.devices else '# lists = ["devices.csv"]'
    named = json.dumps(title, ensure_ascii=False).replace("\x7f", "\\u007f")
    return text.replace('"NAME"', named).replace("LISTS", lists).encode("utf-8", "replace")


def _next(folder: Path, hosts: Hosts) -> None:
    """Say what was written, and the next three commands."""
    number = len(hosts.devices)
    told = f"{number} device{'s' if number != 1 else ''}" if number else "no device yet"
    where = f"--site {typed(str(folder), 'FOLDER')}"
    first = f"ovek survey --take-new-keys {where}"
    if not hosts.devices:
        first = f"ovek survey --take-new-keys {where}   # once fleet.toml lists a device"
    write_lines(
        [
            f"{folder} is a site, with {told}. Next:",
            f"  ovek catalog import FILE {where}   # what the publisher released: digests",
            f"  {first}",
            f"  ovek audit {where}",
        ]
    )

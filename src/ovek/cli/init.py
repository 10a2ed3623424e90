"""`ovek init`: start a site of my own."""

import sys
from pathlib import Path

import click

from ovek.app.starting import check_free, start_site
from ovek.cli.command import Command, OneOf
from ovek.cli.options import A_PATH
from ovek.cli.show import show


@click.command(
    "init", cls=Command, examples=("init", "init another --devices addresses.csv --sheet oxwick-40")
)
@click.argument("folder", type=A_PATH, default=Path("my-network"))
@click.option(
    "--devices",
    "devices_file",
    metavar="FILE",
    type=A_PATH,
    help="List of devices: CSV with a header (name, address, sheet, site, role), or hosts in "
    "groups, INI or YAML.",
)
@click.option(
    "--groups",
    type=OneOf(["role", "site", "sheet"]),
    default="role",
    help="What the groups in the list mean (default: role).",
)
@click.option("--sheet", metavar="NAME", help="Sheet for devices without one in the list.")
@click.option(
    "--sessions",
    "sessions_folder",
    metavar="FOLDER",
    type=A_PATH,
    help="Folder of saved terminal sessions, NAME.txt for device NAME; they are copied.",
)
def command(
    folder: Path,
    devices_file: Path | None,
    groups: str,
    sheet: str | None,
    sessions_folder: Path | None,
) -> None:
    """Create a site folder for your network (default: my-network) and show the next steps.

    In a terminal it asks for what is missing: the list of devices, their sheet (the description
    of a kind of device; it can be learned later), and the folder of saved sessions. It writes
    fleet.toml (the devices), policy.toml (what you want), and folders for sheets, catalog and
    snapshots, all with comments. Existing files are never overwritten.
    """
    check_free(folder)
    if not (devices_file or sheet or sessions_folder) and _at_terminal():
        devices_file = _asked_path("A list of your devices (CSV, INI or YAML; Enter: none yet)")
        sessions_folder = _asked_path("A folder with saved sessions (Enter: none yet)")
        if devices_file is not None or sessions_folder is not None:
            sheet = _asked("The sheet of the devices for which the list names none") or None
    show(
        start_site(
            folder, devices_file, groups=groups, sheet=sheet, sessions_folder=sessions_folder
        )
    )


def _at_terminal() -> bool:
    return sys.stdin.isatty()


def _asked(what: str) -> str:
    answer: str = click.prompt(what, default="", show_default=False, err=True)
    return answer.strip()


def _asked_path(what: str) -> Path | None:
    answer = _asked(what)
    return Path(answer) if answer else None

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
    type=A_PATH,
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

"""`ovek catalog`: what was released, for which hardware, reached how?"""

from pathlib import Path

import click

from ovek.app import catalog
from ovek.app.asking import open_site
from ovek.app.keys import list_keys
from ovek.cli.catalog_import import annotate_command, import_command
from ovek.cli.command import CommandGroup
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import images
from ovek.cli.options import FORMAT, SITE, exit_code, snapshot_options
from ovek.cli.show import show


@click.group("catalog", cls=CommandGroup)
def command() -> None:
    """Published releases: import, list, and upgrade paths."""


@command.command("list", examples=("catalog list", "catalog list --format jsonl"))
@SITE
@FORMAT
def list_command(site_folder: Path, form: str) -> None:
    """List all releases."""
    show(catalog.list_releases(open_site(site_folder)), form)


@command.command("find", examples=("catalog find 7.4.2", "catalog find OX40-24F"))
@click.argument("text", shell_complete=images)
@SITE
@FORMAT
def find_command(text: str, site_folder: Path, form: str) -> None:
    """Find releases by name, version, hardware model, or a digest or its beginning.

    Exit code 1 if there is none.
    """
    result = catalog.find_releases(open_site(site_folder), text)
    show(result, form)
    exit_code(not result.releases)


@command.command(
    "show",
    examples=("catalog show ox40-full-7.4.2.img", "catalog show tv8_5.1.4.tvf --format json"),
)
@click.argument("file", shell_complete=images)
@SITE
@FORMAT
def show_command(file: str, site_folder: Path, form: str) -> None:
    """Show everything the catalog has on the release FILE, with its sources."""
    show(catalog.show_release(open_site(site_folder), file), form)


@command.command("check", examples=("catalog check", "catalog check --format json"))
@SITE
@FORMAT
def check_command(site_folder: Path, form: str) -> None:
    """Check the catalog for mistakes. Exit code 1 if there are any."""
    result = catalog.check_catalog(open_site(site_folder))
    show(result, form)
    exit_code(bool(result.mistakes))


@command.command("keys", examples=("catalog keys", "catalog keys --format json"))
@SITE
@FORMAT
def keys_command(site_folder: Path, form: str) -> None:
    """List the keys that check signatures, with their fingerprints.

    Keys and certificates of publishers lie in keys/, one file each; keys/keys.toml says whose each
    is. Compare a fingerprint with the publisher by another way before you add a key.
    """
    show(list_keys(open_site(site_folder)), form)


@command.command(
    "path", examples=("catalog path brack-slip --to 7.4.2", "catalog path 7.2.5 --to 7.4.2")
)
@click.argument("start", metavar="DEVICE|VERSION")
@click.option("--to", "target", required=True, metavar="VERSION", help="The version to reach.")
@snapshot_options()
def path_command(
    start: str, target: str, site_folder: Path, snapshot_file: str | None, form: str
) -> None:
    """Show the shortest upgrade path for a device, or from a version.

    An upgrade path is a chain of installs. Exit code 1 if there is none; the output names the
    missing step.
    """
    result = catalog.upgrade_path(open_site(site_folder), start, target, snapshot_file)
    show(result, form)
    exit_code(result.route.steps is None)


@command.command(
    "pick", examples=("catalog pick brack-slip", "catalog pick arle-wifi --format json")
)
@click.argument("device", shell_complete=complete_devices)
@snapshot_options()
def pick_command(device: str, site_folder: Path, snapshot_file: str | None, form: str) -> None:
    """Show which release DEVICE should run, why not the others, and its component firmware.

    Exit code 1 if there is none, or if there is no known upgrade path to it.
    """
    result = catalog.pick(open_site(site_folder), device, snapshot_file)
    show(result, form)
    path = result.pick.path
    exit_code(result.pick.chosen is None or path is None or path.hops is None)


for each in (import_command, annotate_command):
    command.add_command(each)

"""`ovek advisory`: which releases are affected by what their publishers warn of."""

from pathlib import Path

import click

from ovek.app.advisories import import_advisories, list_advisories
from ovek.app.asking import open_site
from ovek.cli.command import CommandGroup
from ovek.cli.completing import advisories
from ovek.cli.options import A_PATH, FORMAT, SITE
from ovek.cli.show import show


@click.group("advisory", cls=CommandGroup)
def command() -> None:
    """Security advisories: import CSAF documents, and see which releases they affect."""


@command.command(
    "import", examples=("advisory import advisories", "advisory import advisories --look")
)
@click.argument("sources", metavar="FILE|FOLDER...", nargs=-1, required=True, type=A_PATH)
@click.option("--look", is_flag=True, help="Only show what would be taken.")
@SITE
@FORMAT
def import_command(sources: tuple[Path, ...], look: bool, site_folder: Path, form: str) -> None:
    """Take CSAF 2.0 and 2.1 documents (advisories and VEX) into advisories/.

    Products are matched with releases of the catalog by their file hashes, else by publisher, name
    and version. Names that the catalog writes otherwise stand in advisories/products.toml. Of an
    advisory that is there already, the newer document stays.
    """
    show(import_advisories(open_site(site_folder), sources, look=look), form)


@command.command("list", examples=("advisory list", "advisory list --format json"))
@SITE
@FORMAT
def list_command(site_folder: Path, form: str) -> None:
    """List the advisories, the latest first, and how many releases each affects."""
    show(list_advisories(open_site(site_folder)), form)


@command.command(
    "show", examples=("advisory show OXW-2026-003", "advisory show OXW-2026-003 --format json")
)
@click.argument("advisory", metavar="ID", shell_complete=advisories)
@SITE
@FORMAT
def show_command(advisory: str, site_folder: Path, form: str) -> None:
    """Show what the advisory ID says, of which releases, and what to do."""
    show(list_advisories(open_site(site_folder), advisory), form)

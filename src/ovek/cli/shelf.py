"""`ovek shelf`: are the files on the server or stick what was released?"""

import sys
from collections.abc import Callable
from pathlib import Path

import click

from ovek.app.asking import open_site
from ovek.app.looking import HowToLook, compare_digest, inspect_shelves
from ovek.app.runner import dask
from ovek.cli.command import Command
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import shelves as complete_shelves
from ovek.cli.options import (
    A_PATH,
    FORMAT,
    SITE,
    TAKE_NEW_KEYS,
    exit_code,
    rate_option,
    verbose_option,
)
from ovek.cli.password import ask_password_option
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import on_option
from ovek.cli.show import show
from ovek.render.view import View

SHELVES = click.option(
    "--shelf",
    "shelves",
    multiple=True,
    metavar="FOLDER",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="Another folder the images passed through after shelf/ (laptop, stick). Repeat in order.",
)


@click.command("shelf", cls=Command, examples=("shelf stick", "shelf stick --for brack-slip"))
@click.argument("place", required=False, shell_complete=complete_shelves)
@click.option("--expect", metavar="DIGEST", help="Compare one file with this digest.")
@click.option(
    "--write-list",
    metavar="FILE",
    type=A_PATH,
    help="Write a digest list of the folder; the ending (.md5, .sha512, …) says which digest.",
)
@click.option(
    "--for",
    "device",
    metavar="DEVICE",
    shell_complete=complete_devices,
    help="Show which file this device needs.",
)
@click.option(
    "--fresh", is_flag=True, help="Compute every digest again instead of using the cache."
)
@rate_option("Limit reading from a server to SIZE per second, e.g. 2MiB.")
@TAKE_NEW_KEYS
@ask_password_option("Ask for the password of the servers, once.")
@verbose_option("Also list files that are not images.")
@on_option
@SITE
@FORMAT
def command(
    place: str | None,
    expect: str | None,
    write_list: Path | None,
    device: str | None,
    fresh: bool,
    rate: int | None,
    take_new_keys: bool,
    ask_password: Callable[[], str] | None,
    verbose: bool,
    on: str | None,
    site_folder: Path,
    form: str,
) -> None:
    """Verify the image files in PLACE (default: every shelf in fleet.toml).

    PLACE is a folder, an archive, the name of a [[shelf]] (a server, folder or stick with images),
    or an address: sftp://, https:// or tftp://. Computes digests, looks inside archives, checks
    each file's internal structure, and shows which devices use it. With --expect, PLACE is one
    file. Exit code 1 if a file is altered, truncated, damaged inside or has the name of another
    release, or with --for if there is no proven copy for the device; 3 if a file or a shelf could
    not be read.
    """
    if expect is not None:
        if place is None:
            raise click.UsageError("give the file: ovek shelf --expect DIGEST FILE")
        compared = compare_digest(Path(place), expect)
        show(compared)
        exit_code(compared.made != compared.wanted)
        return
    how = HowToLook(
        fresh=fresh,
        rate=rate,
        take_new_keys=take_new_keys,
        password=ask_password,
        runner=dask(on) if on is not None else None,
        bar=bytes_bar,
    )
    result = inspect_shelves(
        open_site(site_folder), place, how, device=device, write_list=write_list
    )
    show(result, form, View(verbose=verbose))
    exit_code(result.wrong)
    if result.offer is None and result.unread:
        sys.exit(3)

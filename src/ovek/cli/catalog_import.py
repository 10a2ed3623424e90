"""`ovek catalog import` and `annotate`: take in what a publisher tells, and what it does not."""

import sys
from pathlib import Path
from typing import Any, get_args

import click

from ovek.app import catalog
from ovek.app.asking import open_site
from ovek.app.catalog import COLUMNS
from ovek.cli.command import Command, OneOf
from ovek.cli.completing import images
from ovek.cli.options import A_PATH, SITE
from ovek.cli.say import say
from ovek.cli.show import show, write_lines
from ovek.model.annotation import Annotation
from ovek.model.catalog import Status, Track
from ovek.model.digest import LENGTHS
from ovek.render.lines import count, hanging


def _columns(ctx: click.Context, param: click.Parameter, values: tuple[str, ...]) -> dict[str, str]:
    said = {}
    for value in values:
        meaning, equals, title = value.partition("=")
        if not equals or meaning not in COLUMNS:
            known = ", ".join(COLUMNS)
            raise click.BadParameter(f"{value!r} is not MEANING=TITLE; meanings are: {known}")
        said[meaning] = title
    return said


@click.command(
    "import",
    cls=Command,
    examples=(
        "catalog import catalog/stick.md5 --look",
        "catalog import catalog/stick.md5 --name sticks --own",
    ),
)
@click.argument("file", nargs=-1, required=True, type=A_PATH)
@click.option("--name", help="The catalog to write (default: the first file's name).")
@click.option("--publisher", help="Who published what the files list.")
@click.option(
    "--column",
    multiple=True,
    callback=_columns,
    metavar="MEANING=TITLE",
    help="Which column of a CSV file means what, like file=Image.",
)
@click.option("--own", is_flag=True, help="A list of your own copies: it proves nothing by itself.")
@click.option(
    "--algorithm",
    type=OneOf(list(LENGTHS)),
    help="What the digests of a list without labels are, where their length does not tell.",
)
@click.option("--look", is_flag=True, help="Only show what is understood; write nothing.")
@click.option("--yes", is_flag=True, help="Take what had to be guessed without asking.")
@SITE
def import_command(
    file: tuple[Path, ...],
    name: str | None,
    publisher: str | None,
    column: dict[str, str],
    own: bool,
    algorithm: str | None,
    look: bool,
    yes: bool,
    site_folder: Path,
) -> None:
    """Take releases from each FILE into catalog/NAME.json of the site.

    Reads ovek.catalog/1, digest lists (two columns or BSD-tagged), a bare digest in a side file
    named after the image, CSV with a header, Metalink 4, and text pasted from a release page. What
    was understood is shown first; a table or pasted text is taken only with a yes. With --own it is
    a list of your own copies: what equals one is `matched`, and policy says whether that counts.
    """
    target = catalog.import_catalog(
        open_site(site_folder),
        file,
        name=name,
        publisher=publisher,
        columns=column,
        own=own,
        algorithm=algorithm,
        look=look,
        understood=show,
        agreed=lambda: yes or _agreed(),
    )
    if target is not None:
        say(f"{target} is written. See: ovek catalog check")


def _agreed() -> bool:
    return sys.stdin.isatty() and click.confirm("Is that right?", err=True)


def _given(ctx: click.Context, param: click.Parameter, value: str | None) -> str | None:
    if value is not None and not value.strip():
        raise click.BadParameter("is empty; leave it out, or say what it is")
    return value


@click.command(
    "annotate",
    cls=Command,
    examples=(
        "catalog annotate 'ox40-full-*' --hardware 'OX40*' --look",
        "catalog annotate tv8_5.1.4.tvf --version 5.1.4 --look",
    ),
)
@click.argument("glob", shell_complete=images)
@click.option(
    "--hardware", multiple=True, metavar="GLOB", help="Models that the files are for; repeatable."
)
@click.option("--version", metavar="VERSION", callback=_given, help="The version of the files.")
@click.option("--variant", metavar="NAME", callback=_given, help="The variant of the files.")
@click.option("--status", type=OneOf(list(get_args(Status))), help="What the publisher says.")
@click.option("--track", type=OneOf(list(get_args(Track))), help="The track of the files.")
@click.option(
    "--size", type=click.IntRange(1), metavar="BYTES", help="The size of the one file, in bytes."
)
@click.option("--look", is_flag=True, help="Only show which releases it is for; write nothing.")
@SITE
def annotate_command(
    glob: str, hardware: tuple[str, ...], look: bool, site_folder: Path, **what: Any
) -> None:
    """Say what a list does not: for which hardware the files of GLOB are, their version or size.

    It is kept in catalog/annotations.toml, apart from what was imported, so that a list can be
    imported again. What is said here counts before what a list says. What was said of the same
    GLOB before stays, unless it is said anew.
    """
    if not hardware and not any(what.values()):
        raise click.UsageError(
            "give at least one of --hardware, --version, --variant, --status, --track, --size"
        )
    annotation = Annotation(files=glob, hardware=hardware or None, **what)
    files, target = catalog.annotate(open_site(site_folder), annotation, look=look)
    names = ", ".join(dict.fromkeys(one.file for one in files))
    write_lines(hanging(f"{glob} is {count(len(files), 'release')}: ", names, indent=2))
    if target is not None:
        say(f"{target} is written. See: ovek catalog list")

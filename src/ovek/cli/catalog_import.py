"""`ovek catalog import` and `annotate`: take in what a publisher tells, and what it does not."""

import sys
from pathlib import Path
from typing import Any, get_args

import click

from ovek.app import catalog
from ovek.app.asking import open_site
from ovek.app.catalog import COLUMNS, ImportTerms
from ovek.cli.command import Command, OneOf
from ovek.cli.completing import images
from ovek.cli.options import A_PATH, SITE
from ovek.cli.say import say
from ovek.cli.show import show, write_lines
from ovek.model.annotation import Annotation
from ovek.model.catalog import Status, Track
from ovek.model.digest import LENGTHS
from ovek.model.signature import BEST_FIRST, REFUSED
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
@click.option(
    "--name", help="Name of the catalog file to write (default: the name of the first FILE)."
)
@click.option("--publisher", help="Publisher of the listed files.")
@click.option(
    "--column",
    "columns",
    multiple=True,
    callback=_columns,
    metavar="MEANING=TITLE",
    help="Meaning of a CSV column, e.g. file=Image (repeatable).",
)
@click.option(
    "--own",
    is_flag=True,
    help="These are digests of your own copies, not the "
    "publisher's: they can match, but not prove.",
)
@click.option(
    "--algorithm",
    type=OneOf(list(LENGTHS)),
    help="Digest algorithm of an unlabelled list, if the length is ambiguous.",
)
@click.option(
    "--signature",
    type=A_PATH,
    metavar="FILE",
    help="Signature of the list (default: the one beside it, e.g. LIST.asc or LIST.p7s).",
)
@click.option(
    "--accept-signature",
    "accept",
    multiple=True,
    type=OneOf([state for state in BEST_FIRST if state != "good" and state not in REFUSED]),
    help="Take the list as unsigned though its signature is in this state (repeatable).",
)
@click.option("--look", is_flag=True, help="Show what would be imported; write nothing.")
@click.option("--yes", is_flag=True, help="Accept guessed columns without asking.")
@SITE
def import_command(
    file: tuple[Path, ...],
    name: str | None,
    look: bool,
    yes: bool,
    site_folder: Path,
    **terms: Any,
) -> None:
    """Import releases from each FILE into catalog/NAME.json.

    Reads ovek.catalog/1, digest lists (two columns or BSD-tagged), a bare digest in a side file
    named after the image, CSV with a header, Metalink 4, and text pasted from a release page.
    Shows what was recognised first; tables and pasted text need your confirmation (--yes). With
    --own it is a list of your own copies: an equal image is `matched`, not `proven`. A signature
    (OpenPGP or CMS) is checked with the keys in keys/; a list with a bad one is refused.
    """
    target = catalog.import_catalog(
        open_site(site_folder),
        file,
        name=name,
        terms=ImportTerms(**terms),
        look=look,
        understood=show,
        agreed=lambda: yes or _agreed(),
    )
    if target is not None:
        say(f"Wrote {target}. Next: ovek catalog check")


def _agreed() -> bool:
    return sys.stdin.isatty() and click.confirm("Is that right?", err=True)


def _given(ctx: click.Context, param: click.Parameter, value: str | None) -> str | None:
    if value is not None and not value.strip():
        raise click.BadParameter("is empty; omit it, or give a value")
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
    "--hardware", multiple=True, metavar="GLOB", help="Models that the files are for (repeatable)."
)
@click.option("--version", metavar="VERSION", callback=_given, help="Version of the files.")
@click.option("--variant", metavar="NAME", callback=_given, help="Variant of the files.")
@click.option(
    "--status", type=OneOf(list(get_args(Status))), help="The publisher's status, e.g. recommended."
)
@click.option(
    "--track", type=OneOf(list(get_args(Track))), help="Track of the files, e.g. maintenance."
)
@click.option(
    "--size", type=click.IntRange(1), metavar="BYTES", help="Size of the one file, in bytes."
)
@click.option("--look", is_flag=True, help="Show which releases match; write nothing.")
@SITE
def annotate_command(
    glob: str, hardware: tuple[str, ...], look: bool, site_folder: Path, **what: Any
) -> None:
    """Add facts that a list lacks, for the files of GLOB: hardware, version, size and so on.

    They are stored in catalog/annotations.toml, apart from the imported lists, so a list can be
    imported again. An annotation overrides a list. Earlier facts for the same GLOB are kept,
    unless you give them again.
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
        say(f"Wrote {target}. See: ovek catalog list")

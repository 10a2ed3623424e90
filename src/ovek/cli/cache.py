"""`ovek cache`: what Ovek keeps in the user's cache, and removing it."""

from datetime import timedelta

import click

from ovek.app.cache import cache_content
from ovek.cli.command import Command
from ovek.cli.options import FORMAT, age_option, size_option
from ovek.cli.show import show


@click.command("cache", cls=Command, examples=("cache", "cache --older 30d --at-most 200MiB"))
@age_option("--older", "Remove what was not used for AGE, such as 30d.")
@size_option("--at-most", "Remove what was used first, until no more than SIZE is left.")
@click.option("--clear", is_flag=True, help="Remove everything.")
@FORMAT
def command(older: timedelta | None, at_most: int | None, clear: bool, form: str) -> None:
    """Show what Ovek keeps in your cache and how much it is; remove what you do not need.

    The cache has results of audits, digests of files on shelves, and unfinished downloads. All of
    it is computed again when it is needed. Ovek keeps it below 1 GiB by itself, and removes what
    was not used for 90 days.
    """
    if clear and (older is not None or at_most is not None):
        raise click.UsageError("--clear removes everything; leave out --older and --at-most")
    show(cache_content(older, at_most, clear=clear), form)

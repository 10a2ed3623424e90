"""`ovek sheet learn`: a sheet out of saved sessions with marks in them."""

from pathlib import Path

import click

from ovek.app.learning import learn_sheet
from ovek.cli.command import Command, OneOf
from ovek.cli.options import A_PATH, FORMAT, SITE, exit_code, verbose_option
from ovek.cli.say import say
from ovek.cli.show import show
from ovek.model.sheet import LAYOUTS
from ovek.render.view import View
from ovek.render.visible import visible


class _AtTerminal:
    """Somebody who can be asked, at a terminal."""

    def say(self, text: str) -> None:
        """Tell something."""
        say(text, err=True)

    def answer(self, prompt: str) -> str:
        """Ask for a line."""
        answer: str = click.prompt(visible(prompt), default="", show_default=False, err=True)
        return answer.strip()


@click.command(
    "learn",
    cls=Command,
    examples=(
        "sheet learn my-core sessions/arle-core-marked.txt",
        "sheet learn my-core sessions/arle-core-marked.txt --take all",
    ),
)
@click.argument("name")
@click.argument("session", nargs=-1, type=A_PATH)
@click.option("--take", metavar="WHICH", help="Accept suggested marks: their numbers, or all.")
@click.option("--ask", is_flag=True, help="Ask about each unmarked line in the terminal.")
@click.option(
    "--layout",
    type=OneOf(list(LAYOUTS)),
    help="How the device stores images, if the session suggests the wrong one.",
)
@click.option("--over", is_flag=True, help="Overwrite manual changes.")
@click.option("--dry-run", is_flag=True, help="Show what would be learned; write nothing.")
@verbose_option("List every ignored line.")
@SITE
@FORMAT
def learn_command(
    name: str,
    session: tuple[Path, ...],
    take: str | None,
    ask: bool,
    layout: str | None,
    over: bool,
    dry_run: bool,
    verbose: bool,
    site_folder: Path,
    form: str,
) -> None:
    """Write the sheet NAME from saved sessions, each SESSION, that contain marks.

    In a copy of a session, put marks around the values you know: <<free=90112>>. The first row of
    a table is enough. The sheet and its sessions are stored in sheets/; with another SESSION, or
    more marks, it learns more and still parses the earlier ones. Exit code 1 while a line is not
    parsed or a fact is missing.
    """
    result = learn_sheet(
        site_folder,
        name,
        session,
        take=take,
        person=_AtTerminal() if ask else None,
        layout=layout,
        over=over,
        dry_run=dry_run,
    )
    show(result, form, View(verbose=verbose))
    exit_code(not result.whole)

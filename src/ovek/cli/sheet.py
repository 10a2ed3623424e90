"""`ovek sheet`: how a kind of device is described."""

from pathlib import Path

import click

from ovek.app import sheets
from ovek.cli import completing
from ovek.cli.command import CommandGroup, OneOf
from ovek.cli.options import A_PATH, FORMAT, SITE, exit_code, verbose_option
from ovek.cli.say import say
from ovek.cli.sheet_learn import learn_command
from ovek.cli.show import show, write_lines
from ovek.model.fields import OF_THINGS
from ovek.render.view import View


@click.group("sheet", cls=CommandGroup)
def command() -> None:
    """Device descriptions (sheets): learn, try, check, new, fields."""


@command.command("check", examples=("sheet check oxwick-40", "sheet check tolvane-8"))
@click.argument("sheet", shell_complete=completing.sheets)
@SITE
def check_command(sheet: str, site_folder: Path) -> None:
    """Check SHEET (a name or a file) for mistakes; each is shown with its line.

    The saved sessions beside it, in NAME.sessions/, are its tests.
    """
    result = sheets.check_sheet(site_folder, sheet)
    show(result)
    exit_code(any(not one.whole for one in result.kept))


@command.command("fields", examples=("sheet fields", "sheet fields volume"))
@click.argument("thing", required=False, type=OneOf([*OF_THINGS, "wording"]))
@FORMAT
def fields_command(thing: str | None, form: str) -> None:
    """List the fields of each THING that a sheet can fill, with units and examples.

    `wording` lists the placeholders that each line under [wording] may use.
    """
    show(sheets.sheet_fields(thing), form)


@command.command(
    "try",
    examples=(
        "sheet try oxwick-40 sessions/arle-core.txt",
        "sheet try oxwick-40 sessions/arle-core.txt --format json",
    ),
)
@click.argument("sheet", shell_complete=completing.sheets)
@click.argument("capture", nargs=-1, type=A_PATH)
@click.option("--all", "all_", is_flag=True, help="Test it on every session stored with it.")
@verbose_option("Show every row.")
@SITE
@FORMAT
def try_command(
    sheet: str,
    capture: tuple[Path, ...],
    all_: bool,
    verbose: bool,
    site_folder: Path,
    form: str,
) -> None:
    """Test SHEET (a name or a file) on saved terminal sessions, each CAPTURE.

    Shows the rows of each template with the fields they fill, the lines that no template parses,
    and the missing facts. Exit code 1 if there are any.
    """
    trials = sheets.try_sheet_on(site_folder, sheet, capture, kept=all_)
    for number, (name, trial) in enumerate(trials.items()):
        if form == "table":
            write_lines([*([""] if number else []), *([f"{name}:"] if name else [])])
        show(trial, form, View(verbose=verbose))
    exit_code(
        any(
            one.missing or one.lost or any(each.strange or each.problem for each in one.questions)
            for one in trials.values()
        )
    )


@command.command("new", examples=("sheet new my-switch", "sheet new my-controller"))
@click.argument("name")
@SITE
def new_command(name: str, site_folder: Path) -> None:
    """Write a commented sheet template to sheets/NAME.toml."""
    file = sheets.new_sheet(site_folder, name)
    say(f"Wrote {file}. Edit it, then: ovek sheet try {file} SESSION")


command.add_command(learn_command)

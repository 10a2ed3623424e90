"""`ovek sheet`: how a kind of device is described."""

import sys
from difflib import get_close_matches
from importlib import resources
from pathlib import Path

import click

from ovek.cli.command import Group
from ovek.cli.completing import sheets
from ovek.cli.options import FORMAT, SITE, write_json, write_lines
from ovek.files.errors import InputError
from ovek.files.sheets import find_sheet, sheet_names
from ovek.files.site import read_sheet
from ovek.files.whole import write_whole
from ovek.model.sheet import Sheet
from ovek.model.typed import is_plain


@click.group("sheet", cls=Group)
def command() -> None:
    """How a kind of device is described: check a sheet, try it on a saved session, start one."""


@command.command("check", examples=("sheet check oxwick-40", "sheet check tolvane-8"))
@click.argument("sheet", shell_complete=sheets)
@SITE
def check_command(sheet: str, site_folder: Path) -> None:
    """Is SHEET (a name or a file) right? Every mistake in its questions is told at once."""
    file = _file_of(sheet, site_folder)
    found = read_sheet(file)
    wrong = _wrong(found)
    for question, told in wrong:
        click.echo(f"ovek: {file}, question {question}: {told}", err=True)
    if wrong:
        sys.exit(2)
    reading = found.reading
    asked = f"{len(reading.question)} questions by {reading.by}" if reading.question else "nothing"
    told = f"{found.name} is right: {found.title}, layout {found.start.layout}, asks {asked}."
    write_lines([told])


def _file_of(sheet: str, site_folder: Path) -> Path:
    """The file of a sheet that is named, or that is one itself. Raises InputError."""
    file = Path(sheet) if sheet.endswith(".toml") else find_sheet(site_folder, sheet)
    if file is None:
        near = get_close_matches(sheet, sheet_names(site_folder), n=1)
        do = f"Did you mean {near[0]!r}?" if near else "Name a sheet, or a file that ends in .toml"
        raise InputError(site_folder / "sheets", f"no sheet is named {sheet!r}", do)
    return file


@command.command(
    "try",
    examples=(
        "sheet try oxwick-40 sessions/arle-core.txt",
        "sheet try oxwick-40 sessions/arle-core.txt --format json",
    ),
)
@click.argument("sheet", shell_complete=sheets)
@click.argument("capture", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("-v", "--verbose", is_flag=True, help="Show every row.")
@SITE
@FORMAT
def try_command(
    sheet: str, capture: tuple[Path, ...], verbose: bool, site_folder: Path, format_: str
) -> None:
    """What does SHEET (a name or a file) make of a saved terminal session, each CAPTURE?

    Shows the rows of each template beside the fields they fill, the lines that no template
    understood, and the facts that are still missing. Exit code 1 where there are any.
    """
    from ovek.sources.capture import read_capture
    from ovek.sources.trial import try_sheet

    file = _file_of(sheet, site_folder)
    found = read_sheet(file)
    for question, told in _wrong(found):
        met = f"the question {question!r}: {told}"
        raise InputError(file, met, f"See: ovek sheet check {file}")
    tried = try_sheet(found, [read_capture(each) for each in capture])
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.sheet_trial(tried), format_, "questions")
    else:
        from ovek.render.sheet import trial

        write_lines(trial(tried, verbose=verbose))
    if tried.missing or tried.lost or any(one.strange or one.problem for one in tried.questions):
        sys.exit(1)


@command.command("new", examples=("sheet new my-switch", "sheet new my-controller"))
@click.argument("name")
@SITE
def new_command(name: str, site_folder: Path) -> None:
    """Write a commented start of a sheet to sheets/NAME.toml of the site."""
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise click.UsageError(f"{name!r} cannot be the name of a sheet; use letters and dashes")
    file = site_folder / "sheets" / f"{name}.toml"
    if file.exists():
        raise InputError(file, "is there already", "Choose another name, or edit that file")
    start = (resources.files("ovek.files") / "new-sheet.toml").read_text(encoding="utf-8")
    write_whole(file, [start.replace("NAME", name).encode()])
    click.echo(f"{file} is written. Edit it, then: ovek sheet try {file} CAPTURE")


def _wrong(sheet: Sheet) -> list[tuple[str, str]]:
    from ovek.sources.rows import check_templates

    return list(check_templates(sheet))

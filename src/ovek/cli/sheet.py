"""`ovek sheet`: how a kind of device is described."""

import sys
from difflib import get_close_matches
from importlib import resources
from pathlib import Path

import click
from msgspec.structs import replace

from ovek.cli.command import Group, OneOf
from ovek.cli.completing import sheets
from ovek.cli.options import FORMAT, SITE, write_json, write_lines
from ovek.cli.say import say, tell
from ovek.files.errors import InputError
from ovek.files.sheets import SESSIONS, find_sheet, kept_sessions, sheet_names
from ovek.files.site import read_sheet
from ovek.files.whole import write_whole
from ovek.model.fields import OF_THINGS
from ovek.model.sheet import LAYOUTS, WORDING, Sheet
from ovek.model.typed import is_plain, typed


@click.group("sheet", cls=Group)
def command() -> None:
    """How a kind of device is described: check a sheet, try it on a saved session, start one."""


@command.command("check", examples=("sheet check oxwick-40", "sheet check tolvane-8"))
@click.argument("sheet", shell_complete=sheets)
@SITE
def check_command(sheet: str, site_folder: Path) -> None:
    """Is SHEET (a name or a file) right? All mistakes are told at once, each with its line.

    The sessions that are kept beside it, in NAME.sessions/, are its tests: it is tried on each.
    """
    from ovek.sources.mistakes import mistakes_in

    file = file_of(sheet, site_folder)
    found, wrong = mistakes_in(file)
    for error in wrong:
        tell(str(error))
    if found is None:
        sys.exit(2)
    reading = found.reading
    asked = f"{len(reading.question)} questions by {reading.by}" if reading.question else "nothing"
    told = f"{found.name} is right: {found.title}, layout {found.start.layout}, asks {asked}."
    failed, lines = _tested(found, file)
    write_lines([told, *lines])
    if failed:
        sys.exit(1)


def _tested(sheet: Sheet, file: Path) -> tuple[int, list[str]]:
    """How many of its kept sessions a sheet does not understand, and what to say of each."""
    from ovek.cli.learning import Session, tested
    from ovek.render.lines import count

    kept = kept_sessions(file)
    if not kept:
        return 0, []
    from ovek.sources.capture import read_capture

    sessions = [Session(each, each.name, read_capture(each)) for each in kept]
    trials = tested(sheet, sessions)
    failed = [one for one in trials if not one.whole]
    facts = count(sum(one.facts for one in trials), "fact")
    understood = f"{len(trials) - len(failed)} of its {len(trials)} kept sessions"
    lines = [f"It understands {understood}: {facts}."]
    for one in failed:
        told = [] if one.facts else ["nothing in it was understood"]
        told += [count(one.strange, "line") + " not understood"] if one.strange else []
        session = str(file.with_suffix(SESSIONS) / one.session)
        do = f"ovek sheet try {typed(str(file), 'FILE')} {typed(session, 'CAPTURE')}"
        lines.append(f"  {one.session}: {', '.join([*told, *one.wrong])}; {do}")
    return len(failed), lines


@command.command("fields", examples=("sheet fields", "sheet fields volume"))
@click.argument("thing", required=False, type=OneOf([*OF_THINGS, "wording"]))
@FORMAT
def fields_command(thing: str | None, format_: str) -> None:
    """Which fields has each THING that a sheet can fill? Their units, and an example of each.

    At the end (or for `wording` alone) what each line under [wording] may name.
    """
    chosen = {name: told for name, told in OF_THINGS.items() if thing in (None, name)}
    wording = WORDING if thing in (None, "wording") else {}
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.sheet_fields(chosen, wording), format_, "fields")
    else:
        from ovek.render.fields import fields

        write_lines(fields(chosen, wording))


def file_of(sheet: str, site_folder: Path) -> Path:
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
@click.argument("capture", nargs=-1, type=click.Path(path_type=Path))
@click.option("--all", "all_", is_flag=True, help="Try it on each session that is kept with it.")
@click.option("-v", "--verbose", is_flag=True, help="Show every row.")
@SITE
@FORMAT
def try_command(
    sheet: str,
    capture: tuple[Path, ...],
    all_: bool,
    verbose: bool,
    site_folder: Path,
    format_: str,
) -> None:
    """What does SHEET (a name or a file) make of a saved terminal session, each CAPTURE?

    Shows the rows of each template beside the fields they fill, the lines that no template
    understood, and the facts that are still missing. Exit code 1 where there are any.
    """
    from ovek.files.marks import without_marks
    from ovek.sources.capture import read_capture
    from ovek.sources.trial import try_sheet

    file = file_of(sheet, site_folder)
    found = read_sheet(file)
    kept = kept_sessions(file) if all_ else []
    if not capture and not kept:
        folder = file.with_suffix(SESSIONS)
        more = f"; {folder} keeps none" if all_ else f", or --all for those in {folder}"
        raise click.UsageError(f"name a saved session{more}")
    for question, told in _wrong(found):
        met = f"the question {question!r}: {told}"
        raise InputError(file, met, f"See: ovek sheet check {file}")
    groups = {"": list(capture)} if capture else {}
    groups |= {each.name: [each] for each in kept}
    trials = {
        name: try_sheet(found, [without_marks(read_capture(each)) for each in files])
        for name, files in groups.items()
    }
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        for tried in trials.values():
            write_json(json.sheet_trial(tried), format_, "questions")
    else:
        from ovek.render.sheet import trial

        for number, (name, tried) in enumerate(trials.items()):
            write_lines([*([""] if number else []), *([f"{name}:"] if name else [])])
            write_lines(trial(tried, verbose=verbose))
    if any(
        one.missing or one.lost or any(each.strange or each.problem for each in one.questions)
        for one in trials.values()
    ):
        sys.exit(1)


@command.command("new", examples=("sheet new my-switch", "sheet new my-controller"))
@click.argument("name")
@SITE
def new_command(name: str, site_folder: Path) -> None:
    """Write a commented start of a sheet to sheets/NAME.toml of the site."""
    _check_name(name)
    file = site_folder / "sheets" / f"{name}.toml"
    if file.exists():
        raise InputError(file, "is there already", "Choose another name, or edit that file")
    start = (resources.files("ovek.files") / "new-sheet.toml").read_text(encoding="utf-8")
    write_whole(file, [start.replace("NAME", name).encode()])
    say(f"{file} is written. Edit it, then: ovek sheet try {file} CAPTURE")


@command.command(
    "learn",
    examples=(
        "sheet learn my-core sessions/arle-core-marked.txt",
        "sheet learn my-core sessions/arle-core-marked.txt --take all",
    ),
)
@click.argument("name")
@click.argument("session", nargs=-1, type=click.Path(path_type=Path))
@click.option("--take", metavar="WHICH", help="Put guesses in as marks: their numbers, or all.")
@click.option("--ask", is_flag=True, help="Ask about one line at a time.")
@click.option(
    "--layout", type=OneOf(list(LAYOUTS)), help="How it finds its image, where a session misleads."
)
@click.option("--over", is_flag=True, help="Write over what was changed by hand.")
@click.option("--dry-run", is_flag=True, help="Say what would be learned; write nothing.")
@click.option("-v", "--verbose", is_flag=True, help="Name every line that is passed over.")
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
    format_: str,
) -> None:
    """Write the sheet NAME from saved sessions, each SESSION, with marks in them.

    In a copy of a session, wrap what you know in a mark: <<free=90112>>. The first row of a table
    is enough. The sheet and its sessions are kept in sheets/ of the site; with another SESSION, or
    more marks in one, it learns on and stays right for those before. Exit code 1 while a line is
    not understood or a fact is missing.
    """
    from ovek.cli import learning
    from ovek.learn.choices import choices_of

    _check_name(name)
    file = site_folder / "sheets" / f"{name}.toml"
    sessions = learning.sessions_of(file, session)
    if not sessions:
        raise click.UsageError("name a saved session with marks in it: ovek sheet learn NAME FILE")
    if ask:
        learning.ask_about(sessions)
    if take is not None:
        for left in learning.take(sessions, take):
            tell(left)
    lesson = learning.lesson_of(sessions)
    new = not file.exists()
    chosen = learning.ask_choices(lesson, layout) if ask and new else {}
    text = learning.sheet_text(file, lesson, layout, chosen, over=over)
    sheet = learning.sheet_in(file, text)
    for question, wrong in _wrong(sheet):
        raise InputError(file, f"the question {question!r}: {wrong}", "Please report it")
    trials = learning.tested(sheet, sessions)
    learning.check_understood(trials, sessions)
    if not over:
        learning.check_not_worse(file, trials, sessions)
    offers = learning.guesses_of(sessions, lesson)
    told = learning.told(name, lesson, sessions, trials, offers)
    if not dry_run:
        folder = learning.kept(file, sessions)
        write_whole(file, [text.encode()])
        told = replace(told, written=str(file), kept=str(folder))
        if new:
            told = replace(told, choices=choices_of(lesson, sheet.start.layout, chosen))
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.learned(told), format_, "asks")
    else:
        from ovek.render.learned import learned

        write_lines(learned(told, verbose=verbose))
    if not told.whole:
        sys.exit(1)


def _check_name(name: str) -> None:
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise click.UsageError(f"{name!r} cannot be the name of a sheet; use letters and dashes")


def _wrong(sheet: Sheet) -> list[tuple[str, str]]:
    from ovek.sources.rows import check_templates

    return list(check_templates(sheet))

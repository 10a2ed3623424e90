"""Sheets of a site: is one right, what does it make of a session, which fields are there?"""

from collections.abc import Iterable, Sequence
from difflib import get_close_matches
from importlib import resources
from pathlib import Path

from ovek.files.atomic import write_whole
from ovek.files.errors import InputError, ManyInputError
from ovek.files.sheets import SESSIONS, find_sheet, kept_sessions, sheet_names
from ovek.files.site import read_sheet
from ovek.model.fields import OF_THINGS
from ovek.model.learned import Tested
from ovek.model.plain_word import is_plain
from ovek.model.results.sheets import KeptSession, SheetCheck, SheetField, SheetFields
from ovek.model.sheet import WORDING, Sheet
from ovek.model.trial import SheetTrial
from ovek.model.usage import UsageError

WORDING_ALONE = "wording"


def check_sheet(folder: Path, sheet: str) -> SheetCheck:
    """Is a sheet (a name or a file) right, and does it understand the sessions kept with it?

    Raises ManyInputError with all mistakes at once.
    """
    from ovek.sources.capture import read_capture
    from ovek.sources.mistakes import mistakes_in

    file = file_of(folder, sheet)
    found, wrong = mistakes_in(file)
    if found is None:
        raise ManyInputError(list(wrong))
    reading, kept = found.reading, kept_sessions(file)
    texts = [(each.name, each, read_capture(each)) for each in kept]
    trials = tested(found, texts)
    return SheetCheck(
        name=found.name,
        title=found.title,
        layout=found.boot.layout,
        questions=len(reading.question),
        by=str(reading.by),
        kept=[
            KeptSession(
                file=str(file.with_suffix(SESSIONS) / one.session),
                name=one.session,
                whole=one.whole,
                facts=one.facts,
                strange=one.strange,
                wrong=one.wrong,
                sheet=str(file),
            )
            for one in trials
        ],
        facts=sum(one.facts for one in trials),
    )


def tested(sheet: Sheet, sessions: Iterable[tuple[str, Path, str]]) -> tuple[Tested, ...]:
    """A sheet tried on sessions (name, file, text): what is not understood, and what not told.

    A session need not hold every answer; what none of them holds is missing in each.
    """
    from ovek.sources.trial import try_sheet

    named = [(name, try_sheet(sheet, [plain_session(file, text)])) for name, file, text in sessions]
    answered = {one.name for _, tried in named for one in tried.questions if one.answered}
    never = [f"the output of {q.name!r}" for q in sheet.reading.question if q.name not in answered]
    return tuple(
        Tested(
            session=name,
            facts=tried.facts,
            missing=(*tried.missing, *never),
            wrong=(*tried.lost, *(one.problem for one in tried.questions if one.problem)),
            strange=sum(len(one.strange) for one in tried.questions),
        )
        for name, tried in named
    )


def plain_session(file: Path, text: str) -> str:
    """A session without its marks. Raises InputError."""
    from ovek.files.marks import MarkError, unmarked
    from ovek.sources.clean import plain

    try:
        return unmarked(plain(text))[0]
    except MarkError as wrong:
        raise InputError(file, wrong.met, wrong.do, line=wrong.line) from None


def try_sheet_on(
    folder: Path, sheet: str, captures: Sequence[Path] = (), *, kept: bool = False
) -> dict[str, SheetTrial]:
    """What a sheet makes of saved sessions: by the name of each that is kept with it, or empty.

    Raises InputError, UsageError.
    """
    from ovek.files.marks import without_marks
    from ovek.sources.capture import read_capture
    from ovek.sources.trial import try_sheet

    file = file_of(folder, sheet)
    found = read_sheet(file)
    sessions = kept_sessions(file) if kept else []
    if not captures and not sessions:
        beside = file.with_suffix(SESSIONS)
        more = f"; {beside} has none" if kept else f", or --all for those in {beside}"
        raise UsageError(f"give a saved session{more}")
    check_questions(file, found, f"See: ovek sheet check {file}")
    groups = {"": list(captures)} if captures else {}
    groups |= {each.name: [each] for each in sessions}
    return {
        name: try_sheet(found, [without_marks(read_capture(each)) for each in files])
        for name, files in groups.items()
    }


def check_questions(file: Path, sheet: Sheet, do: str) -> None:
    """Raise InputError where the template of a question is none."""
    from ovek.sources.rows import check_templates

    for question, wrong in check_templates(sheet):
        raise InputError(file, f"the question {question!r}: {wrong}", do)


def sheet_fields(thing: str | None = None) -> SheetFields:
    """The fields of each thing that a sheet can fill (or of one), and what its wording may name.

    >>> from ovek.app.sheets import sheet_fields
    >>> sheet_fields("volume").fields[0].thing
    'volume'
    """
    fields = [
        SheetField(thing=name, field=field, tells=one.tells, unit=one.unit, example=one.example)
        for name, inside in OF_THINGS.items()
        if thing in (None, name)
        for field, one in inside.items()
    ]
    wording = WORDING if thing in (None, WORDING_ALONE) else {}
    return SheetFields(fields=fields, wording={name: tuple(each) for name, each in wording.items()})


def file_of(folder: Path, sheet: str) -> Path:
    """The file of a sheet that is named, or that is one itself. Raises InputError."""
    file = Path(sheet) if sheet.endswith(".toml") else find_sheet(folder, sheet)
    if file is None:
        near = get_close_matches(sheet, sheet_names(folder), n=1)
        do = f"Did you mean {near[0]!r}?" if near else "Give the name of a sheet, or a .toml file"
        raise InputError(folder / "sheets", f"no sheet named {sheet!r}", do)
    return file


def new_sheet(folder: Path, name: str) -> Path:
    """Write a commented start of a sheet to sheets/NAME.toml. Raises InputError, UsageError."""
    file = sheet_file(folder, name)
    if file.exists():
        raise InputError(file, "already exists", "Choose another name, or edit that file")
    start = (resources.files("ovek.files") / "new-sheet.toml").read_text(encoding="utf-8")
    write_whole(file, [start.replace("NAME", name).encode()])
    return file


def sheet_file(folder: Path, name: str) -> Path:
    """Where a sheet of a name lies. Raises UsageError for what can be none."""
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise UsageError(f"{name!r} is not a valid sheet name; use letters, digits and dashes")
    return folder / "sheets" / f"{name}.toml"

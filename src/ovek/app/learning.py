"""Learn a sheet from marked sessions: its kept sessions, and what is left open."""

import logging
import re
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Protocol

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ovek.app.sheets import check_questions, plain_session, sheet_file, tested
from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes, text_of
from ovek.files.errors import InputError
from ovek.files.marks import Mark, MarkError, unmarked, with_mark
from ovek.files.safe_open import bytes_of
from ovek.files.sheets import SESSIONS, kept_sessions
from ovek.learn.answers import OpenAnswer
from ovek.learn.choices import choices_of
from ovek.learn.guesses import Guess, guesses
from ovek.learn.lesson import Lesson, SessionError, learn
from ovek.learn.shapes import shape_of
from ovek.learn.sheet_text import head_of, learned_of, parts_of, whole
from ovek.learn.things import KEYS
from ovek.model.learned import Asks, Learned, LineOf, MarkOffer, Settles, Tested
from ovek.model.sheet import Sheet
from ovek.model.usage import UsageError
from ovek.sources.capture import read_capture
from ovek.sources.clean import plain

_LOG = logging.getLogger(__name__)
_MOST_LINES = 100_000


class Person(Protocol):
    """Somebody who can be asked."""

    def say(self, text: str) -> None:
        """Tell something."""

    def answer(self, prompt: str) -> str:
        """Ask for a line."""


class Session(Struct):
    """One session: the file that it came from, its name as kept, and its marked text."""

    file: Path
    name: str
    text: str


def learn_sheet(
    folder: Path,
    name: str,
    files: Sequence[Path] = (),
    *,
    take: str | None = None,
    person: Person | None = None,
    layout: str | None = None,
    over: bool = False,
    dry_run: bool = False,
) -> Learned:
    """Write the sheet sheets/NAME.toml of a site from saved sessions with marks in them.

    The sessions that are kept with it count, too. `take` puts guesses in as marks (their numbers,
    or `all`), `person` is asked about one line at a time, `layout` is how a new one finds its
    image, `over` writes over what was changed by hand, `dry_run` writes nothing. Raises InputError,
    UsageError.

    >>> from pathlib import Path
    >>> from ovek import learn_sheet
    >>> session = Path("skerrow-ferries/sessions/arle-core-marked.txt")
    >>> learn_sheet(Path("skerrow-ferries"), "my-core", [session], dry_run=True).marks > 0
    True
    """
    file = sheet_file(folder, name)
    sessions = sessions_of(file, files)
    if not sessions:
        raise UsageError("give a saved session with marks in it: ovek sheet learn NAME FILE")
    if person is not None:
        ask_about(sessions, person)
    for refused in put_in(sessions, take) if take is not None else ():
        _LOG.warning("%s", refused)
    lesson, new = lesson_of(sessions), not file.exists()
    chosen = ask_choices(lesson, layout, person) if person is not None and new else {}
    text = sheet_text(file, lesson, layout, chosen, over=over)
    sheet = sheet_in(file, text)
    check_questions(file, sheet, "Please report it")
    trials = _tested(sheet, sessions)
    check_understood(trials, sessions)
    if not over:
        check_not_worse(file, trials, sessions)
    learned = told(name, lesson, sessions, trials, guesses_of(sessions, lesson))
    if dry_run:
        return learned
    beside = kept(file, sessions)
    write_whole(file, [text.encode()])
    choices = choices_of(lesson, sheet.boot.layout, chosen) if new else ()
    return replace(learned, written=str(file), kept=str(beside), choices=tuple(choices))


def sessions_of(sheet: Path, files: Sequence[Path]) -> list[Session]:
    """The sessions that are kept for a sheet, and new ones.

    A new one takes the place of one that has its name, or is the same but for its marks. Raises
    InputError.
    """
    found = [Session(file, file.name, read_capture(file)) for file in kept_sessions(sheet)]
    for file in files:
        new = Session(file, f"{file.stem}.txt", read_capture(file))
        if new.text.count("\n") > _MOST_LINES:
            do = "Keep each command only once"
            raise InputError(file, f"has more than {_MOST_LINES} lines", do)
        same = next((one for one in found if one.name == new.name), None) or next(
            (one for one in found if _plain(one) == _plain(new)), None
        )
        if same is not None:
            found[found.index(same)] = Session(file, same.name, new.text)
        else:
            found.append(new)
    return found


def _plain(session: Session) -> str:
    return plain_session(session.file, session.text)


def lesson_of(sessions: Sequence[Session]) -> Lesson:
    """What the sessions teach. Raises InputError."""
    try:
        return learn([one.text for one in sessions])
    except SessionError as wrong:
        file = sessions[wrong.session].file
        raise InputError(file, wrong.met, wrong.do, line=wrong.line) from None


def guesses_of(sessions: Sequence[Session], lesson: Lesson | None) -> list[Guess]:
    """What else may be marked in them; nothing that is learned already."""
    known = set[str]()
    if lesson is not None:
        known |= {field for question in lesson.questions for field in question.fields}
        known |= {"leave"} if lesson.leave is not None else set()
        known |= {"error"} if lesson.errors else set()
    return guesses([one.text for one in sessions], known)


def put_in(sessions: Sequence[Session], which: str) -> list[str]:
    """Put guesses into sessions as marks: their numbers, or all. Raises UsageError.

    One that cannot be learned beside the others is left out; returned is what to say of those.
    """
    before = _lesson(sessions)
    offers = guesses_of(sessions, before)
    numbers = range(1, len(offers) + 1)
    chosen = list(numbers)
    if which != "all":
        parts = [each.strip() for each in which.split(",")]
        if not all(each.isdigit() and int(each) in numbers for each in parts):
            there = f"suggested marks 1 to {len(offers)}" if offers else "no suggested marks"
            raise UsageError(f"{which!r}: there are {there}", "--take")
        chosen = [int(each) for each in parts]
    left, learned = dict.fromkeys(chosen, ""), before is not None
    for _ in range(2):  # what is refused may be understood beside those that come after it
        for number in list(left):
            refused = _put_in(sessions, offers[number - 1], learned=learned)
            if refused is None:
                learned = True
                del left[number]
            else:
                left[number] = f"suggested mark {number} was not used: {refused}"
    return list(left.values())


def _put_in(sessions: Sequence[Session], guess: Guess, *, learned: bool) -> InputError | None:
    """Put a guess in; or why it cannot be learned beside what is marked, and it stays out.

    `learned` is whether the sessions teach something without it.
    """
    session = sessions[guess.session]
    text = session.text
    marked(session, guess.mark)
    try:
        lesson_of(sessions)
    except InputError as wrong:
        if learned or wrong.line is not None:
            session.text = text
            return wrong
    return None


def _lesson(sessions: Sequence[Session]) -> Lesson | None:
    """What the sessions teach as they are; None where they teach nothing yet."""
    try:
        return lesson_of(sessions)
    except InputError:
        return None


def marked(session: Session, mark: Mark) -> None:
    """Put one more mark into a session; its other lines stay as they are."""
    lines, line = session.text.split("\n"), mark.line
    if unmarked(lines[line].rstrip("\r"))[0] != unmarked(plain(lines[line]))[0]:
        lines[line] = plain(lines[line])  # escapes would stand between
    session.text = with_mark("\n".join(lines), line, mark.start, mark.end, mark.name, mark.means)


def sheet_text(
    file: Path, lesson: Lesson, layout: str | None, chosen: Mapping[str, str], *, over: bool
) -> str:
    """The sheet: its upper part as it is, the lower one anew. Raises InputError."""
    name = file.stem
    if not file.exists():
        return whole(head_of(name, lesson, layout, chosen), learned_of(lesson))
    if layout is not None:
        do = "Change layout there, under [boot]"
        raise InputError(file, "already exists, and --layout is for a new sheet", do)
    parts = parts_of(text_of(file, read_bytes(file)))
    if parts is None:
        do = "Choose another name, or move that sheet away"
        raise InputError(file, "was written by hand, not learned", do)
    head, _, untouched = parts
    if not untouched and not over:
        do = "Use --over to overwrite the manual changes, or continue by hand"
        raise InputError(file, "was changed by hand below its dashed line", do)
    return whole(head, learned_of(lesson))


def sheet_in(file: Path, text: str) -> Sheet:
    """The sheet that a text is. Raises InputError."""
    try:
        return msgspec.convert(tomllib.loads(text), Sheet)
    except (ValueError, msgspec.ValidationError) as wrong:
        do = "See: ovek sheet check"
        raise InputError(file, f"would have a mistake: {wrong}", do) from None


def _tested(sheet: Sheet, sessions: Sequence[Session]) -> tuple[Tested, ...]:
    return tested(sheet, [(one.name, one.file, one.text) for one in sessions])


def check_understood(trials: Sequence[Tested], sessions: Sequence[Session]) -> None:
    """Raise InputError where nothing of a session is understood, as of another kind of device."""
    for trial, session in zip(trials, sessions, strict=True):
        if not trial.facts:
            do = "If it is another kind of device, learn it under another name; nothing was written"
            raise InputError(session.file, "nothing in the session could be parsed", do)


def check_not_worse(file: Path, now: Sequence[Tested], sessions: Sequence[Session]) -> None:
    """Raise InputError where a session that the sheet understood is understood less."""
    if not file.exists():
        return
    try:
        before = _tested(sheet_in(file, text_of(file, read_bytes(file))), sessions)
    except InputError:
        return
    for earlier, later in zip(before, now, strict=True):
        if (earlier.whole and not later.whole) or set(later.missing) - set(earlier.missing):
            text = f"parses {earlier.session} now, and would no longer do so"
            do = "Find the mark in the new session that contradicts it; nothing was written"
            raise InputError(file, text, do)


def kept(file: Path, sessions: Sequence[Session]) -> Path:
    """Keep the sessions beside the sheet, each whole; return their folder."""
    folder = file.with_suffix(SESSIONS)
    for session in sessions:
        target = folder / session.name
        data = session.text.encode("utf-8", "replace")
        if not target.is_file() or bytes_of(target) != data:
            write_whole(target, [data])
    return folder


def told(
    name: str,
    lesson: Lesson,
    sessions: Sequence[Session],
    trials: tuple[Tested, ...],
    offers: Sequence[Guess],
) -> Learned:
    """What was learned, to be shown."""
    asks = tuple(
        Asks(
            asked=", then ".join((question.ask, *question.then)),
            each=question.each,
            fills=question.fills,
            fields=tuple(
                field if question.fills == "device" else f"{question.fills}.{field}"
                for field in sorted(question.fields)
            ),
        )
        for question in lesson.questions
    )
    return Learned(
        sheet=name,
        written=None,
        kept=None,
        marks=lesson.marks,
        prompt=lesson.prompt,
        pager=lesson.pager.shows if lesson.pager is not None else None,
        asks=asks,
        open=_open(lesson.open, sessions),
        unsettled=tuple(Settles(what=one.what, mark=one.mark) for one in lesson.unsettled),
        taken=tuple(dict.fromkeys(lesson.taken)),
        passed=lesson.passed,
        guesses=tuple(
            MarkOffer(
                session=sessions[one.session].name, line=one.mark.line + 1, mark=one.mark.shown
            )
            for one in offers
        ),
        unasked=tuple(dict.fromkeys(lesson.unasked)),
        sessions=trials,
    )


def _open(lines: Sequence[OpenAnswer], sessions: Sequence[Session]) -> tuple[LineOf, ...]:
    """The lines that are not understood, one of each shape."""
    by_shape: dict[tuple[str, ...], list[OpenAnswer]] = {}
    for line in lines:
        by_shape.setdefault((*line.things, shape_of(line.text.strip())), []).append(line)
    return tuple(
        LineOf(
            session=sessions[same[0].session].name,
            line=same[0].line + 1,
            text=same[0].text,
            marks=suggested(same[0]),
            more=len(same) - 1,
        )
        for same in by_shape.values()
    )


def suggested(line: OpenAnswer) -> tuple[str, ...]:
    """The marks of which one would settle a line."""
    cells = re.split(r" {2,}|\t", line.text.strip())
    found = []
    for fills in line.things:
        key = KEYS[fills][0] if KEYS[fills] else None
        if key is not None and cells[0]:
            like = re.compile(r".*\.[A-Za-z]\w*" if fills == "file" else r"\S+:\S+")
            cell = next((each for each in cells if like.fullmatch(each)), cells[0])
            found.append(f"<<{fills}.{key}={cell}>>")
        if line.parts:  # it may say which list or volume those below it are of
            which = {"order": "list(live|saved)", "file": "file.volume"}.get(fills)
            found = [f"<<{which}={line.text.strip()}>>"] if which is not None else found
    return (*found[:2], f"<<skip={line.text.strip()}>>")


def ask_about(sessions: Sequence[Session], person: Person) -> None:
    """Ask a person about one line at a time, until nothing is open; marks go into the sessions."""
    asked: set[tuple[int, int, str]] = set()
    while True:
        try:
            lesson = lesson_of(sessions)
            lines = list(lesson.open)
        except InputError as wrong:
            if not asked:
                _LOG.warning("%s", wrong)
            lesson, lines = None, []
        for guess in guesses_of(sessions, lesson):
            key = (guess.session, guess.mark.line, guess.mark.name)
            if key not in asked:
                asked.add(key)
                _show(sessions[guess.session], guess.mark.line, person)
                answer = person.answer(f"Is that {guess.mark.shown}? [y, Enter = no, q = quit]")
                if answer == "q":
                    return
                if answer.lower() in ("y", "yes"):
                    marked(sessions[guess.session], guess.mark)
                    break
        else:
            left = [line for line in lines if (line.session, line.line, "") not in asked]
            if not left:
                return
            asked.add((left[0].session, left[0].line, ""))
            if not _ask_line(sessions[left[0].session], left[0], person):
                return


def ask_choices(lesson: Lesson, layout: str | None, person: Person) -> dict[str, str]:
    """Ask a person what no session tells; the answers by their key."""
    chosen = dict[str, str]()
    for choice in choices_of(lesson, layout or lesson.layout):
        person.say(f"\n{choice.asks}")
        for value, follows in choice.follows.items():
            person.say(f"  {value}: {follows}")
        while (answer := person.answer(f"Which? [Enter = {choice.value}, q = quit]")) not in (
            *("", "q"),
            *choice.follows,
        ):
            person.say(f"Use one of: {', '.join(choice.follows)}")
        if answer == "q":
            break
        chosen[choice.key] = answer or choice.value
    return chosen


def _ask_line(session: Session, line: OpenAnswer, person: Person) -> bool:
    """Ask what one line tells; False where nobody wants to go on."""
    _show(session, line.line, person)
    while True:
        prompt = "What does it show? [FIELD=TEXT, skip, Enter = leave it, q = quit]"
        answer = person.answer(prompt)
        if answer in ("", "q"):
            return answer == ""
        if answer == "skip":
            text = line.text.strip()
            start = line.text.index(text)
            marked(session, Mark(line.line, start, start + len(text), "skip", text))
            return True
        name, equals, value = answer.partition("=")
        start = line.text.find(value) if equals and value else -1
        try:
            unmarked(f"<<{name}={value}>>")
        except MarkError as wrong:
            person.say(f"{wrong.met}. {wrong.do}")
            continue
        if start < 0:
            person.say("That text is not in the line.")
            continue
        marked(session, Mark(line.line, start, start + len(value), name, value))
        return True


def _show(session: Session, number: int, person: Person) -> None:
    """Show one line of a session, and which it is."""
    text = unmarked(plain(session.text.split("\n")[number]))[0].strip()
    person.say(f"\n{session.name}, line {number + 1}: {text}")

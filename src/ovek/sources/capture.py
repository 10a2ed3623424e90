"""Saved terminal sessions: found again what was typed, and what the device answered to it."""

import re
from collections.abc import Iterable
from pathlib import Path

from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.model.pattern import any_fits, compiled
from ovek.model.sheet import Question, Reading
from ovek.sources.clean import plain
from ovek.sources.device_session import Ask, Interview
from ovek.sources.menus import Step, chain, steps_of
from ovek.sources.problem import NoAnswerError

_NAME = re.compile(r"[\w.-]+")
# What no terminal shows; a few of them are noise on the line.
_NO_TEXT = re.compile(r"[\x00-\x07\x0e-\x1a\x1c-\x1f\x7f-\x9f\ufffd]")
_LOOKED_AT = 2**16
_MARKS = ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig"))


def read_capture(file: Path) -> str:
    """Read one saved session, whatever its encoding and line ends. Raises InputError."""
    data = read_bytes(file)
    encoding = next((name for mark, name in _MARKS if data.startswith(mark)), "utf-8")
    text = data.decode(encoding, "replace")
    if not text.strip():
        raise InputError(file, "is empty", "Save the terminal session again")
    strange = len(_NO_TEXT.findall(text[:_LOOKED_AT]))
    if strange * 10 > min(len(text), _LOOKED_AT):
        raise InputError(file, "is not a text file", "Save the terminal session as plain text")
    return text


def find_captures(folder: Path, globs: Iterable[str]) -> list[Path]:
    """The files that globs name, relative to the site and inside it. Raises InputError."""
    paths: list[Path] = []
    for glob in globs:
        if Path(glob).is_absolute() or ".." in Path(glob).parts:
            raise InputError(
                folder, f"the capture {glob!r} is outside the site folder", "Move it inside"
            )
        files = sorted(file for file in folder.glob(glob) if file.is_file())
        if not files:
            raise InputError(folder, f"no file {glob!r}", "Fix `capture` in fleet.toml")
        paths += files
    return paths


class SessionAnswer:
    """What was typed in saved sessions, and what was answered; the last time counts."""

    def __init__(self, *, menus: bool = False) -> None:
        self.answers: dict[str, str] = {}
        self._sessions: list[list[Step]] = []
        self._menus = menus
        self.last = (-1, -1)  # the session and the line of the last question

    def take(self, typed: list[Step]) -> None:
        """Take in one session."""
        self._sessions.append(typed)
        for step in typed:
            if step.typed:
                rest = [""] if step.after is not None else []
                self.answers[step.typed] = "\n".join(["", *step.lines, *rest])

    def get(self, asked: str) -> str | None:
        """The answer to one line, or to several that were typed one after another."""
        typed = [_folded(line) for line in asked.split("\n")]
        if not self._menus:
            return self.answers.get(typed[0])
        for steps in reversed(self._sessions):
            found = chain(steps, typed, steps[0].before) if steps else None
            if found is not None:
                return "\n".join(["", *(line for at in found for line in steps[at].lines), ""])
        return None


def answers_in(sessions: Iterable[str], interview: Interview) -> SessionAnswer:
    """What was typed in the sessions, and what was answered; at the boot loader if that was last.

    The interview goes on as at the boot loader where the last question was put there.
    """
    sessions, reading = list(sessions), interview.sheet.reading
    found = answers_of(sessions, reading)
    if (loader := reading.at_loader) is not None:
        there = answers_of(sessions, loader)
        if there.last > found.last:
            interview.at_loader()
            return there
    return found


def answers_of(sessions: Iterable[str], reading: Reading) -> SessionAnswer:
    """What was typed at a prompt, and the text up to the next prompt; the last time counts.

    A line that only looks like a prompt, a file called `log#1` say, is none: a prompt is what a
    question of the sheet was typed at, and what starts with the same name.
    """
    prompt = compiled(rf"(?P<ovek_prompt>{reading.prompt})[ \t]*(?P<ovek_typed>\S.*)?")
    asked = any_fits(
        _as_typed(line) for question in reading.question for line in (question.ask, *question.then)
    )
    pager = compiled(reading.pager.shows) if reading.pager is not None else None
    menus = any(question.then for question in reading.question)
    told = SessionAnswer(menus=menus)
    for number, session in enumerate(sessions):
        lines = plain(session, pager).split("\n")
        fits = [(at, match) for at, line in enumerate(lines) if (match := prompt.fullmatch(line))]
        typed = [
            (at, match["ovek_prompt"], _folded(match["ovek_typed"] or "")) for at, match in fits
        ]
        questions = [(at, shown) for at, shown, text in typed if text and asked(text)]
        known = {_host_of(shown) for _, shown in questions}
        if questions:
            told.last = (number, questions[-1][0])
        at_prompts = [each for each in typed if _host_of(each[1]) in known]
        told.take(steps_of(lines, at_prompts, menus=menus))
    return told


def _as_typed(ask: str) -> str:
    """A pattern of a question as it is typed, whatever its placeholders are filled with."""
    return re.sub(r"\\\{\w+\\\}", r"\\S+", re.escape(_folded(ask)))


def _host_of(prompt: str) -> str:
    """The name that a prompt shows; the whole where it shows none."""
    name = _NAME.search(prompt)
    return name[0] if name is not None else prompt.strip()


def asking(answers: SessionAnswer) -> Ask:
    """Answer questions out of saved sessions."""

    async def ask(question: Question, asked: str, expected: float) -> str:
        text = answers.get(asked)
        if text is None:
            raise NoAnswerError(f"{asked!r} was not typed in the saved session")
        return text

    return ask


def _folded(typed: str) -> str:
    return " ".join(typed.split())

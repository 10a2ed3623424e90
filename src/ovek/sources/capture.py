"""Saved terminal sessions: found again what was typed, and what the device answered to it."""

import re
from collections.abc import Iterable
from pathlib import Path

from ovek.files.errors import InputError
from ovek.files.typed import read_bytes
from ovek.model.sheet import Question, Reading
from ovek.sources.clean import plain
from ovek.sources.interview import Ask
from ovek.sources.problem import NoAnswerError

_MARKS = ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig"))


def read_capture(file: Path) -> str:
    """Read one saved session, whatever its encoding and line ends. Raises InputError."""
    data = read_bytes(file)
    encoding = next((name for mark, name in _MARKS if data.startswith(mark)), "utf-8")
    text = data.decode(encoding, "replace")
    if not text.strip():
        raise InputError(file, "is empty", "Save the terminal session again")
    return text


def find_captures(folder: Path, globs: Iterable[str]) -> list[Path]:
    """The files that globs name, relative to the site and inside it. Raises InputError."""
    found: list[Path] = []
    for glob in globs:
        if Path(glob).is_absolute() or ".." in Path(glob).parts:
            raise InputError(folder, f"the capture {glob!r} leaves the site", "Move it inside")
        files = sorted(file for file in folder.glob(glob) if file.is_file())
        if not files:
            raise InputError(folder, f"no file is named {glob!r}", "Mend capture in fleet.toml")
        found += files
    return found


def answers_of(sessions: Iterable[str], reading: Reading) -> dict[str, str]:
    """What was typed at a prompt, and the text up to the next prompt; the last time counts."""
    prompt = re.compile(rf"^(?P<prompt>{reading.prompt})[ \t]*(?P<typed>\S[^\n]*)?$", re.MULTILINE)
    pager = re.compile(reading.pager.shows) if reading.pager is not None else None
    found: dict[str, str] = {}
    for session in sessions:
        text = plain(session, pager)
        prompts = list(prompt.finditer(text))
        for at, match in enumerate(prompts):
            if match["typed"]:
                end = prompts[at + 1].start() if at + 1 < len(prompts) else len(text)
                found[_folded(match["typed"])] = text[match.end() : end]
    return found


def asking(answers: dict[str, str]) -> Ask:
    """Answer questions out of saved sessions."""

    async def ask(question: Question, asked: str, expected: float) -> str:
        text = answers.get(_folded(asked))
        if text is None:
            raise NoAnswerError(f"{asked!r} was not typed in the saved session")
        return text

    return ask


def _folded(typed: str) -> str:
    return " ".join(typed.split())

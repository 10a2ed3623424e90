"""An answer turned into rows: by a TextFSM template, or as an open format.

A line that no rule of the template understands is joined with the next one, as a terminal may have
wrapped it; what still is not understood is told, since what it says is not known.
"""

import io
import re
import threading
import warnings
from collections.abc import Iterator
from difflib import get_close_matches
from typing import Any

import textfsm  # type: ignore[import-untyped]
from msgspec import Struct

from ovek.files.bootenv import BootEnvError, read_grub_env, read_u_boot_env
from ovek.files.osrelease import OsReleaseError, read_os_release
from ovek.model.pattern import Match, PatternError, any_fits, compiled
from ovek.model.sheet import FIELDS, Question, Sheet

Row = dict[str, Any]


class Rows(Struct, frozen=True):
    """The rows of an answer, the lines that nothing understood, and all its lines.

    `says` is whether it says anything: a line was understood by a rule that does not fit just any
    text. Without that, no rows are not an answer that there is none.
    """

    rows: tuple[Row, ...]
    strange: tuple[str, ...] = ()
    lines: tuple[str, ...] = ()
    says: bool = True


_OPEN_FORMATS = {
    "grub-env": read_grub_env,
    "u-boot-env": read_u_boot_env,
    "os-release": read_os_release,
}


class TemplateError(ValueError):
    """A template that TextFSM does not take."""


# What TextFSM makes of templates that it did not expect, an empty value say.
_ITS_DEFECTS = (
    *(LookupError, ValueError, TypeError, AttributeError, RecursionError),
    *(OverflowError, MemoryError, re.error),
)  # fmt: skip
# What only a rule fits that fits any line; no device writes it.
_ANY_LINE = "?! ~|~ !?"
# What ends a line for `str.splitlines` and is no line end of an answer.
_ODD_ENDS = re.compile(r"[\x0b\x0c\x1c-\x1e\x85\u2028\u2029]")


class _Machine:
    """A TextFSM template that is fed line by line, and knows in which state it is.

    TextFSM does not tell its state, so the rules of the present one are followed beside it: the
    first that fits and does not continue may change it.
    """

    def __init__(self, template: textfsm.TextFSM) -> None:
        self.template, self.state = template, "Start"
        template.Reset()

    @property
    def ended(self) -> bool:
        """Whether it takes no more lines."""
        return self.state in ("End", "EOF")

    def understands(self, line: str) -> bool:
        """Whether a rule of the present state fits a line."""
        return any(rule.regex_obj.match(line) for rule in self.template.states[self.state])

    def says(self, line: str) -> bool:
        """Whether a rule of the present state fits a line that does not fit any line at all."""
        return any(
            rule.regex_obj.match(line) and not rule.regex_obj.match(_ANY_LINE)
            for rule in self.template.states[self.state]
        )

    def feed(self, line: str) -> None:
        """Take one line."""
        for rule in self.template.states[self.state]:
            if rule.regex_obj.match(line) and rule.line_op != "Continue":
                self.state = rule.new_state or self.state
                break
        self.template.ParseText(f"{line}\n", eof=False)

    def rows(self) -> list[list[Any]]:
        """The rows, once all lines are fed."""
        # A state that ended takes no record at the end of the text either.
        found: list[list[Any]] = self.template.ParseText("", eof=not self.ended)
        return found


class _Rules:
    """The rules of one state of a template, all held against a line at once."""

    def __init__(self, rules: list[Any]) -> None:
        self._fits = any_fits(f"(?:{rule.regex})(?s:.*)" for rule in rules)
        self._line: str | None = None
        self._fitting = frozenset[int]()

    def fit(self, at: int, line: str) -> bool:
        """Whether the rule at this position fits a line."""
        if line is not self._line:
            self._line, self._fitting = line, frozenset(self._fits(line) or ())
        return at in self._fitting


class _Linear:
    """A rule's regular expression in a linear-time engine, in the place of Python's."""

    def __init__(self, rules: _Rules, at: int, regex: str) -> None:
        self._rules, self._at, self._pattern = rules, at, compiled(regex)

    def match(self, line: str) -> Match | None:
        """What the rule finds at the start of a line."""
        return self._pattern.match(line) if self._rules.fit(self._at, line) else None


# A template keeps its state, so each thread has its own.
_OWN = threading.local()


def _template(text: str) -> textfsm.TextFSM:
    known: dict[str, textfsm.TextFSM] = _OWN.__dict__.setdefault("templates", {})
    if text not in known:
        known[text] = _made(text)
    return known[text]


class At(str):
    """A value of a row that knows the lines of its answer, from 0, in which it stood."""

    first: int
    last: int

    @classmethod
    def told(cls, value: str, first: int, last: int) -> "At":
        """A value that stood in these lines."""
        made = cls(value)
        made.first, made.last = first, last
        return made


class _Found(Struct):
    """What a rule found, each value with the lines in which it stood."""

    match: Any
    first: int
    last: int

    def groupdict(self) -> dict[str, str | None]:
        """All values by their names."""
        found: dict[str, str | None] = self.match.groupdict()
        return found

    def group(self, name: str) -> str | None:
        """One value."""
        value: str | None = self.match.group(name)
        return None if value is None else At.told(value, self.first, self.last)


class _Tracing(textfsm.TextFSM):  # type: ignore[misc]
    """A template whose values know where they stood: `at` is the first and last line read now."""

    at = (0, 0)

    def _CheckRule(self, rule: Any, line: str) -> _Found | None:  # noqa: N802
        found = rule.regex_obj.match(line)
        return None if found is None else _Found(found, *self.at)


def _made(text: str, kind: Any = textfsm.TextFSM) -> textfsm.TextFSM:
    text = text.strip("\n") + "\n"  # as a template between TOML's quotes comes
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # Python's engine, which is not the one that is used
            template = kind(io.StringIO(text))
        for rules in template.states.values():
            together = _Rules(rules)
            for number, rule in enumerate(rules):
                rule.regex_obj = _Linear(together, number, rule.regex)
    except PatternError as error:
        raise TemplateError(f"the template has no valid RE2 regular expression: {error}") from None
    except (textfsm.TextFSMTemplateError, textfsm.TextFSMError, *_ITS_DEFECTS) as error:
        raise TemplateError(f"the template is not TextFSM: {error}") from None
    return template


def check_templates(sheet: Sheet) -> Iterator[tuple[str, str]]:
    """Go through what is wrong with the templates of a sheet: the question, and what it is."""
    for question in sheet.reading.all_questions:
        for wrong in check_question(question):
            yield question.name, wrong


def check_question(question: Question) -> Iterator[str]:
    """Go through what is wrong with the template of a question."""
    try:
        columns = columns_of(question)
    except TemplateError as error:
        yield str(error)
        return
    if question.template is None:
        return
    for column in question.columns:
        if column not in columns:
            near = get_close_matches(column, columns, n=1)
            meant = f"; did you mean {near[0]!r}?" if near else ""
            yield f"columns names {column!r}; the template makes {', '.join(columns)}{meant}"
    for column in columns:
        name = question.columns.get(column, column.lower())
        if name not in FIELDS[question.fills]:
            fields = sorted(FIELDS[question.fills])
            near = get_close_matches(name, fields, n=1)
            meant = f" (did you mean {near[0]!r}?)" if near else ""
            yield (
                f"the column {column} fills {name!r}{meant}; "
                f"a {question.fills} has: {', '.join(fields)}"
            )


def columns_of(question: Question) -> list[str]:
    """The columns that a question's template makes; none for an open format."""
    return list(_template(question.template).header) if question.template is not None else []


def rows_of(question: Question, answer: str) -> Rows:
    """Turn one answer, already plain text, into rows."""
    if question.template is None:
        return _parsed(question, answer)
    return _read(_template(question.template), answer)


def rows_where(question: Question, answer: str) -> Rows:
    """The rows of an answer, each value an `At`; a question without a template has none."""
    if question.template is None:
        return Rows(())
    return _read(_made(question.template, _Tracing), answer)


def _read(template: textfsm.TextFSM, answer: str) -> Rows:
    machine = _Machine(template)
    strange, says = [], False
    lines = [line.rstrip() for line in answer.split("\n")]
    at = 0
    try:
        while at < len(lines) and not machine.ended:
            line, first = lines[at], at
            at += 1
            if _ODD_ENDS.search(line):  # it would be taken for two lines
                strange.append(line)
                continue
            if line and not machine.understands(line):
                # A line that says something by itself is no rest of another.
                rest = [each for each in lines[at : at + 1] if not machine.understands(each)]
                wrapped = [line + end for each in rest for end in (each, each.strip())]
                whole = next((each for each in wrapped if machine.understands(each)), None)
                if whole is not None:
                    line, at = whole, at + 1
                else:
                    strange.append(line)
            says = says or (bool(line.strip()) and machine.says(line))
            template.at = first, at - 1  # for one that traces
            machine.feed(line)
        made = machine.rows()
    except (textfsm.TextFSMError, *_ITS_DEFECTS) as error:
        return Rows((), (f"the template stopped: {error}",))
    rows = tuple(dict(zip(template.header, row, strict=True)) for row in made)
    return Rows(rows, tuple(strange), tuple(lines), says=says or bool(rows))


def _parsed(question: Question, answer: str) -> Rows:
    """Read an open format; its variables are the columns of one row."""
    read = _OPEN_FORMATS[question.parse or ""]
    try:
        found = dict(read(answer.encode("latin-1", "replace")))
        return Rows((found,), lines=tuple(answer.splitlines()))
    except (BootEnvError, OsReleaseError) as error:
        return Rows((), (str(error),))

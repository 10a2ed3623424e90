"""All that is wrong with a sheet, at once: each with its line, what was met, and what may be meant.

Every key is read by itself, so that no mistake hides another; then what a sheet of right keys can
still get wrong: a template, a question that is asked again and again for the same answer, a time
whose year nobody tells.
"""

from collections.abc import Iterator
from pathlib import Path
from types import UnionType
from typing import Any, get_args, get_origin, get_type_hints

import msgspec

from ovek.files.decode import explain, read_bytes, text_of, untyped_toml
from ovek.files.errors import InputError
from ovek.files.whereabouts import line_of, lines_of
from ovek.model.sheet import FORMAT, Question, Sheet
from ovek.sources.rows import check_question

_SHOWS_YEAR = ("%Y", "%y", "%c", "%x", "%D", "%s", "%G")


def mistakes_in(file: Path) -> tuple[Sheet | None, list[InputError]]:
    """The sheet, where it is right, and what is wrong with it. Raises InputError."""
    plain = untyped_toml(file, FORMAT)
    lines = lines_of(text_of(file, read_bytes(file)).replace("\r\n", "\n"))
    errors = list(_keys(file, plain, Sheet, ""))
    if plain.get("name", file.stem) != file.stem:
        text = f"the name is {plain['name']!r} but the file is {file.name}"
        errors.append(InputError(file, text, "Give both the same name", key="name"))
    asked = list(_all_questions(file, plain))
    known = {error.met for error in asked}  # what the whole says of one of its questions as well
    errors = [error for error in errors if error.met not in known] + asked
    for error in errors:
        error.line = line_of(lines, error.key or "")
    told = sorted(errors, key=lambda error: error.line or 0)
    return (None if told else msgspec.convert(plain, Sheet)), told


def _keys(file: Path, plain: Any, kind: Any, path: str) -> Iterator[InputError]:
    """What is wrong with a value, and with what is inside of it."""
    if get_origin(kind) is UnionType:
        inside = [each for each in get_args(kind) if _is_struct(each)]
        kind = inside[0] if inside else kind
    if _is_struct(kind) and isinstance(plain, dict):
        yield from _object(file, plain, kind, path)
    elif get_origin(kind) is tuple and isinstance(plain, list):
        for number, value in enumerate(plain):
            yield from _keys(file, value, get_args(kind)[0], f"{path}[{number}]")
    elif get_origin(kind) is dict and isinstance(plain, dict):
        for name, value in plain.items():
            yield from _value(file, {name: value}, kind, path, name)
    else:
        yield from _value(file, plain, kind, path)


def _is_struct(kind: Any) -> bool:
    return isinstance(kind, type) and issubclass(kind, msgspec.Struct)


def _object(file: Path, plain: dict[str, Any], kind: Any, path: str) -> Iterator[InputError]:
    """What is wrong with an object: keys that are not known or missing, or what they say."""
    hints = get_type_hints(kind, include_extras=True)
    errors = []
    for name in plain.keys() - hints.keys():
        error = msgspec.ValidationError(f"Object contains unknown field `{name}`")
        errors.append(_of(explain(file, error, {}, kind, FORMAT), path))
    for field in msgspec.structs.fields(kind):
        if field.required and field.name not in plain:
            text = f"missing key {field.name!r}"
            errors.append(InputError(file, text, "Add it", key=_joined(path, field.name)))
    for name, value in plain.items():
        if name in hints:
            errors += _keys(file, value, hints[name], _joined(path, name))
    yield from errors
    if not errors and kind is not Question:  # whose mistakes are told one by one
        yield from _value(file, plain, kind, path)


def _value(
    file: Path, plain: Any, kind: Any, path: str, name: str | None = None
) -> Iterator[InputError]:
    try:
        msgspec.convert(plain, kind)
    except msgspec.ValidationError as error:
        wrong = explain(file, error, plain, kind, FORMAT)
        if name is not None:
            wrong.key = name
        yield _of(wrong, path)


def _of(error: InputError, path: str) -> InputError:
    """An error with the whole path of its key."""
    error.key = _joined(path, error.key or "")
    return error


def _joined(path: str, name: str) -> str:
    return f"{path}{'.' if path and name else ''}{name}"


def _all_questions(file: Path, plain: Any) -> Iterator[InputError]:
    """What is wrong with the questions that are some, in order."""
    reading = plain.get("reading")
    loader = reading.get("loader") if isinstance(reading, dict) else None
    for where, told in (("reading", reading), ("reading.loader", loader)):
        asked = told.get("question") if isinstance(told, dict) else None
        questions = []
        for number, each in enumerate(asked if isinstance(asked, list) else []):
            question = _question(each)
            if question is None:
                continue
            questions.append(question)
            for key, wrong, do in _question_mistakes(question, questions):
                yield InputError(file, wrong, do, key=f"{where}.question[{number}].{key}")


class _Unchecked(Question, frozen=True, kw_only=True):
    """A question whose keys have the right types, and nothing more."""

    def __post_init__(self) -> None:
        pass


def _question(plain: Any) -> Question | None:
    try:
        return msgspec.convert(plain, _Unchecked)
    except msgspec.ValidationError:
        return None  # which is told key by key


def _question_mistakes(
    question: Question, before: list[Question]
) -> Iterator[tuple[str, str, str]]:
    """The key, what is wrong, and what to do."""
    for key, wrong in question.mistakes():
        yield key, wrong, "See: ovek sheet fields"
    if question.template is not None:
        for wrong in check_question(question):
            yield "template", f"the question {question.name!r}: {wrong}", "Fix its template"
    asks_for = {"member": ("member",), "volume": ("volume",), "image": ("path",)}
    for name in asks_for.get(question.each, ()):
        if f"{{{name}}}" not in question.typed:
            text = (
                f"the question {question.name!r} is asked for each {question.each} and does not "
                f"name it, so each gets the same answer"
            )
            yield "ask", text, f"Write {{{name}}} where the {question.each} is named, or drop each"
    clock = any("clock" in each.fields for each in before)
    for field, written in question.dates.items():
        ways = (written,) if isinstance(written, str) else written
        if field != "clock" and clock:
            continue
        if not any(sign in way for way in ways for sign in _SHOWS_YEAR):
            text = (
                f"the question {question.name!r} reads {field} without its year, and no question "
                "before it tells the clock"
            )
            yield f"dates.{field}", text, "Put %Y into its way, or ask for the clock first"

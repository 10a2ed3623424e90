"""Bytes to typed data, with errors that name the key, what was met and what was expected."""

import re
import tomllib
from difflib import get_close_matches
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from msgspec import inspect

from ovek.files.errors import InputError, ManyInputError
from ovek.files.safe_open import opened
from ovek.files.signatures.clear import signed_text
from ovek.files.toml_lines import line_of
from ovek.model.renamed import new_name

T = TypeVar("T")

_AT = re.compile(r"(?s)(?P<what>.*?)(?: - at (?:`(?P<path>[^`]*)`|`key` in `(?P<keys>[^`]*)`))?")
_STEP = re.compile(r"\.([^.\[\]]+)|\[(\d+|\.\.\.)\]")
_UNKNOWN = re.compile(r"Object contains unknown field `(?P<name>.*)`", re.DOTALL)
_MISSING = re.compile(r"Object missing required field `(?P<name>.*)`", re.DOTALL)
_EXPECTED = re.compile(r"Expected (?P<what>.*?)(?:, got .*)?", re.DOTALL)
_LONG_NUMBER = re.compile(r"[0-9_]{4300,}")
_LARGEST = 64 * 2**20
_MARKS = {
    b"\xff\xfe": "UTF-16",
    b"\xfe\xff": "UTF-16",
}


def read_bytes(file: Path, *, at_most: int = _LARGEST) -> bytes:
    """Read a whole small file; raise InputError where it is not there, a folder, or too large."""
    try:
        with opened(file) as stream:
            data = stream.read(at_most + 1)
    except OSError as error:
        raise cannot_read(file, error) from None
    if len(data) > at_most:
        raise InputError(file, f"is over {at_most} bytes", "Check that this is the right file")
    return data


def cannot_read(file: Path, error: OSError) -> InputError:
    """Turn what the operating system said into an InputError."""
    reason = (error.strerror or str(error)).lower()
    return InputError(file, f"cannot be read ({reason})", "Check the name and the permissions")


def text_of(file: Path, data: bytes) -> str:
    """Decode UTF-8, with or without a byte order mark, any line ends; raise InputError."""
    if kind := _MARKS.get(data[:2]):
        raise InputError(file, f"is {kind}, not UTF-8", "Save it as UTF-8", line=1)
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        text = f"byte 0x{data[error.start]:02x} is not UTF-8"
        raise InputError(file, text, "Save it as UTF-8", line=line) from None


def list_text(file: Path) -> str:
    """The text of a digest list, in UTF-8 or, with its byte order mark, UTF-16.

    Of a clear-signed list only what is signed, each line where it stands.
    """
    data = read_bytes(file)
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            return data.decode("utf-16")
        except UnicodeDecodeError as error:
            problem = f"byte {error.start} is not UTF-16, which its first bytes say it is"
            raise InputError(file, problem, "Save it as UTF-8") from None
    return signed_text(text_of(file, data))


def read_toml(file: Path, kind: type[T], expected: str) -> T:
    """Read a TOML 1.0 file (any `open` file of a site) as `kind`; raise InputError."""
    plain = untyped_toml(file, expected)
    try:
        return msgspec.convert(plain, kind)
    except msgspec.ValidationError as error:
        raise _placed(explain(file, error, plain, kind, expected), file) from None


def _placed(error: InputError, file: Path) -> InputError:
    """An error with the line on which its key stands, where that is sure."""
    if error.line is None and error.key:
        error.line = line_of(text_of(file, read_bytes(file)), error.key, error.met)
    return error


def read_toml_parts(file: Path, kind: type[T], expected: str) -> T:
    """Read a TOML file whose keys are all optional; raise ManyInputError with all that is wrong.

    Each key is read by itself, and each table of a list of tables, so that no mistake hides
    another.
    """
    plain, errors = untyped_toml(file, expected), []
    for key, value in plain.items():
        tables = isinstance(value, list) and any(isinstance(each, dict) for each in value)
        for number, part in enumerate([[each] for each in value] if tables else [value]):
            try:
                msgspec.convert({key: part}, kind)
            except msgspec.ValidationError as error:
                wrong = explain(file, error, {key: part}, kind, expected)
                wrong.key = wrong.key or key
                if tables:
                    rest = (wrong.key or "").removeprefix(key)
                    rest = re.sub(r"^\[(?:0|\.\.\.)\]", "", rest)
                    wrong.key = f"{key}[{number}]{rest}"
                errors.append(_placed(wrong, file))
    if errors:
        raise ManyInputError(errors)
    return msgspec.convert(plain, kind)


_DATED = re.compile(r"(?<=[=\s])\d{1,4}[-./]\d{1,2}[-./]\d{1,4}")


def untyped_toml(file: Path, expected: str) -> dict[str, Any]:
    """The untyped data of a TOML file; raise InputError."""
    text = text_of(file, read_bytes(file))
    if not text.strip():
        raise InputError(file, "is empty", f"Fill it in as {expected}, or delete it")
    try:
        return tomllib.loads(text.replace("\r\n", "\n"))
    except tomllib.TOMLDecodeError as error:
        message = str(error)
        where = re.search(r"\(at line (\d+), column \d+\)", message)
        met = re.sub(r"\s*\(at .*\)$", "", message)
        line = int(where[1]) if where else text.count("\n") + 1
        dated = _DATED.search([*text.split("\n"), ""][line - 1])
        if dated is not None:
            met, do = f"{dated[0]} is not a date", "Write a date such as 2026-12-31, a month to 12"
            raise InputError(file, met, do, line=line) from None
        raise InputError(file, f"invalid TOML: {met}", "Fix that line", line=line) from None
    except ValueError:  # a number of more digits than Python takes
        raise too_many_digits(file, text) from None
    except RecursionError:
        raise InputError(
            file, "is nested too deeply", "Check that this is the right file"
        ) from None


def too_many_digits(file: Path, text: str) -> InputError:
    """The error that a text holds a number that nobody means."""
    found = _LONG_NUMBER.search(text)
    line = text.count("\n", 0, found.start()) + 1 if found is not None else None
    return InputError(file, "has a number with too many digits", "Fix that number", line=line)


def explain(
    file: Path,
    error: Exception,
    plain: Any,
    kind: Any,
    expected: str,
    line: int | None = None,
) -> InputError:
    """Make an InputError of msgspec's error in reading `plain` (the untyped data) as `kind`.

    `expected` is the name of the format, `line` the line that the data stands on.
    """
    match = _AT.fullmatch(str(error))
    what = match["what"] if match else str(error)
    path = (match["path"] or match["keys"] or "") if match else ""
    key = path.removeprefix("$").removeprefix(".").removeprefix("[...]").removeprefix(".")
    if isinstance(plain, dict) and plain.get("format", expected) != expected:
        text = f"the format is {_shown(plain['format'])}"
        do = f"This Ovek reads {expected}; use a matching version of Ovek or of the file"
        return InputError(file, text, do, line=line, key="format")
    if unknown := _UNKNOWN.fullmatch(what):
        name, known = unknown["name"], _keys(inspect.type_info(kind), path)
        near, new = get_close_matches(name, known, n=1), new_name(name, known)
        do = f"Did you mean {near[0]!r}? " if near else ""
        do += f"Known are: {', '.join(known)}" if known else "Remove it or correct its spelling"
        do = do if new is None else f"It is called {new!r} now"
        return InputError(file, f"unknown key {name!r}", do, line=line, key=_joined(key, name))
    if missing := _MISSING.fullmatch(what):
        name = missing["name"]
        text = f"missing key {name!r}"
        return InputError(file, text, "Add it", line=line, key=_joined(key, name))
    if wanted := _EXPECTED.fullmatch(what):
        text = f"met {_shown(_follow(plain, path))}"
        do = f"Expected {_plainly(wanted['what'])}"
        if words := _words(inspect.type_info(kind), path, keys=bool(match and match["keys"])):
            do = f"Use one of: {', '.join(words)}"
        return InputError(file, text, do, line=line, key=key)
    if invalid := re.fullmatch(r"Invalid enum value (.*)", what, re.DOTALL):
        words = _words(inspect.type_info(kind), path, keys=bool(match and match["keys"]))
        do = f"Use one of: {', '.join(words)}" if words else f"See the schema of {expected}"
        near = get_close_matches(invalid[1].strip("'"), words, n=1)
        do = f"Did you mean {near[0]!r}? {do}" if near else do
        return InputError(file, f"{invalid[1]} is not valid here", do, line=line, key=key)
    if invalid := re.fullmatch(r"Invalid RFC3339 encoded (date|datetime|time)", what):
        text = f"{_shown(_follow(plain, path))} is not a valid {invalid[1]}"
        return InputError(file, text, f"Write {_plainly(invalid[1])}", line=line, key=key)
    return InputError(file, what, f"See the schema of {expected}", line=line, key=key)


def _keys(kind: Any, path: str) -> list[str]:
    """The keys that an object may have that stands at `path`; empty where that is not known."""
    for name, _ in _STEP.findall(path):
        kind = _one_of(kind)
        if isinstance(kind, inspect.StructType) and name:
            kind = next((f.type for f in kind.fields if f.encode_name == name), None)
        elif isinstance(kind, inspect.DictType):
            kind = kind.value_type
        elif isinstance(kind, inspect.VarTupleType | inspect.ListType):
            kind = kind.item_type
    kind = _one_of(kind)
    if not isinstance(kind, inspect.StructType):
        return []
    return [field.encode_name for field in kind.fields]


def _one_of(kind: Any) -> Any:
    """A kind without the None that it may be instead."""
    if not isinstance(kind, inspect.UnionType):
        return kind
    return next((t for t in kind.types if not isinstance(t, inspect.NoneType)), None)


def _joined(key: str, name: str) -> str:
    return f"{key}.{name}" if key else name


def _plainly(what: str) -> str:
    lengths = re.search(r"matching regex '\^\[0-9a-f\]\{(\d+)\}\$'|length <= (\d+)", what)
    if lengths and (lengths[1] or lengths[2]) in {"32", "40", "64", "128"}:
        return f"a digest of {lengths[1] or lengths[2]} lower-case hex characters"
    what = what.replace("`", "").replace(" | null", "")
    return {
        "int": "a whole number",
        "int >= 0": "a whole number, 0 or more",
        "int <= 9223372036854775807": "a whole number below 2**63",
        "str": "a text",
        "str of length >= 1": "a string that is not empty",
        "array": "a list",
        "object": "an object with keys",
        "bool": "true or false",
        "date": "a date such as 2026-12-31",
        "datetime": "a time such as 2026-03-02T21:14:05Z",
        "datetime with a timezone component": "a time with its zone, such as 2026-03-02T21:14:05Z",
    }.get(what, what)


def _words(kind: Any, path: str, *, keys: bool) -> list[str]:
    """The words that `kind` allows at `path`, or as keys there; empty where not to be told."""
    for name, _ in [*_STEP.findall(path), ("", "")]:
        kind = _one_of(kind)
        if isinstance(kind, inspect.StructType) and name:
            kind = next((f.type for f in kind.fields if f.encode_name == name), None)
        elif isinstance(kind, inspect.DictType):
            kind = kind.key_type if keys else kind.value_type
        elif isinstance(kind, inspect.VarTupleType):
            kind = kind.item_type
    several = kind.types if isinstance(kind, inspect.UnionType) else (kind,)
    return [
        str(word)
        for each in several
        if isinstance(each, inspect.LiteralType)
        for word in each.values
    ]


def _follow(plain: Any, path: str) -> Any:
    for name, index in _STEP.findall(path):
        try:
            plain = plain[name] if name else plain[int(index)]
        except (KeyError, IndexError, TypeError, ValueError):
            return plain
    return plain


def _shown(value: Any) -> str:
    try:
        text = repr(value) if isinstance(value, str) else msgspec.json.encode(value).decode()
    except (TypeError, ValueError, OverflowError, RecursionError):
        text = type(value).__name__ if not isinstance(value, int) else "a number of many digits"
    return text if len(text) <= 60 else f"{text[:57]}…"

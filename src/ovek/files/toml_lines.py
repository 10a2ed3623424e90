"""On which line of a TOML file a key stands, for what is said of it."""

import re

_STEP = re.compile(r"\.?([^.\[\]]+)|\[(\d+|\.\.\.)\]")
_TABLE = re.compile(r"\s*(\[\[?)\s*(?P<name>[^\]]+?)\s*\]\]?\s*(?:#.*)?")
_KEY = re.compile(r"\s*(?P<name>\"[^\"]*\"|'[^']*'|[\w-]+)\s*(?:\.[^=]*)?=")
_QUOTED = re.compile(r"'(?P<text>[^']+)'")


def line_of(text: str, key: str, met: str) -> int | None:
    """The line, counted from 1, of a key such as `reload_in[1].from`; None: it is not sure.

    `met` is what is wrong: a name or a value in quotes there tells which line, where the key alone
    does not.

    >>> line_of('a = 1\\n[[b]]\\nc = 2\\n[[b]]\\nc = 3\\n', "b[1].c", "")
    5
    """
    lines = text.splitlines()
    names = [(name, None) if name else ("", at) for name, at in _STEP.findall(key)]
    start, stop = 0, len(lines)
    found: int | None = None
    for at, (name, _) in enumerate(names):
        if not name:
            continue
        number = names[at + 1][1] if at + 1 < len(names) and not names[at + 1][0] else None
        if number == "...":
            break
        tables = [n for n in range(start, stop) if _table_of(lines[n]) == _path(names[: at + 1])]
        if tables:
            which = int(number or 0)
            if which >= len(tables):
                return None
            found = start = tables[which]
            stop = next((n for n in range(start + 1, len(lines)) if _is_end(lines[n])), len(lines))
            start += 1
            continue
        here = [n for n in range(start, _own(lines, start, stop)) if _key_of(lines[n]) == name]
        if not here:
            deeper = f"{_path(names[: at + 1])}."
            if any((_table_of(line) or "").startswith(deeper) for line in lines[start:stop]):
                continue
            break
        found = here[0]
        start, stop = found, found + 1
    quoted = _QUOTED.search(met)
    if quoted is not None:
        told = [n for n in range(start, stop) if quoted["text"] in lines[n]]
        found = told[0] if len(told) == 1 else found
    return None if found is None else found + 1


def _path(names: list[tuple[str, str | None]]) -> str:
    return ".".join(name for name, _ in names if name)


def _table_of(line: str) -> str | None:
    match = _TABLE.fullmatch(line)
    return None if match is None else match["name"].replace('"', "").replace("'", "")


def _key_of(line: str) -> str | None:
    match = _KEY.match(line)
    return None if match is None else match["name"].strip("\"'")


def _is_end(line: str) -> bool:
    return _TABLE.fullmatch(line) is not None


def _own(lines: list[str], start: int, stop: int) -> int:
    """Where the keys of a table end: at the next table."""
    return next((n for n in range(start, stop) if _is_end(lines[n])), stop)

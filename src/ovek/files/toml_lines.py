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
    names = [(name, None) if name else ("", number) for name, number in _STEP.findall(key)]
    start, stop = 0, len(lines)
    line: int | None = None
    for depth, (name, _) in enumerate(names):
        if not name:
            continue
        number = names[depth + 1][1] if depth + 1 < len(names) and not names[depth + 1][0] else None
        if number == "...":
            break
        path = _path(names[: depth + 1])
        tables = [n for n in range(start, stop) if _table_of(lines[n]) == path]
        if tables:
            which = int(number or 0)
            if which >= len(tables):
                return None
            line = tables[which]
            start, stop = line + 1, _own(lines, line + 1, len(lines))
            continue
        keys = [n for n in range(start, _own(lines, start, stop)) if _key_of(lines[n]) == name]
        if not keys:
            if any((_table_of(text) or "").startswith(f"{path}.") for text in lines[start:stop]):
                continue
            break
        line = keys[0]
        start, stop = line, line + 1
    quoted = _QUOTED.search(met)
    if quoted is not None:
        naming = [n for n in range(start, stop) if quoted["text"] in lines[n]]
        line = naming[0] if len(naming) == 1 else line
    return None if line is None else line + 1


def _path(names: list[tuple[str, str | None]]) -> str:
    return ".".join(name for name, _ in names if name)


def _table_of(line: str) -> str | None:
    match = _TABLE.fullmatch(line)
    return None if match is None else match["name"].replace('"', "").replace("'", "")


def _key_of(line: str) -> str | None:
    match = _KEY.match(line)
    return None if match is None else match["name"].strip("\"'")


def _own(lines: list[str], start: int, stop: int) -> int:
    """Where the keys of a table end: at the next table."""
    return next((n for n in range(start, stop) if _table_of(lines[n]) is not None), stop)

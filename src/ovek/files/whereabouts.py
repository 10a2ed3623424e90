"""On which line of a TOML 1.0 file each key stands; its parser does not tell."""

import re

_HEADER = re.compile(r"\s*(\[\[?)\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
_NAME = r"""(?:[A-Za-z0-9_-]+|"[^"\n]*"|'[^'\n]*')"""
_KEY = re.compile(rf"\s*({_NAME}(?:\s*\.\s*{_NAME})*)\s*=")
_PART = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")


def lines_of(text: str) -> dict[str, int]:
    """The line (from 1) of each key and table, by its path.

    >>> lines_of('a = 1\\n[[b.c]]\\nd = 2\\n[[b.c]]\\ne.f = 3\\n')
    {'a': 1, 'b.c[0]': 2, 'b.c[0].d': 3, 'b.c[1]': 4, 'b.c[1].e': 5, 'b.c[1].e.f': 5}
    """
    found: dict[str, int] = {}
    counts: dict[str, int] = {}
    front, inside = "", ""
    for number, line in enumerate(text.split("\n"), 1):
        if inside:
            if inside in line:
                inside = ""
            continue
        if (header := _HEADER.match(line)) is not None:
            front = _table(header[1] == "[[", header[2], counts)
            found.setdefault(front, number)
        elif (key := _KEY.match(line)) is not None:
            path = front
            for part in _PART.findall(key[1]):
                path = f"{path}.{part.strip(chr(34) + chr(39))}" if path else part.strip("\"'")
                found.setdefault(path, number)
        for quotes in ('"""', "'''"):
            if line.count(quotes) % 2:
                inside = quotes
    return found


def _table(many: bool, name: str, counts: dict[str, int]) -> str:
    """The path of a table; within a list of tables, that of the last one so far."""
    path = ""
    parts = [part.strip("\"'") for part in _PART.findall(name)]
    for number, part in enumerate(parts):
        path = f"{path}.{part}" if path else part
        if number == len(parts) - 1 and many:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = f"{path}[{counts[path]}]"
    return path


def line_of(found: dict[str, int], path: str) -> int | None:
    """The line of a path, or of what it is in.

    >>> line_of({"a": 1}, "a.b[2].c"), line_of({"a": 1}, "b.]")
    (1, None)
    """
    while path and path not in found:
        path = path[: max(0, path.rfind("."), path.rfind("["))]
    return found.get(path)

"""What the user's cache holds, for a terminal."""

from collections.abc import Iterator

from ovek.model.results.cached import CacheContent, CacheEntry
from ovek.model.size import show_size
from ovek.render.lines import Columns, Line, hanging
from ovek.render.view import View
from ovek.render.visible import visible

_TITLES = ("SIZE", "LAST USED (UTC)", "WHAT")


def cache(result: CacheContent, view: View) -> Iterator[Line]:
    """Go through the lines: how much there is, what was removed, and each entry."""
    size = show_size(sum(entry.size for entry in result.entries))
    yield f"{_entries(len(result.entries))}, {size} in {result.folder}"
    if result.removed:
        freed = show_size(sum(entry.size for entry in result.removed))
        yield f"Removed: {_entries(len(result.removed))}, {freed}"
    limits = f"at most {show_size(result.most_bytes)}, unused for at most {result.most_days} days"
    yield from hanging("Limits:", f"{limits}; Ovek keeps to them by itself", indent=8)
    if result.entries:
        yield ""
        rows = [_cells(entry) for entry in result.entries]
        table = Columns(_TITLES, right=(0,), whole=(1,), wrap={2: 30})
        for row in rows:
            table.measure(row)
        table.fit()
        yield table.head()
        for row in rows:
            yield from table.rows(row)
        yield ""
        yield "Everything here is computed again when it is needed: ovek cache --clear"


def _entries(number: int) -> str:
    return "1 entry" if number == 1 else f"{number} entries"


def _cells(entry: CacheEntry) -> tuple[str, ...]:
    what = entry.kind
    if entry.kind == "audit results" and entry.site is None:
        what += " of an older version"
    if entry.site is not None:
        gone = " (the folder no longer exists)" if entry.site_gone else ""
        what += f" of {visible(entry.site)}{gone}"
    return show_size(entry.size), f"{entry.used:%Y-%m-%d %H:%M}", what

"""What options are where nobody typed them, for a terminal."""

from collections.abc import Iterator
from typing import Any

from ovek.model.results.settings import OptionSetting, Settings
from ovek.render.lines import Columns, Line, count, hanging
from ovek.render.view import View

TITLES = ("COMMAND", "OPTION", "VALUE", "FROM")


def settings(result: Settings, view: View) -> Iterator[Line]:
    """Go through the lines: how many are set, where that was looked for, and each."""
    changed = sum(one.origin != "default" for one in result.settings)
    yield f"{count(changed, 'option')} set." if changed else "No option is set: all are as shipped."
    files = ", ".join(result.looked_in)
    yield from hanging("Looked in:", f"variables OVEK_…, {files}", indent=11)
    if not result.settings:
        return
    yield ""
    rows = [_cells(one) for one in result.settings]
    columns = Columns(TITLES, wrap={2: 10, 3: 20})
    for cells in rows:
        columns.measure(cells)
    columns.fit()
    yield columns.head()
    for cells in rows:
        yield from columns.rows(cells)


def _cells(one: OptionSetting) -> tuple[str, ...]:
    where = one.place or "as shipped"
    return one.command or "(all)", f"--{one.option}", _shown(one.value), where


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(_shown, value))
    return "-" if value in (None, "") else str(value)

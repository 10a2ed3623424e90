"""A survey, for a terminal: the answer, then a line for each device that was not read whole."""

from collections.abc import Iterator, Sequence

from ovek.model.results.surveys import Pruned, SurveyResult
from ovek.model.surveyed import WORST_READ_FIRST, Surveyed
from ovek.render.lines import Columns, Line, Toned, count, hanging, listed
from ovek.render.view import View
from ovek.render.visible import visible


def survey(result: SurveyResult, view: View) -> Iterator[Line]:
    """Go through the lines; `verbose` adds the devices that were read and what was met."""
    results, verbose = result.devices, view.verbose
    yield from hanging("", answer(results), indent=0)
    if result.written:
        yield from hanging("", f"Snapshot: {result.snapshot}", indent=0)
    shown = [one for one in results if verbose or one.result != "read" or one.lost]
    if not shown:
        return
    yield ""
    columns = Columns(
        ("DEVICE", "RESULT", "TRIES", "SECONDS", "WHY"), right=(2, 3), whole=(1,), wrap={4: 30},
        least=(2, 3),
    )  # fmt: skip
    rows = [_row(one) for one in shown]
    for row in rows:
        columns.measure(row)
    columns.fit()
    indent = columns.wide - columns.widths[4]
    yield columns.head()
    for one, row in zip(shown, rows, strict=True):
        yield from columns.rows(row)
        if one.do is not None:
            yield from hanging(" " * indent + "do: ", one.do, indent=indent + 4)
        for lost in one.lost:
            yield from hanging(" " * indent + "lost: ", lost, indent=indent + 6)
        for note in one.notes if verbose else ():
            yield from hanging(" " * indent + "note: ", note, indent=indent + 5)


def answer(results: Sequence[Surveyed]) -> str:
    """The first line: how many were read?"""
    names = {
        result: [visible(one.device) for one in results if one.result == result]
        for result in WORST_READ_FIRST
    }
    all_of = count(len(results), "device")
    if not names["partly read"] and not names["not read"]:
        return f"{all_of} read: {names['read'][0]}." if len(results) == 1 else f"All {all_of} read."
    text = f"{all_of}: {len(names['read'])} read"
    if names["partly read"]:
        text += f", {len(names['partly read'])} partly read ({listed(names['partly read'])})"
    if names["not read"]:
        text += f", {len(names['not read'])} not read ({listed(names['not read'])})"
    return text + "."


def _row(surveyed: Surveyed) -> tuple[str, ...]:
    why = [surveyed.problem] if surveyed.problem is not None else []
    if surveyed.missing:
        why.append(f"missing: {'; '.join(surveyed.missing)}")
    numbers = str(surveyed.tries), f"{surveyed.seconds:.1f}"
    return visible(surveyed.device), Toned(surveyed.result), *numbers, "; ".join(why)


def pruned(result: Pruned, view: View) -> Iterator[Line]:
    """Say which snapshots were removed, and which old ones stay since some device has no newer."""
    gone, kept = result.removed, result.kept
    if gone:
        yield from hanging("", f"{count(len(gone), 'snapshot')} removed: {listed(gone)}.", indent=0)
    else:
        yield "No snapshot removed: none is old enough and superseded."
    if kept:
        text = f"{count(len(kept), 'old snapshot')} kept, with the latest reading of a device: "
        yield from hanging("", f"{text}{listed(kept)}.", indent=0)

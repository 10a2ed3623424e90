"""The fields of each thing that a sheet can fill, for a terminal and for Markdown."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby

from rich.text import Text

from ovek.model.fields import Field, Fills
from ovek.model.results.sheets import SheetFields
from ovek.render.lines import Line, hanging
from ovek.render.view import View


def fields(result: SheetFields, view: View) -> Iterator[Line]:
    """Go through the lines, each thing under its name; then what each line to type may name."""
    wording = result.wording
    for number, (thing, inside) in enumerate(groupby(result.fields, lambda our: our.thing)):
        if number:
            yield ""
        yield Text(thing.upper(), "bold")
        ours = list(inside)
        width = max(len(our.field) for our in ours) + 4
        for our in ours:
            text = f"{our.tells}; {our.unit}; e.g. {our.example}"
            yield from hanging(f"  {our.field}".ljust(width), text, indent=width)
    if wording:
        yield from ([""] if result.fields else [])
        yield Text("WORDING: the command line for each step, and its placeholders", "bold")
        width = max(map(len, wording)) + 4
        for name, words in wording.items():
            yield from hanging(f"  {name}".ljust(width), _named(words), indent=width)


def _named(words: Sequence[str]) -> str:
    return " ".join(f"{{{word}}}" for word in words) or "nothing"


def fields_table(
    things: Mapping[Fills, Mapping[str, Field]], wording: Mapping[str, Sequence[str]]
) -> Iterator[str]:
    """Go through the lines of tables of Markdown."""
    for thing, told in things.items():
        yield from ("", f"### {thing}", "", "| field | meaning | value | example |",
                    "| --- | --- | --- | --- |")  # fmt: skip
        for name, field in told.items():
            yield f"| `{name}` | {field.tells} | {field.unit} | `{field.example}` |"
    about = "The command line for each step of a plan, and the placeholders it may use."
    yield from ("", "### wording", "", about, "", "| line | placeholders |", "| --- | --- |")
    for name, words in wording.items():
        yield f"| `{name}` | {' '.join(f'`{{{word}}}`' for word in words) or 'nothing'} |"

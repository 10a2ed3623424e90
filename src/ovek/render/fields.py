"""The fields of each thing that a sheet can fill, for a terminal and for Markdown."""

from collections.abc import Iterator, Mapping

from rich.text import Text

from ovek.model.fields import Field, Fills
from ovek.render.lines import Line, hanging


def fields(things: Mapping[Fills, Mapping[str, Field]]) -> Iterator[Line]:
    """Go through the lines, each thing under its name."""
    for number, (thing, told) in enumerate(things.items()):
        if number:
            yield ""
        yield Text(thing.upper(), "bold")
        width = max(map(len, told)) + 4
        for name, field in told.items():
            text = f"{field.tells}; {field.unit}; such as {field.example}"
            yield from hanging(f"  {name}".ljust(width), text, indent=width)


def fields_table(things: Mapping[Fills, Mapping[str, Field]]) -> Iterator[str]:
    """Go through the lines of a table of Markdown."""
    for thing, told in things.items():
        yield from ("", f"### {thing}", "", "| field | what it tells | how | such as |",
                    "| --- | --- | --- | --- |")  # fmt: skip
        for name, field in told.items():
            yield f"| `{name}` | {field.tells} | {field.unit} | `{field.example}` |"

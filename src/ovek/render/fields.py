"""The fields of each thing that a sheet can fill, for a terminal and for Markdown."""

from collections.abc import Iterator, Mapping, Sequence

from rich.text import Text

from ovek.model.fields import Field, Fills
from ovek.render.lines import Line, hanging


def fields(
    things: Mapping[Fills, Mapping[str, Field]], wording: Mapping[str, Sequence[str]]
) -> Iterator[Line]:
    """Go through the lines, each thing under its name; then what each line to type may name."""
    for number, (thing, told) in enumerate(things.items()):
        if number:
            yield ""
        yield Text(thing.upper(), "bold")
        width = max(map(len, told)) + 4
        for name, field in told.items():
            text = f"{field.tells}; {field.unit}; such as {field.example}"
            yield from hanging(f"  {name}".ljust(width), text, indent=width)
    if wording:
        yield from ([""] if things else [])
        yield Text("WORDING: the line a person types for a step, and its placeholders", "bold")
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
        yield from ("", f"### {thing}", "", "| field | what it tells | how | such as |",
                    "| --- | --- | --- | --- |")  # fmt: skip
        for name, field in told.items():
            yield f"| `{name}` | {field.tells} | {field.unit} | `{field.example}` |"
    about = "What a person types for a step of a plan, and what the line may name."
    yield from ("", "### wording", "", about, "", "| line | may name |", "| --- | --- |")
    for name, words in wording.items():
        yield f"| `{name}` | {' '.join(f'`{{{word}}}`' for word in words) or 'nothing'} |"

"""The last moment before text is shown: whatever comes from outside is made visible here.

So nobody who makes a line or a message has to think of it, and nobody can forget to.
"""

from collections.abc import Iterable
from typing import TYPE_CHECKING

import click

from ovek.render.visible import visible

if TYPE_CHECKING:
    from rich.console import Console, ConsoleOptions, RenderableType
    from rich.segment import Segment


def say(text: str = "", *, err: bool = False, bold: bool = False) -> None:
    """Write a message to standard output, or to standard error."""
    click.secho(shown(text), err=err, bold=bold or None)


def tell(text: str) -> None:
    """Write a message of this program's to standard error: one line, whatever is in it."""
    click.echo(f"ovek: {visible(text)}", err=True)


def shown(text: str) -> str:
    """A text of one or more lines as a terminal may have it."""
    return text if text.isprintable() else "\n".join(map(visible, text.split("\n")))


class Shown:
    """What is drawn in a terminal, with all text in it made visible."""

    def __init__(self, drawn: "RenderableType") -> None:
        self._drawn = drawn

    def __rich_console__(
        self, console: "Console", options: "ConsoleOptions"
    ) -> "Iterable[Segment]":
        for segment in console.render(self._drawn, options):
            text = shown(segment.text)
            yield segment if text == segment.text else segment._replace(text=text)

"""Results out: to standard output in the form that was asked for, or into a file."""

import os
import re
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from ovek.app.output import write_checklists, write_file
from ovek.app.packages import renderer_of
from ovek.cli.command import colour
from ovek.cli.say import Shown, say, shown
from ovek.model.results.cleanup import CleanupPlans
from ovek.model.results.runbooks import FleetRunbooks
from ovek.render.renderers import IN_TERMINAL, has_form, rendered
from ovek.render.view import View

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

_ODD = re.compile(r"[^\x20-\x7e\n\r\t]")


def show(result: object, form: str = "table", view: View | None = None) -> None:
    """Write a result to standard output in a form."""
    view = view or View()
    if has_form(result, form):
        pieces = rendered(result, form, view)
    else:
        pieces = renderer_of(type(result).__name__, form)(result, view)
    write = write_lines if form in IN_TERMINAL else write_bytes
    write(pieces)


def show_into(file: Path, result: object, form: str | None = None) -> None:
    """Write a result into a file; by default in the form that the file's ending tells."""
    form = form or file.suffix.lower().removeprefix(".")
    write_file(file, rendered(result, form, View()))


def show_or_into(
    folder: Path | None,
    result: FleetRunbooks | CleanupPlans,
    form: str,
    view: View,
    figure: Path | None = None,
) -> None:
    """Show a result, or write a checklist for each device into a folder; draw it on demand."""
    if figure is not None:
        show_into(figure, result)
    if folder is None:
        show(result, form, view)
        return
    checklists = {
        device: b"".join(rendered(one, "markdown", View()))
        for device, one in result.by_device().items()
    }
    number = write_checklists(folder, checklists)
    say(f"{number} checklist{'s' if number != 1 else ''} in {folder}", err=True)


def write_bytes(chunks: Iterable[bytes]) -> None:
    """Write a machine-readable result to standard output; nothing that a terminal would obey."""
    out = sys.stdout.buffer
    for chunk in chunks:
        out.write(chunk if chunk.isascii() and b"\x7f" not in chunk else _plainly(chunk))
    out.flush()


def _plainly(data: bytes) -> bytes:
    """The same JSON, what a terminal would not print as escapes; other forms hold none of it."""
    return _ODD.sub(_escape, data.decode("utf-8", "replace")).encode()


def _escape(match: re.Match[str]) -> str:
    char = match[0]
    if char.isprintable():
        return char
    units = char.encode("utf-16-be")
    return "".join(f"\\u{units[at : at + 2].hex()}" for at in range(0, len(units), 2))


def write_lines(lines: "Iterable[RenderableType]") -> None:
    """Write lines and trees to standard output, in colour where it is a terminal.

    Where that is more than a screen, the first lines, which are the answer, are told again at the
    end.
    """
    from rich.console import Console
    from rich.text import Text

    from ovek.render.lines import width

    said = colour()
    console = Console(
        file=sys.stdout,
        width=width(),
        highlight=False,
        markup=False,
        emoji=False,
        force_terminal=True if said == "always" else False if said == "never" else None,
        no_color=False if said == "always" else None,
    )
    answer: list[RenderableType] = []
    written, in_answer, plain = 0, True, not console.is_terminal
    for line in lines:
        in_answer = in_answer and isinstance(line, str | Text) and bool(str(line))
        if in_answer:
            answer.append(line)
        written += _write_line(console, line, plain)
    height = _height()
    if height is not None and answer and written > height:
        sys.stdout.write("\n")
        for line in answer:
            _write_line(console, line, plain)
    sys.stdout.flush()


def _write_line(console: "Console", line: "RenderableType", plain: bool) -> int:
    """Write one line or tree; how many lines that are."""
    from rich.text import Text

    if isinstance(line, str):
        sys.stdout.write(f"{shown(line)}\n")
        return 1
    if isinstance(line, Text):
        if plain:
            sys.stdout.write(f"{shown(line.plain.rstrip())}\n")
        else:
            console.print(Shown(line), soft_wrap=True)
        return 1
    with console.capture() as captured:
        console.print(Shown(line))
    drawn = captured.get().splitlines()
    sys.stdout.write("".join(f"{each.rstrip()}\n" for each in drawn))
    return len(drawn)


def _height() -> int | None:
    """How many lines the screen has; None where standard output is no terminal."""
    try:
        return os.get_terminal_size(sys.stdout.fileno()).lines if sys.stdout.isatty() else None
    except (OSError, ValueError):
        return None

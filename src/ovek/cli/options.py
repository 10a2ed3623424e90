"""What several commands share: options, the devices they name, and writing results out."""

import logging
import os
import re
import sys
from collections.abc import Callable, Iterable
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ovek.app.devices import Devices
from ovek.cli.command import OneOf, colour
from ovek.cli.say import Shown, Told, shown
from ovek.model.finding import SEVEREST_FIRST, Severity
from ovek.model.size import SizeError, typed_size

if TYPE_CHECKING:
    from rich.console import Console, RenderableType

# Once, whichever command is run: what the use cases log is told.
_LOG = logging.getLogger("ovek.app")
if not _LOG.handlers:
    _LOG.addHandler(Told())
_ODD = re.compile(r"[^\x20-\x7e\n\r\t]")
F = TypeVar("F", bound=Callable[..., Any])
D = TypeVar("D")

SITE = click.option(
    "--site",
    "site_folder",
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    default=Path(),
    help="The site to work on (default: this folder).",
)
SNAPSHOT = click.option(
    "--snapshot",
    "snapshot_file",
    metavar="FILE",
    help="One snapshot to look at, by its file or name, or a glob of several, of which the newest "
    "line of each device counts (default: all in snapshots/).",
)


def format_option(*more: str, lists: bool = True) -> Callable[[F], F]:
    """--format with table, json, jsonl where there is a list, and what else a command offers."""
    return click.option(
        "--format",
        "format_",
        type=OneOf(["table", "json", *(["jsonl"] if lists else []), *more]),
        default="table",
        help="How to show the result (default: table).",
    )


FORMAT = format_option()
_FAIL_ON = click.option(
    "--fail-on",
    type=OneOf([*SEVEREST_FIRST, "never"]),
    default="critical",
    help="Exit with 1 from this severity up (default: critical).",
)


def snapshot_options(*formats: str) -> Callable[[F], F]:
    """Add --site, --snapshot and --format, the last with these beside table and json."""

    def add(function: F) -> F:
        return SITE(SNAPSHOT(format_option(*formats)(function)))

    return add


MAY_DROP = click.option(
    "--may-drop",
    multiple=True,
    type=OneOf(["fallback", "running"]),
    help="Unlock the kept fallback or the running image (may be repeated).",
)


def fail_on_option(function: F) -> F:
    """Add --fail-on."""
    return _FAIL_ON(function)


def size_option(ctx: click.Context, param: click.Parameter, value: str | None) -> int | None:
    """Read a size such as 600MiB into bytes."""
    try:
        return None if value is None else typed_size(value)
    except SizeError as error:
        raise click.BadParameter(str(error)) from None


def unknown_rule(slug: str, known: Iterable[str], hint: str) -> click.BadParameter:
    """The error that there is no such rule, with the nearest name that is one."""
    near = get_close_matches(slug, list(known), n=1, cutoff=0.4)
    meant = f"; did you mean {near[0]!r}?" if near else "; see ovek rules"
    return click.BadParameter(f"there is no rule {slug!r}{meant}", param_hint=hint)


def reaches(severity: Severity | None, threshold: str) -> bool:
    """Whether a severity is at or above the threshold of --fail-on."""
    if severity is None or threshold == "never":
        return False
    return SEVEREST_FIRST.index(severity) <= SEVEREST_FIRST.index(threshold)


def exit_code(worse: bool, devices: Devices) -> None:
    """End with 1 where something is worse than wanted, else with 3 where a device was not read."""
    if worse:
        sys.exit(1)
    if devices.not_read:
        sys.exit(3)


def write_json(whole: dict[str, Any], format_: str, lists: str) -> None:
    """Write a result as one object of JSON; as JSON Lines, the values of its list `lists`."""
    from ovek.render.json import encoded

    write_bytes([encoded(whole, lists if format_ == "jsonl" else None)])


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

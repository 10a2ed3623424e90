"""Write docs/commands.md from the commands themselves; a test holds that it is up to date."""

from collections.abc import Iterator
from pathlib import Path

import click

import ovek.cli
from ovek.cli.command import Command

# What every command about a site takes alike is told once.
ALIKE = {
    "--site": "the site to work on (default: this folder)",
    "--color": "`auto`, `always` or `never`",
    "--help": "the command's help, as here",
}


_HEAD = """Made from the code by `scripts/write_commands_page.py`. `ovek COMMAND -h` says the same
in the terminal, and `ovek --version` which version that is. Exit codes: 0 nothing at or above the
threshold; 1 findings, or a plan that is not enough; 2 wrong usage or a file that cannot be used; 3
some device could not be read, the rest was done."""


def page() -> str:
    """The page as it is kept."""
    lines = [
        "# Every command",
        "",
        _HEAD,
        "",
        "All commands take `-h`, and those about a site:",
        "",
        *(f"- `{name}`: {told}" for name, told in ALIKE.items() if name != "--help"),
        "",
        "`DEVICE…` are names or globs (none is all); `--where KEY=VALUE` narrows them further.",
        "",
    ]
    for name in ovek.cli.COMMANDS:
        lines += _told(("ovek", name), _command(ovek.cli.cli, name))
    return "\n".join(lines).rstrip() + "\n"


def _command(group: click.Group, name: str) -> click.Command:
    found = group.get_command(click.Context(group), name)
    assert found is not None
    return found


def _told(path: tuple[str, ...], command: click.Command) -> Iterator[str]:
    """Go through what is told of a command, and of those in it."""
    yield from (f"{'#' * len(path)} {' '.join(path)}", "")
    context = click.Context(command, info_name=path[-1])
    for paragraph in (command.help or "").strip().split("\n\n"):
        yield from (" ".join(paragraph.split()), "")
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            yield from _told((*path, name), _command(command, name))
        return
    arguments = [param for param in command.params if isinstance(param, click.Argument)]
    usage = " ".join([*path, "[OPTIONS]", *(each.make_metavar(context) for each in arguments)])
    yield from ("```text", usage, "```", "")
    rows = []
    for param in command.params:
        if isinstance(param, click.Option) and param.opts[-1] not in ALIKE and not param.hidden:
            record = param.get_help_record(context)
            if record is not None:
                rows.append(f"| `{_cell(record[0])}` | {_cell(record[1])} |")
    if rows:
        yield from ("| option | what it does |", "| --- | --- |", *rows, "")
    if isinstance(command, Command) and command.examples:
        yield from ("```sh", *(f"ovek {each}" for each in command.examples), "```", "")


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|")


if __name__ == "__main__":
    (Path(__file__).parent.parent / "docs/commands.md").write_text(page())

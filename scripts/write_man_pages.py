"""Write the manual pages from the commands: `python scripts/write_man_pages.py`.

They lie in docs/man, and are installed to share/man/man1. A test holds that they are up to date.
"""

import inspect
from collections.abc import Iterator
from pathlib import Path

import click

from ovek.cli import cli
from ovek.cli.settings import commands

MAN = Path(__file__).parent.parent / "docs/man"
_EXITS = (
    ("0", "Nothing at or above the threshold (--fail-on)."),
    ("1", "Findings, or a plan that is not enough."),
    ("2", "Wrong usage, or a file that cannot be used."),
    ("3", "A device was not read; everything else was done."),
)
_VARIABLES = (
    ("OVEK_SITE", "The site folder, where --site is not given."),
    ("OVEK_COLOR, OVEK_LOG, OVEK_QUIET", "As --color, --log and --quiet."),
    ("OVEK_COMMAND_OPTION", "Any other option, e.g. OVEK_AUDIT_FAIL_ON; see ovek settings."),
    ("OVEK_PASSWORD", "The password for devices and servers."),
    ("NO_COLOR, COLUMNS", "No colour; the width of the output."),
)


def pages() -> dict[str, str]:
    """The pages by the names of their files."""
    root = click.Context(cli, info_name="ovek")
    found = {"ovek.1": _whole(root)}
    for words, command in commands(root):
        typed = " ".join(("ovek", *words))
        ctx = click.Context(command, info_name=typed, **command.context_settings)
        found[f"{'-'.join(('ovek', *words))}.1"] = "\n".join(_command(words, command, ctx)) + "\n"
    return found


def _whole(root: click.Context) -> str:
    """The page of the program, which lists its commands."""
    lines = [
        '.TH OVEK 1 "" "Ovek" "Ovek"', ".ad l", ".SH NAME",
        r"ovek \- audit the software images on network devices' flash",
        ".SH SYNOPSIS", r".B ovek", "COMMAND [OPTION]... [ARGUMENT]...", ".SH DESCRIPTION",
        *_paragraphs(inspect.cleandoc(cli.help or "")), ".SH COMMANDS",
    ]  # fmt: skip
    for words, command in commands(root):
        name = " ".join(words)
        lines += [".TP", rf".B {_text(name)}", _text(_first_sentence(command))]
    return "\n".join([*lines, *_end(["ovek-audit"])]) + "\n"


def _command(words: list[str], command: click.Command, ctx: click.Context) -> Iterator[str]:
    name = "-".join(("ovek", *words))
    yield from (f'.TH {name.upper()} 1 "" "Ovek" "Ovek"', ".ad l")
    yield from (".SH NAME", rf"{_text(name)} \- {_text(_first_sentence(command))}")
    usage = " ".join(command.collect_usage_pieces(ctx))
    yield from (".SH SYNOPSIS", rf".B {_text(' '.join(('ovek', *words)))}", _text(usage))
    yield ".SH DESCRIPTION"
    yield from _paragraphs(inspect.cleandoc(command.help or ""))
    yield ".SH OPTIONS"
    for param in command.get_params(ctx):
        if (record := param.get_help_record(ctx)) is not None:
            yield from (".TP", rf".B {_text(record[0])}", _text(" ".join(record[1].split())))
    if examples := getattr(command, "examples", ()):
        yield ".SH EXAMPLES"
        for example in examples:
            yield from (".nf", _text(f"ovek {example}"), ".fi")
    yield from _end(["ovek"])


def _end(others: list[str]) -> Iterator[str]:
    for title, rows in (("EXIT STATUS", _EXITS), ("ENVIRONMENT", _VARIABLES)):
        yield f".SH {title}"
        for head, said in rows:
            yield from (".TP", rf".B {_text(head)}", _text(said))
    yield ".SH SEE ALSO"
    yield ", ".join(rf"\fB{_text(other)}\fR(1)" for other in others)


def _first_sentence(command: click.Command) -> str:
    first = inspect.cleandoc(command.help or "").partition("\n\n")[0]
    return " ".join(first.split()).rstrip(".")


def _paragraphs(text: str) -> Iterator[str]:
    for number, part in enumerate(text.replace("\b\n", "").split("\n\n")):
        if number:
            yield ".PP"
        yield _text(" ".join(part.split()))


def _text(text: str) -> str:
    """A text that no macro is made of."""
    text = text.replace("\\", r"\e").replace("-", r"\-").replace("…", "...")
    return rf"\&{text}" if text[:1] in (".", "'") else text


if __name__ == "__main__":
    MAN.mkdir(parents=True, exist_ok=True)
    there = pages()
    for file in MAN.glob("*.1"):
        if file.name not in there:
            file.unlink()
    for name, text in there.items():
        (MAN / name).write_text(text)

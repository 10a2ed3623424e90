"""What all commands have in common: `-h`, examples at the end of their help, colour, near names."""

from collections.abc import Sequence
from difflib import get_close_matches
from typing import TYPE_CHECKING, Any, Literal

import click

Colour = Literal["auto", "always", "never"]
COLOURS: tuple[Colour, ...] = ("auto", "always", "never")
_SAID: list[Colour] = []  # what --color said last, for whoever writes


def colour() -> Colour:
    """Whether results are coloured: what --color says."""
    return _SAID[-1] if _SAID else "auto"


def _take_colour(ctx: click.Context, param: click.Parameter, value: Colour | None) -> None:
    if value is not None:
        _SAID.append(value)
        ctx.color = None if value == "auto" else value == "always"


if TYPE_CHECKING:
    _Choice = click.Choice[str]
else:  # older Clicks know no choice of strings
    _Choice = click.Choice


class OneOf(_Choice):
    """One of some words; of a mistyped one the nearest is told, and which there are."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Take a word; raise BadParameter where it is none of them."""
        known = [str(each) for each in self.choices]
        if value in known:
            return str(value)
        meant = nearest(str(value), known)
        raise click.BadParameter(f"{value!r} is none of {', '.join(known)}{meant}", ctx, param)


def nearest(word: str, known: Sequence[str]) -> str:
    """The hint that another word may be meant, to put behind a message; empty where none is near.

    >>> nearest("tabel", ["table", "json"])
    "; did you mean 'table'?"
    """
    near = get_close_matches(word, known, n=1)
    return f"; did you mean {near[0]!r}?" if near else ""


class _Colour(click.Option):
    def __init__(self) -> None:
        super().__init__(
            ["--color"],
            type=OneOf(COLOURS),
            expose_value=False,
            callback=_take_colour,
            is_eager=True,
            help="Colour the result (default: auto, in a terminal unless NO_COLOR is set).",
        )


_HELP = {"help_option_names": ["-h", "--help"]}


class Command(click.Command):
    """A command; its help ends with examples that work on the sample site."""

    def __init__(self, *args: Any, examples: Sequence[str] = (), **more: Any) -> None:
        more["context_settings"] = {**_HELP, **(more.get("context_settings") or {})}
        super().__init__(*args, **more)
        self.examples = tuple(examples)
        self.params.append(_Colour())

    def invoke(self, ctx: click.Context) -> Any:
        """Do it; where a file that Ovek keeps for itself turns out damaged, once more without."""
        from ovek.files.errors import DamagedError

        try:
            return super().invoke(ctx)
        except DamagedError as damaged:
            from ovek.cli.say import tell

            tell(f"{damaged.put_aside()}.")
            return super().invoke(ctx)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the examples."""
        if self.examples:
            with formatter.section("Examples"):
                for line in self.examples:
                    formatter.write_text(f"ovek {line}")


class Group(click.Group):
    """A group of commands; of a mistyped one the nearest is told, and which there are."""

    command_class = Command

    def __init__(self, *args: Any, **more: Any) -> None:
        more["context_settings"] = {**_HELP, **(more.get("context_settings") or {})}
        super().__init__(*args, **more)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find the command that is typed; raise UsageError where there is none."""
        name = args[0]
        if self.get_command(ctx, name) is None and not name.startswith("-"):
            known = self.list_commands(ctx)
            told = f"there is no command {name!r}{nearest(name, known)}"
            ctx.fail(f"{told} Commands are: {', '.join(known)}".replace("' C", "'. C"))
        return super().resolve_command(ctx, args)

"""What all commands have in common: `-h`, examples at the end of their help, colour, near names."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Literal

import click

from ovek.cli.quiet import be_quiet
from ovek.model.usage import near_to

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
        meant = near_to(str(value), known)
        raise click.BadParameter(
            f"{value!r} is not a valid choice; use one of: {', '.join(known)}{meant}", ctx, param
        )


class _Colour(click.Option):
    def __init__(self) -> None:
        super().__init__(
            ["--color"],
            type=OneOf(COLOURS),
            expose_value=False,
            callback=_take_colour,
            is_eager=True,
            help="Use colour: auto (in a terminal, unless NO_COLOR is set), always or never.",
        )


class _Log(click.Option):
    def __init__(self) -> None:
        super().__init__(
            ["--log"],
            type=click.Path(),
            expose_value=False,
            callback=_take_log,
            is_eager=True,
            metavar="FILE",
            help="Write a log to this file; -vv logs to standard error.",
        )


def _take_log(ctx: click.Context, param: click.Parameter, value: str | None) -> None:
    ctx.meta[_LOG_FILE] = value


class _Quiet(click.Option):
    def __init__(self) -> None:
        super().__init__(
            ["-q", "--quiet"],
            is_flag=True,
            expose_value=False,
            callback=_take_quiet,
            is_eager=True,
            help="Write results and errors only: no progress, no warnings.",
        )


def _take_quiet(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    be_quiet(value)


_LOG_FILE, _WATCHED = "ovek.log", "ovek.watched"
_HELP = {"help_option_names": ["-h", "--help"]}


class Command(click.Command):
    """A command; its help ends with examples that work on the sample site."""

    def __init__(self, *args: Any, examples: Sequence[str] = (), **more: Any) -> None:
        more["context_settings"] = {**_HELP, **(more.get("context_settings") or {})}
        super().__init__(*args, **more)
        self.examples = tuple(examples)
        self.params += [_Colour(), _Log(), _Quiet()]

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Take in what was typed; -vv is -v, where the command has it, and logging."""
        from ovek.cli.defaults import take_defaults, taken_from

        end = args.index("--") if "--" in args else len(args)
        if "-vv" in args[:end]:
            ctx.meta[_WATCHED] = True
            has = any("-v" in param.opts for param in self.params)
            args = [*(["-v"] if has else []), *(each for each in args if each != "-vv")]
        if not ctx.resilient_parsing and not {"-h", "--help"} & set(args[:end]):
            take_defaults(ctx, self, args)
        try:
            return super().parse_args(ctx, args)
        except click.BadParameter as error:
            if (variable := taken_from(ctx, error.param)) is not None:
                error.message = f"{error.message} (from {variable})"  # type: ignore[misc]
            raise

    def invoke(self, ctx: click.Context) -> Any:
        """Do it, and log what is done."""
        from ovek.cli.logs import logged

        with logged(ctx.meta.get(_LOG_FILE), watched=ctx.meta.get(_WATCHED, False)):
            return self._invoke(ctx)

    def _invoke(self, ctx: click.Context) -> Any:
        """Do it; where a file that Ovek keeps for itself turns out damaged, once more without."""
        from ovek.app.errors import DamagedError, UsageError

        try:
            return super().invoke(ctx)
        except DamagedError as damaged:
            from ovek.cli.say import tell

            tell(f"{damaged.put_aside()}.")
            return super().invoke(ctx)
        except UsageError as error:
            if error.option is None:
                raise click.UsageError(str(error), ctx) from None
            raise click.BadParameter(str(error), ctx, param_hint=error.option) from None

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the examples."""
        if self.examples:
            with formatter.section("Examples"):
                for line in self.examples:
                    formatter.write_text(f"ovek {line}")


class CommandGroup(click.Group):
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
            text = f"no such command: {name!r}{near_to(name, known)}"
            ctx.fail(f"{text} Commands are: {', '.join(known)}".replace("' C", "'. C"))
        return super().resolve_command(ctx, args)

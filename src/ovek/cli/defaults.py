"""Options where nobody typed them, as Click takes them: see `ovek.app.defaults`."""

import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from ovek.app.defaults import (
    Default,
    Defaults,
    check_top,
    defaults_in,
    site_defaults,
    user_defaults,
    variables,
)
from ovek.app.errors import InputError


def options_of(command: click.Command) -> dict[str, click.Option]:
    """The options of a command that can have a default, by their long names without dashes."""
    named: dict[str, click.Option] = {}
    for param in command.params:
        long = next((text[2:] for text in param.opts if text.startswith("--")), "")
        if isinstance(param, click.Option) and long and param.name != "help":
            named[long] = param
    return named


def checked_defaults(
    ctx: click.Context, command: click.Command, words: Sequence[str], file: Defaults
) -> Iterator[tuple[str, Default]]:
    """Go through what a file says of a command's options, as they take it. Raises InputError."""
    options = options_of(command)
    for name, default in defaults_in(file, words, options):
        try:
            yield name, default._replace(value=_taken(ctx, options[name], default.value))
        except click.BadParameter as error:
            text, do = error.message.removesuffix("?"), "Fix or remove that line"
            raise InputError(default.file, text, do, key=default.key) from None


def _taken(ctx: click.Context, option: click.Option, value: Any) -> Any:
    """A value as an option takes it; raise BadParameter where it does not."""
    if option.is_flag and option.is_bool_flag and not isinstance(value, bool):
        raise click.BadParameter(f"{value!r} is neither true nor false")
    if option.multiple:
        value = value if isinstance(value, list) else [value]
    elif isinstance(value, list | dict):
        raise click.BadParameter(f"{value!r} is not one value")
    if option.is_eager:
        option.type_cast_value(ctx, value)
    else:
        option.process_value(ctx, value)
    return value


def commands_of(root: click.Context) -> list[str]:
    """The commands of a group."""
    return root.command.list_commands(root) if isinstance(root.command, click.Group) else []


def take_defaults(ctx: click.Context, command: click.Command, args: Sequence[str]) -> None:
    """Let a command's options be what the environment and the defaults say. Raises InputError."""
    words, options = _words_of(ctx), options_of(command)
    for name, option in options.items():
        option.envvar = variables(words, name)
    user = user_defaults()
    files = [user]  # what a later one says counts
    if (folder := _site(ctx, command, args, user)) is not None:
        files.append(site_defaults(folder))
    chosen: dict[str, Any] = {}
    for file in files:
        if file.values:
            check_top(file, commands_of(ctx.find_root()))
            for name, default in checked_defaults(ctx, command, words, file):
                chosen[options[name].name or ""] = default.value
    if chosen:
        ctx.default_map = chosen


def taken_from(ctx: click.Context, option: click.Parameter | None) -> str | None:
    """The variable that an option was taken from; None where it was not."""
    if option is None or option.name is None or not isinstance(option.envvar, list):
        return None
    if ctx.get_parameter_source(option.name) is not click.core.ParameterSource.ENVIRONMENT:
        return None
    return next((variable for variable in option.envvar if os.environ.get(variable)), None)


def _words_of(ctx: click.Context) -> list[str]:
    """The words of a command, such as `catalog import`."""
    words = list[str]()
    while ctx.parent is not None:
        words.insert(0, ctx.info_name or "")
        ctx = ctx.parent
    return words


def _site(
    ctx: click.Context, command: click.Command, args: Sequence[str], user: Defaults
) -> Path | None:
    """The site that a command will look at; None where it looks at none."""
    option = next((param for param in command.params if param.name == "site_folder"), None)
    if option is None:
        return None
    try:
        typed = command.make_parser(ctx).parse_args(args=list(args))[0].get("site_folder")
    except click.UsageError:
        return None  # which is told where the words are taken in
    folder = typed or option.value_from_envvar(ctx) or user.values.get("site") or "."
    return Path(folder) if isinstance(folder, str | os.PathLike) else Path()

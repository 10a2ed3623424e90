"""`ovek settings`: what options are where nobody typed them, and where that is from."""

import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from ovek.app.defaults import (
    COMMON,
    Default,
    Defaults,
    check_top,
    site_defaults,
    user_defaults,
    variables,
)
from ovek.cli.command import Command
from ovek.cli.defaults import checked_defaults, commands_of, options_of
from ovek.cli.options import FORMAT, SITE, verbose_option
from ovek.cli.show import show
from ovek.model.results.settings import OptionSetting, Settings


@click.command("settings", cls=Command, examples=("settings", "settings -v"))
@SITE
@verbose_option("List every option of every command.")
@FORMAT
@click.pass_context
def command(ctx: click.Context, site_folder: Path, verbose: bool, form: str) -> None:
    """List what options are set, and where: by the environment, the site or you.

    An option that is typed counts first, then the variable of its name (OVEK_AUDIT_FAIL_ON, and
    OVEK_SITE, OVEK_COLOR, OVEK_LOG and OVEK_QUIET for all commands), then [defaults] of the site's
    fleet.toml, then your own defaults.toml. All of them are checked.
    """
    user, site = user_defaults(), site_defaults(site_folder)
    root = ctx.find_root()
    for file in (user, site):
        check_top(file, commands_of(root))
    settings = [
        setting
        for words, each in commands(root)
        for setting in _settings(root, words, each, (user, site))
        if verbose or setting.origin != "default"
    ]
    common = {(one.option, one.place): one for one in settings if one.command is None}
    shown = [*common.values(), *(one for one in settings if one.command is not None)]
    looked = [f"{site.file} [defaults]", f"{user.file}{'' if user.file.exists() else ' (absent)'}"]
    show(Settings(settings=shown, looked_in=looked, whole=verbose), form)


def commands(ctx: click.Context) -> Iterator[tuple[list[str], click.Command]]:
    """Go through all commands that do something, each with its words."""
    group = ctx.command
    if not isinstance(group, click.Group):
        yield [], group
        return
    for name in group.list_commands(ctx):
        below = group.get_command(ctx, name)
        if below is not None:
            for words, found in commands(click.Context(below, parent=ctx, info_name=name)):
                yield [name, *words], found


def _settings(
    root: click.Context, words: Sequence[str], each: click.Command, files: Sequence[Defaults]
) -> Iterator[OptionSetting]:
    """Go through what the options of a command are; the last file that says counts."""
    ctx = click.Context(each, parent=root, info_name=" ".join(words))
    by_file: dict[str, Default] = {}
    for file in files:
        by_file |= dict(checked_defaults(ctx, each, words, file))
    for name, option in options_of(each).items():
        yield _setting(words, name, option, by_file.get(name))


def _setting(
    words: Sequence[str], name: str, option: click.Option, default: Default | None
) -> OptionSetting:
    own = " ".join(words)
    for variable in variables(words, name):
        if text := os.environ.get(variable):
            who = None if variable == variables((), name)[0] else own
            return OptionSetting(
                command=who, option=name, value=text, origin="environment", place=variable
            )
    if default is not None:
        return OptionSetting(
            command=None if default.common else own,
            option=name,
            value=default.value,
            origin="site" if default.of_site else "user",
            place=f"{default.file}, {default.key}",
        )
    who = None if name in COMMON else own
    return OptionSetting(command=who, option=name, value=_shipped(option), origin="default")


def _shipped(option: click.Option) -> Any:
    """What an option is where nobody says."""
    value = option.default
    if option.is_flag and option.is_bool_flag:
        return value is True
    if isinstance(value, Path):
        return str(value)
    return value if isinstance(value, int | float | str) else None

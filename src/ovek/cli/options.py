"""What several commands share: options, and how they end."""

import re
import sys
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any, TypeVar

import click

from ovek.app.devices import Devices
from ovek.cli.command import OneOf
from ovek.cli.completing import advisories
from ovek.model.age import AgeError, parse_age
from ovek.model.finding import SEVEREST_FIRST
from ovek.model.size import SizeError, typed_size

F = TypeVar("F", bound=Callable[..., Any])
_FIGURES = (".png", ".svg")
_SHARE = re.compile(r"(\d{1,3}(?:\.\d{1,3})?)\s*%", re.ASCII)
A_PATH = click.Path(path_type=Path)

SITE = click.option(
    "--site",
    "site_folder",
    metavar="FOLDER",
    type=A_PATH,
    default=Path(),
    help="Folder that holds fleet.toml (default: current folder).",
)
SNAPSHOT = click.option(
    "--snapshot",
    "snapshot_file",
    metavar="FILE",
    help="Snapshot file or name, or a quoted glob; the latest reading of each device is used "
    "(default: all in snapshots/).",
)
MAY_DROP = click.option(
    "--may-drop",
    multiple=True,
    type=OneOf(["fallback", "running"]),
    help="Allow deleting the fallback or the running image (repeatable). Dangerous.",
)
FAIL_ON = click.option(
    "--fail-on",
    type=OneOf([*SEVEREST_FIRST, "never"]),
    default="critical",
    help="Exit code 1 if there is a finding of this severity or worse (default: critical).",
)
INTO = click.option(
    "--into",
    metavar="FOLDER",
    type=A_PATH,
    help="Write one checklist per device into this folder.",
)
ADVISORY = click.option(
    "--advisory",
    metavar="ID",
    shell_complete=advisories,
    help="All images that this security advisory affects, in place of an IMAGE.",
)
TAKE_NEW_KEYS = click.option(
    "--take-new-keys",
    is_flag=True,
    help="Accept and store unknown SSH host keys (changed keys are refused).",
)


def verbose_option(
    does: str = "List every device that is not a go (default: the first 20 per answer).",
) -> Callable[[F], F]:
    """-v, and what it does."""
    return click.option("-v", "--verbose", is_flag=True, help=does)


class _Form(OneOf):
    """One of the forms of a result; packages may bring others."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Take a form; raise BadParameter where it is none."""
        if value not in self.choices:
            from ovek.app.packages import forms

            if value in forms():
                return str(value)
        return super().convert(value, param, ctx)


def format_option(*more: str, lists: bool = True) -> Callable[[F], F]:
    """--format with table, json, jsonl where there is a list, and what else a command offers."""
    return click.option(
        "--format",
        "form",
        type=_Form(["table", "json", *(["jsonl"] if lists else []), *more]),
        default="table",
        help="Output format (default: table).",
    )


FORMAT = format_option()


def snapshot_options(*formats: str) -> Callable[[F], F]:
    """Add --site, --snapshot and --format, the last with these beside table and json."""

    def add(function: F) -> F:
        return SITE(SNAPSHOT(format_option(*formats)(function)))

    return add


def rate_option(does: str) -> Callable[[F], F]:
    """--rate, and what it does."""
    return size_option("--rate", does)


def size_option(name: str, does: str) -> Callable[[F], F]:
    """An option that takes a size, and what it does."""
    return click.option(name, callback=_size, metavar="SIZE", help=does)


def age_option(name: str, does: str) -> Callable[[F], F]:
    """An option that takes an age, and what it does."""
    return click.option(name, callback=age_of, metavar="AGE", help=does)


def age_of(ctx: click.Context, param: click.Parameter, value: str | None) -> timedelta | None:
    """Read an age such as 90d."""
    try:
        return None if value is None else parse_age(value)
    except (AgeError, OverflowError) as error:
        raise click.BadParameter(str(error)) from None


def _size(ctx: click.Context, param: click.Parameter, value: str | None) -> int | None:
    """Read a size such as 600MiB into bytes."""
    try:
        return None if value is None else typed_size(value)
    except SizeError as error:
        raise click.BadParameter(str(error)) from None


def size_or_share(
    ctx: click.Context, param: click.Parameter, value: str | None
) -> int | float | None:
    """Read a size into bytes, or a percentage into a share from 0 to 1."""
    if value is None:
        return None
    match = _SHARE.fullmatch(value.strip())
    if match is not None:
        if float(match[1]) > 100:
            raise click.BadParameter(f"{value!r} is too large; use at most 100%")
        return float(match[1]) / 100
    try:
        return typed_size(value)
    except SizeError as error:
        raise click.BadParameter(f"{error}, or a percentage such as 20%") from None


def figure_option(does: str) -> Callable[[F], F]:
    """--figure, and what it draws."""
    return click.option("--figure", metavar="FILE", type=A_PATH, callback=figure_file, help=does)


def figure_file(ctx: click.Context, param: click.Parameter, value: Path | None) -> Path | None:
    """A file whose ending says how a figure is drawn; raise BadParameter where it does not."""
    if value is not None and value.suffix.lower() not in _FIGURES:
        raise click.BadParameter(f"{value.name!r} must end in .png or .svg")
    return value


def exit_code(worse: bool, devices: Devices | None = None) -> None:
    """End with 1 where something is worse than wanted, else with 3 where a device was not read."""
    if worse:
        sys.exit(1)
    if devices is not None and devices.not_read:
        sys.exit(3)

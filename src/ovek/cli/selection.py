"""Which devices a command looks at: names and globs as arguments, and `--where key=value`."""

from collections.abc import Callable
from datetime import datetime
from functools import cached_property, wraps
from pathlib import Path
from typing import Any

import click
from msgspec import Struct

from ovek.app.asking import Site, open_site
from ovek.app.devices import Devices
from ovek.app.runner import dask
from ovek.app.selection import KEYS, Condition, condition, select
from ovek.cli import completing
from ovek.cli.options import SITE, SNAPSHOT, format_option
from ovek.cli.progress import bytes_bar
from ovek.model.usage import UsageError


def _conditions(
    ctx: click.Context, param: click.Parameter, values: tuple[str, ...]
) -> tuple[Condition, ...]:
    try:
        return tuple(condition(value) for value in values)
    except UsageError as error:
        raise click.BadParameter(str(error), param_hint=error.option) from None


class Selection(Struct, dict=True, frozen=True, kw_only=True):
    """What was asked about: a site, a snapshot of it, and which devices."""

    folder: Path
    snapshot: str | None = None
    names: tuple[str, ...] = ()
    where: tuple[Condition, ...] = ()
    as_of: datetime | None = None
    knowing: str = "then"
    on: str | None = None

    @cached_property
    def site(self) -> Site:
        """The site, as it was at the time that was asked about."""
        return open_site(self.folder, as_of=self.as_of, knowing=self.knowing)

    @property
    def everything(self) -> bool:
        """Whether no device was left out."""
        return not self.names and not self.where

    def devices(self) -> Devices:
        """The devices in the state that was asked about. Raises InputError."""
        runner = dask(self.on) if self.on is not None else None
        return select(
            self.site,
            self.names,
            self.where,
            snapshot=self.snapshot,
            runner=runner,
            bar=bytes_bar,
        )


def device_options(*formats: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Add DEVICE…, --where, --site, --snapshot and --format; they come as `selected`, `form`."""

    def add(function: Callable[..., Any]) -> Callable[..., Any]:
        return SNAPSHOT(format_option(*formats)(selecting(function)))

    return add


def on_option(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add --on."""
    return click.option(
        "--on",
        metavar="ADDRESS",
        help="Run on the workers of this Dask scheduler, e.g. tls://host:8786.",
    )(function)


def selecting(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add DEVICE…, --where and --site; a command gets a `Selection` as `selected`."""

    @wraps(function)
    def command(
        *args: Any,
        device: tuple[str, ...],
        where: tuple[Condition, ...],
        site_folder: Path,
        snapshot_file: str | None = None,
        as_of: datetime | None = None,
        knowing: str = "then",
        on: str | None = None,
        **more: Any,
    ) -> Any:
        selected = Selection(
            folder=site_folder,
            snapshot=snapshot_file,
            names=device,
            where=where,
            as_of=as_of,
            knowing=knowing,
            on=on,
        )
        return function(*args, selected=selected, **more)

    added = click.option(
        "--where",
        multiple=True,
        callback=_conditions,
        metavar="KEY=VALUE",
        shell_complete=completing.wheres,
        help=f"Select by {', '.join(KEYS[:-1])} or {KEYS[-1]}: site=A,B (either), version!=7.4.2 "
        "(not), globs allowed. Repeat to combine (and).",
    )(SITE(command))
    return click.argument("device", nargs=-1, shell_complete=completing.devices)(added)

"""Which devices a command looks at: names and globs as arguments, and `--where key=value`.

1. Names and globs are or-ed; none is all.
2. Several `--where` are and-ed; a comma in one is or; `!=` is not. Values may be globs, and upper
   and lower case are the same.
3. Of a stack each member's version and model counts. What is not known is `not known`, by that
   name, so that `version!=7.4.2` keeps a device of which the version is not known.
"""

from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import cached_property, wraps
from pathlib import Path
from typing import Any

import click
from msgspec import Struct

from ovek.app.devices import Devices
from ovek.cli import completing
from ovek.cli.completing import KEYS
from ovek.cli.options import SITE, SNAPSHOT, format_option
from ovek.cli.progress import bytes_bar
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.state import Facts, State
from ovek.model.answer import ANSWERS_WORST_FIRST

NOT_KNOWN = "not known"


class Condition(Struct, frozen=True):
    """One `--where`: any of some values, or none of them."""

    key: str
    values: tuple[str, ...]
    negated: bool

    def holds(self, told: Iterable[str | None]) -> bool:
        """Whether a device fulfils it that has these values."""
        has = [(each or NOT_KNOWN).casefold() for each in told] or [NOT_KNOWN]
        wanted = [value.casefold() for value in self.values]
        hits = [any(each == one or fnmatchcase(each, one) for one in wanted) for each in has]
        return any(not hit for hit in hits) if self.negated else any(hits)

    def __str__(self) -> str:
        return f"{self.key}{'!=' if self.negated else '='}{','.join(self.values)}"


def _conditions(
    ctx: click.Context, param: click.Parameter, values: tuple[str, ...]
) -> tuple[Condition, ...]:
    return tuple(condition(value) for value in values)


def condition(text: str) -> Condition:
    """Read `key=value[,value…]` or `key!=…`; raise BadParameter.

    >>> str(condition("site!=Port Arle, Brackness"))
    'site!=Port Arle,Brackness'
    """
    key, equals, rest = text.partition("=")
    negated = key.endswith("!")
    key = key.removesuffix("!").strip()
    values = tuple(each.strip() for each in rest.split(","))
    if not equals or not all(values):
        met = f'{text!r} is not KEY=VALUE; write it like site="Port Arle" or version!=1.2,1.3'
        raise click.BadParameter(met, param_hint="--where")
    if key not in KEYS:
        near = get_close_matches(key, KEYS, n=1)
        meant = f"; did you mean {near[0]!r}?" if near else ""
        met = f"there is no key {key!r}; keys are: {', '.join(KEYS)}{meant}"
        raise click.BadParameter(met, param_hint="--where")
    if key == "answer":
        for value in values:
            if not any(fnmatchcase(each, value.casefold()) for each in ANSWERS_WORST_FIRST):
                near = get_close_matches(value, ANSWERS_WORST_FIRST, n=1)
                meant = f"; did you mean {near[0]!r}?" if near else ""
                met = f"answers are {', '.join(ANSWERS_WORST_FIRST)}, not {value!r}{meant}"
                raise click.BadParameter(met, param_hint="--where")
    return Condition(key, values, negated)


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
        if self.as_of is None:
            return Site(self.folder)
        from ovek.app.history import site_as_of

        return site_as_of(self.folder, self.as_of, self.knowing)

    @cached_property
    def now(self) -> datetime:
        """The time against which ages count: that which was asked about, else now."""
        return self.as_of or datetime.now(UTC).replace(microsecond=0)

    @property
    def everything(self) -> bool:
        """Whether no device was left out."""
        return not self.names and not self.where

    @property
    def by_name(self) -> bool:
        """Whether devices were named, each by its name."""
        return bool(self.names) and not any(set("*?[") & set(name) for name in self.names)

    def devices(self) -> Devices:
        """The devices in the state that was asked about. Raises InputError."""
        return self.of(self.site.state(self.snapshot))

    def of(self, state: State) -> Devices:
        """The devices in one state of the fleet; raises InputError where there is none."""
        devices = Devices(self.site, state, self.names)
        devices.on = self.on
        devices.check()
        for key in KEYS:
            asked = [each for each in self.where if each.key == key]
            if asked:
                _narrow(devices, key, asked, self.now)
        return devices

    def told(self) -> str:
        """Which devices, in words; empty for all."""
        return " ".join([*self.names, *(f"--where {each}" for each in self.where)])


def _narrow(devices: Devices, key: str, asked: list[Condition], now: datetime) -> None:
    """Keep the devices that fulfil the conditions on one key; raise InputError where none does."""
    has = _answers(devices, now) if key == "answer" else _values(devices, key)
    kept = {name for name in devices.names if all(each.holds(has.get(name, [])) for each in asked)}
    if not kept and key != "answer":
        known = sorted({value or NOT_KNOWN for told in has.values() for value in told})
        wanted = next((each for one in asked for each in one.values), "")
        near = get_close_matches(wanted, known, n=1, cutoff=0.5)
        do = f"Did you mean {near[0]!r}?" if near else f"There are: {', '.join(known[:12])}"
        met = f"holds no device with {' and '.join(map(str, asked))}"
        raise InputError(devices.file, met, do)
    devices.keep(kept)


def _values(devices: Devices, key: str) -> dict[str, list[str | None]]:
    """What is told of each device under a key: by the fleet file, else by its line."""
    facts = devices.facts()
    nothing = Facts()
    return {name: facts.get(name, nothing).told(key) for name in devices.names}


def _answers(devices: Devices, now: datetime) -> dict[str, list[str | None]]:
    from ovek.app.answering import Answering
    from ovek.app.shelves import shelf_facts
    from ovek.cli.fleetwide import each_part

    shelf = shelf_facts(devices.site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
    parts = each_part(devices, Answering, now, shelf)
    found: dict[str, list[str | None]] = {
        one.device: [one.answer] for part in parts for one in part
    }
    for lost in devices.not_read:
        found[lost.device] = ["unclear"]
    return found


def device_options(*formats: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Add DEVICE…, --where, --site, --snapshot and --format; they come as `selected`, `format_`."""

    def add(function: Callable[..., Any]) -> Callable[..., Any]:
        return SNAPSHOT(format_option(*formats)(selecting(function)))

    return add


def on_option(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add --on."""
    return click.option(
        "--on",
        metavar="ADDRESS",
        help="Work on the Dask workers of this scheduler (tls://host:8786).",
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
        help=f"Only devices of this {', '.join(KEYS[:-1])} or {KEYS[-1]}; a comma is or, != is "
        "not (may be repeated: and).",
    )(SITE(command))
    return click.argument("device", nargs=-1, shell_complete=completing.devices)(added)

"""What several commands share: options, the devices they name, and writing results out."""

import gc
import re
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import Judge, judge_for
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.state import State
from ovek.model.finding import SEVEREST_FIRST, Severity
from ovek.model.fleet import Expected
from ovek.model.size import SizeError, parse_size
from ovek.model.snapshot import Device
from ovek.model.typed import typed
from ovek.model.unread import Unread
from ovek.render.visible import visible

if TYPE_CHECKING:
    from rich.console import RenderableType

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
_SNAPSHOT = click.option(
    "--snapshot",
    "snapshot_file",
    metavar="FILE",
    help="One snapshot to look at, by its file or name (default: the newest line of each device).",
)


def format_option(*more: str) -> Callable[[F], F]:
    """--format with table and json, and what else a command offers."""
    return click.option(
        "--format",
        "format_",
        type=click.Choice(["table", "json", *more]),
        default="table",
        help="How to show the result (default: table).",
    )


FORMAT = format_option()
_FAIL_ON = click.option(
    "--fail-on",
    type=click.Choice([*SEVEREST_FIRST, "never"]),
    default="critical",
    help="Exit with 1 from this severity up (default: critical).",
)


def snapshot_options(*formats: str) -> Callable[[F], F]:
    """Add --site, --snapshot and --format, the last with these beside table and json."""

    def add(function: F) -> F:
        return SITE(_SNAPSHOT(format_option(*formats)(function)))

    return add


def fail_on_option(function: F) -> F:
    """Add --fail-on."""
    return _FAIL_ON(function)


def size_option(ctx: click.Context, param: click.Parameter, value: str | None) -> int | None:
    """Read a size such as 600MiB into bytes."""
    try:
        return None if value is None else parse_size(value)
    except SizeError as error:
        raise click.BadParameter(str(error)) from None


def named_devices(names: Iterable[str], known: Mapping[str, D], where: Path) -> list[D]:
    """The things of these names (all where none is named); raise InputError for an unknown one."""
    names = list(dict.fromkeys(names))
    for name in names:
        if name not in known:
            raise no_device(where, name, known)
    return [known[name] for name in names] if names else list(known.values())


def no_device(where: Path, name: str, known: Iterable[str]) -> InputError:
    """The error that a device of this name is not there, with the nearest name that is."""
    near = get_close_matches(name, list(known), n=1)
    do = f"Did you mean {near[0]!r}?" if near else "See which devices ovek audit lists"
    return InputError(where, f"holds no device {name!r}", do)


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


@lru_cache(maxsize=1)
def releases_of(site: Site) -> ReleaseIndex:
    """All that the sources in catalog/ tell of; lines that cannot be read are told, once."""
    gc.disable()  # a catalog stays as long as the command: nobody has to look for waste in it
    try:
        index = ReleaseIndex(site.releases)
    finally:
        gc.enable()
        gc.freeze()
    for error in site.left_out:
        click.echo(f"ovek: {visible(str(error))} That line is left out.", err=True)
    return index


class Devices:
    """The devices of a fleet as they were last read, each with what its images are held against.

    `named` are names, `globs` patterns of names; none is all. `state` tells where the line of each
    device stands: `chosen` are those that are taken. `releases` are what the catalog tells, where
    it was read already; what it leaves out is told where it is read here.
    """

    def __init__(
        self,
        site: Site,
        state: State,
        named: Iterable[str] = (),
        globs: tuple[str, ...] = (),
        *,
        releases: ReleaseIndex | None = None,
    ) -> None:
        self.site, self.state = site, state
        self.named, self.globs = tuple(dict.fromkeys(named)), globs
        self._judges: dict[str, Judge] = {}
        self.releases = releases_of(site) if releases is None else releases
        self._fleet = {device.name: device for device in site.fleet.device}
        self.chosen = state.only(name for name in state.names if self.takes(name))

    @property
    def file(self) -> Path:
        """Where the devices come from, for messages: a folder of snapshots, or one of them."""
        return self.state.root

    @property
    def label(self) -> str:
        """Which snapshots the devices come from, in words."""
        used = self.chosen.used or self.state.used
        if len(used) == 1:
            return f"snapshot {used[0].name}"
        return f"the newest of {len(used)} snapshots, up to {used[-1].name}" if used else "nothing"

    def __iter__(self) -> Iterator[tuple[Device, Judge]]:
        self.check()
        for device in self.chosen.devices(self.chosen.lines.items()):
            yield device, self.judge(device)

    def takes(self, name: str) -> bool:
        """Whether a device is among those named."""
        if self.named and name not in self.named:
            return False
        return not self.globs or any(fnmatchcase(name, glob) for glob in self.globs)

    def check(self) -> None:
        """Raise InputError where a device that was named is not known at all."""
        known = {*self.state.names, *self._fleet}
        for name in self.named:
            if name not in known:
                raise no_device(self.file, name, known)
        if self.globs and not any(self.takes(name) for name in known):
            raise no_device(self.file, " ".join(self.globs), known)

    def judge(self, device: Device) -> Judge:
        """What a device's images are held against; raise InputError where it has no sheet."""
        judge = self._judges.get(device.sheet)
        if judge is None:
            sheet = self.site.sheet(device.sheet)
            if sheet is None:
                met = f"the device {device.device!r} names the sheet {device.sheet!r}, not known"
                do = f"Put {device.sheet}.toml into {self.site.folder / 'sheets'}"
                line = self.state.lines.get(device.device)
                file = self.file if line is None else self.state.files[line.file]
                raise InputError(file, met, do, key="sheet")
            judge = self._judges[device.sheet] = judge_for(
                sheet,
                self.releases,
                self.site.policy.weakest_digest,
                accepts_own="own" in self.site.policy.accepts,
            )
        return judge

    def expected(self, name: str) -> Expected | None:
        """What members the fleet file tells a device to have."""
        device = self._fleet.get(name)
        return device.expected if device is not None else None

    @cached_property
    def not_read(self) -> list[Unread]:
        """The devices asked about that were never read, or not by the last survey that tried."""
        names = dict.fromkeys([*self._fleet, *self.state.names])
        found = (self._unread(name) for name in names if self.takes(name))
        return [each for each in found if each is not None]

    def _unread(self, name: str) -> Unread | None:
        line, failed = self.state.lines.get(name), self.state.failure(name)
        if line is not None and failed is None:
            return None
        again = f"Read it: ovek survey {typed(name, 'DEVICE')}"
        why = failed.problem if failed is not None else "it was never read"
        if failed is None and self.state.root.is_file():
            why = f"{self.state.root.name} does not hold it"
        return Unread(
            device=name,
            why=why,
            do=(failed.do if failed is not None else None) or again,
            last_read=line.taken_at if line is not None else None,
        )


def exit_code(worse: bool, devices: Devices) -> None:
    """End with 1 where something is worse than wanted, else with 3 where a device was not read."""
    if worse:
        sys.exit(1)
    if devices.not_read:
        sys.exit(3)


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
    """Write lines and trees to standard output, in colour where it is a terminal."""
    from rich.console import Console
    from rich.text import Text

    from ovek.render.lines import WIDTH

    console = Console(file=sys.stdout, width=WIDTH, highlight=False, markup=False, emoji=False)
    for line in lines:
        if isinstance(line, str):
            sys.stdout.write(f"{line}\n")
        elif isinstance(line, Text):
            if console.is_terminal:
                console.print(line, soft_wrap=True)
            else:
                sys.stdout.write(f"{line.plain.rstrip()}\n")
        else:
            with console.capture() as captured:
                console.print(line)
            shown = captured.get().splitlines()
            sys.stdout.write("".join(f"{each.rstrip()}\n" for each in shown))
    sys.stdout.flush()

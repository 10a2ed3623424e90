"""What several commands share: options, the devices they name, and writing results out."""

import re
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from difflib import get_close_matches
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import Judge, judge_for
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.snapshot import read_snapshot
from ovek.model.finding import SEVEREST_FIRST, Severity
from ovek.model.size import SizeError, parse_size
from ovek.model.snapshot import Device

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
    type=click.Path(path_type=Path),
    help="The snapshot to look at (default: the newest in snapshots/).",
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


class Devices:
    """The devices of a snapshot, each with what its images are held against.

    `named` are names, `globs` patterns of names; none is all. `not_read` fills while the devices
    are gone through: those of the fleet that are not there.
    """

    def __init__(
        self,
        site: Site,
        snapshot: Path,
        named: Iterable[str] = (),
        globs: tuple[str, ...] = (),
    ) -> None:
        self.site, self.file = site, snapshot
        self.named, self.globs = tuple(dict.fromkeys(named)), globs
        self.missing = {device.name for device in site.fleet.device}
        self._judges: dict[str, Judge] = {}
        self._seen: list[str] = []
        self._any_taken = False
        self.releases = ReleaseIndex(site.releases)

    def __iter__(self) -> Iterator[tuple[Device, Judge]]:
        for device in read_snapshot(self.file):
            self.saw(device.device)
            if self.takes(device.device):
                yield device, self.judge(device)
        self.done()

    def takes(self, name: str) -> bool:
        """Whether a device is among those named."""
        if self.named and name not in self.named:
            return False
        return not self.globs or any(fnmatchcase(name, glob) for glob in self.globs)

    def saw(self, name: str) -> None:
        """Remember that the snapshot holds a device."""
        self.missing.discard(name)
        self._any_taken = self._any_taken or self.takes(name)
        if self.named or self.globs:
            self._seen.append(name)

    def done(self) -> None:
        """Raise InputError where a device that was named is not in the snapshot."""
        for name in self.named:
            if name not in self._seen:
                raise no_device(self.file, name, self._seen)
        if self.globs and not self._any_taken:
            raise no_device(self.file, " ".join(self.globs), self._seen)

    def judge(self, device: Device) -> Judge:
        """What a device's images are held against; raise InputError where it has no sheet."""
        judge = self._judges.get(device.sheet)
        if judge is None:
            sheet = self.site.sheet(device.sheet)
            if sheet is None:
                met = f"the device {device.device!r} names the sheet {device.sheet!r}, not known"
                do = f"Put {device.sheet}.toml into {self.site.folder / 'sheets'}"
                raise InputError(self.file, met, do, key="sheet")
            judge = self._judges[device.sheet] = judge_for(
                sheet, self.releases, self.site.policy.weakest_digest
            )
        return judge

    @property
    def not_read(self) -> list[str]:
        """The devices of the fleet that the snapshot does not hold, in the fleet's order."""
        return [one.name for one in self.site.fleet.device if one.name in self.missing]


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

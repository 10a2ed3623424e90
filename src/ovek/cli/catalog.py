"""`ovek catalog`: what was released, for which hardware, reached how?"""

import sys
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from difflib import get_close_matches
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import click

from ovek.app.devices import Devices, releases_of, site_context
from ovek.app.marking import mark_changes
from ovek.app.policy import contradiction, wants_of
from ovek.cli.command import Group, OneOf
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import images
from ovek.cli.options import FORMAT, SITE, snapshot_options, write_json, write_lines
from ovek.cli.say import say, tell
from ovek.engine import catalog
from ovek.engine.verdicts import Judge, JudgedDevice, judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.annotations import annotate
from ovek.files.catalog import read_catalog, sorted_out, write_catalog
from ovek.files.errors import InputError
from ovek.files.importers import importer_of, table
from ovek.files.importers.interface import Importer
from ovek.files.names import shown_name
from ovek.files.site import Site
from ovek.model.annotation import Annotation
from ovek.model.catalog import Origin, Published, Status, Track
from ovek.model.choice import CatalogMistake, Pick
from ovek.model.digest import LENGTHS
from ovek.model.naming import Naming
from ovek.model.snapshot import Device

if TYPE_CHECKING:
    from rich.console import RenderableType


@click.group("catalog", cls=Group)
def command() -> None:
    """What was released, for which hardware, reached how?"""


def _columns(ctx: click.Context, param: click.Parameter, values: tuple[str, ...]) -> dict[str, str]:
    said = {}
    for value in values:
        meaning, equals, title = value.partition("=")
        if not equals or meaning not in table.MEANINGS:
            known = ", ".join(table.MEANINGS)
            raise click.BadParameter(f"{value!r} is not MEANING=TITLE; meanings are: {known}")
        said[meaning] = title
    return said


@command.command(
    "import",
    examples=(
        "catalog import catalog/stick.md5 --look",
        "catalog import catalog/stick.md5 --name sticks --own",
    ),
)
@click.argument("file", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--name", help="The catalog to write (default: the first file's name).")
@click.option("--publisher", help="Who published what the files list.")
@click.option(
    "--column",
    multiple=True,
    callback=_columns,
    metavar="MEANING=TITLE",
    help="Which column of a CSV file means what, like file=Image.",
)
@click.option("--own", is_flag=True, help="A list of your own copies: it proves nothing by itself.")
@click.option(
    "--algorithm",
    type=OneOf(list(LENGTHS)),
    help="What the digests of a list without labels are, where their length does not tell.",
)
@click.option("--look", is_flag=True, help="Only show what is understood; write nothing.")
@click.option("--yes", is_flag=True, help="Take what had to be guessed without asking.")
@SITE
def import_command(
    file: tuple[Path, ...],
    name: str | None,
    publisher: str | None,
    column: dict[str, str],
    own: bool,
    algorithm: str | None,
    look: bool,
    yes: bool,
    site_folder: Path,
) -> None:
    """Take releases from each FILE into catalog/NAME.json of the site.

    Reads ovek.catalog/1, digest lists (two columns or BSD-tagged), a bare digest in a side file
    named after the image, CSV with a header, Metalink 4, and text pasted from a release page. What
    was understood is shown first; a table or pasted text is taken only with a yes. With --own it is
    a list of your own copies: what equals one is `matched`, and policy says whether that counts.
    """
    site = Site(site_folder)
    name = name or shown_name(file[0]).partition(".")[0]
    if Path(name).name != name or name.startswith(".") or not name.isprintable():
        raise click.UsageError(f"{name!r} cannot be the name of a catalog")
    target = site.folder / "catalog" / f"{name}.json"
    if target.exists() and not look:
        raise InputError(target, "is there already", "Give another --name, or remove it")
    entries: list[Published] = []
    guessed = False
    for each in file:
        importer = None if each.suffix == ".json" else importer_of(each)
        said = {**column, **({"algorithm": algorithm} if algorithm is not None else {})}
        lines = read_catalog(each) if importer is None else importer.read(each, said)
        found, bad = sorted_out(lines)
        for error in bad:
            tell(f"{error!s} That line is left out.")
        guessed = guessed or (importer is not None and importer.guessed)
        _show_understood(each, found, importer, column)
        entries += found
    if look:
        return
    if guessed and not yes and not _agreed():
        raise InputError(file[0], "had to be guessed", "Look it over, then add --yes")
    kept = _merged(entries)
    today = datetime.now(UTC).date()
    source = f"{', '.join(map(shown_name, file))}, imported {today}"
    publishers = {entry.publisher for entry in kept} - {None}
    told = publisher or (publishers.pop() if len(publishers) == 1 else None)
    write_catalog(target, kept, source, told, today, "own" if own else "publisher")
    mark_changes(Site(site_folder))
    say(f"{target} is written. See: ovek catalog check")


def _show_understood(
    file: Path, found: list[Published], importer: Importer | None, column: dict[str, str]
) -> None:
    from ovek.render.catalog import understood
    from ovek.render.lines import hanging

    write_lines(hanging("", f"{file}:", indent=0))
    if importer is not None and (told := importer.understood(file, column)):
        write_lines(hanging("Columns:", told, indent=9))
    write_lines(understood(found, importer.kind if importer is not None else "ovek.catalog/1"))


def _agreed() -> bool:
    return sys.stdin.isatty() and click.confirm("Is that right?", err=True)


def _merged(entries: list[Published]) -> list[Published]:
    """Leave out what is said twice over: the same release with the same facts."""
    seen: dict[tuple[Any, str | None], Published] = {}
    for entry in entries:
        seen.setdefault((repr(entry.release), entry.publisher), entry)
    return list(seen.values())


def _answer(
    format_: str,
    lists: str,
    as_json: Callable[[], dict[str, Any]],
    lines: Callable[[], "Iterable[RenderableType]"],
) -> None:
    """Write a result in the form that was asked for; `lists` is its list in JSON."""
    if format_ in ("json", "jsonl"):
        write_json(as_json(), format_, lists)
    else:
        write_lines(lines())


@command.command("list", examples=("catalog list", "catalog list --format jsonl"))
@SITE
@FORMAT
def list_command(site_folder: Path, format_: str) -> None:
    """List every known release."""
    from ovek.render import catalog as render
    from ovek.render import json

    site = Site(site_folder)
    found = releases_of(site).releases
    context = site_context(site)
    told = lambda: json.releases(context, found)  # noqa: E731
    _answer(format_, "releases", told, lambda: render.listing(found))


@command.command("find", examples=("catalog find 7.4.2", "catalog find OX40-24F"))
@click.argument("text", shell_complete=images)
@SITE
@FORMAT
def find_command(text: str, site_folder: Path, format_: str) -> None:
    """Find releases by name, version, hardware model, or a digest or its beginning.

    Exit code 1 where there is none.
    """
    from ovek.render import catalog as render
    from ovek.render import json

    site = Site(site_folder)
    found = catalog.find(releases_of(site), text)
    context = site_context(site)
    told = lambda: json.releases(context, found)  # noqa: E731
    _answer(format_, "releases", told, lambda: render.listing(found))
    if not found:
        sys.exit(1)


@command.command(
    "show",
    examples=("catalog show ox40-full-7.4.2.img", "catalog show tv8_5.1.4.tvf --format json"),
)
@click.argument("file", shell_complete=images)
@SITE
@FORMAT
def show_command(file: str, site_folder: Path, format_: str) -> None:
    """Show all that is known of the release FILE, and who told it."""
    from ovek.render import catalog as render
    from ovek.render import json

    site = Site(site_folder)
    releases = releases_of(site)
    found = [*releases.named(file, case_blind=True)]
    found += [one for one in releases.ours if one.file.casefold() == file.casefold()]
    if not found:
        met = f"no source there tells of {file!r}"
        near = get_close_matches(file, releases.by_name, n=1)
        do = f"Did you mean {near[0]!r}?" if near else "See: ovek catalog find TEXT"
        raise InputError(site.folder / "catalog", met, do)
    _answer(
        format_,
        "releases",
        lambda: json.releases(site_context(site), found),
        lambda: (line for one in found for line in render.whole(one)),
    )


@command.command("check", examples=("catalog check", "catalog check --format json"))
@SITE
@FORMAT
def check_command(site_folder: Path, format_: str) -> None:
    """What is wrong in the catalog? Exit code 1 where something is."""
    from ovek.render import catalog as render
    from ovek.render import json

    site = Site(site_folder)
    releases = releases_of(site)
    sheets = (site.sheet(name) for name in site.sheet_names)
    namings = [Naming(sheet) for sheet in sheets if sheet is not None]
    today = datetime.now(UTC).date()
    found = list(catalog.mistakes(releases, today, namings, site.releases))
    found += list(catalog.unused(site.annotations, releases))
    found += [_dropped(error) for error in site.left_out]
    number = len(releases.releases)
    told = lambda: json.catalog_check(site_context(site), found)  # noqa: E731
    _answer(format_, "mistakes", told, lambda: render.check(found, number))
    if found:
        sys.exit(1)


def _dropped(error: InputError) -> CatalogMistake:
    """A line of a list that could not be read, as a mistake."""
    name, line = Path(error.file).name, error.line or 1
    return CatalogMistake(
        kind="line-left-out", file=name, origins=(Origin(name, line),), saw=error.met, do=error.do
    )


def _given(ctx: click.Context, param: click.Parameter, value: str | None) -> str | None:
    if value is not None and not value.strip():
        raise click.BadParameter("is empty; leave it out, or say what it is")
    return value


@command.command(
    "annotate",
    examples=(
        "catalog annotate 'ox40-full-*' --hardware 'OX40*' --look",
        "catalog annotate tv8_5.1.4.tvf --version 5.1.4 --look",
    ),
)
@click.argument("glob", shell_complete=images)
@click.option(
    "--hardware", multiple=True, metavar="GLOB", help="Models that the files are for; repeatable."
)
@click.option("--version", metavar="VERSION", callback=_given, help="The version of the files.")
@click.option("--variant", metavar="NAME", callback=_given, help="The variant of the files.")
@click.option("--status", type=OneOf(list(get_args(Status))), help="What the publisher says.")
@click.option("--track", type=OneOf(list(get_args(Track))), help="The track of the files.")
@click.option(
    "--size", type=click.IntRange(1), metavar="BYTES", help="The size of the one file, in bytes."
)
@click.option("--look", is_flag=True, help="Only show which releases it is for; write nothing.")
@SITE
def annotate_command(
    glob: str,
    hardware: tuple[str, ...],
    version: str | None,
    variant: str | None,
    status: Status | None,
    track: Track | None,
    size: int | None,
    look: bool,
    site_folder: Path,
) -> None:
    """Say what a list does not: for which hardware the files of GLOB are, their version or size.

    It is kept in catalog/annotations.toml, apart from what was imported, so that a list can be
    imported again. What is said here counts before what a list says. What was said of the same
    GLOB before stays, unless it is said anew.
    """
    site = Site(site_folder)
    if not (hardware or version or variant or status or track or size):
        raise click.UsageError(
            "give at least one of --hardware, --version, --variant, --status, --track, --size"
        )
    releases = releases_of(site)
    files = [one for one in (*releases.releases, *releases.ours) if fnmatchcase(one.file, glob)]
    if not files:
        near = get_close_matches(glob, releases.by_name, n=1)
        do = f"Did you mean {near[0]!r}?" if near else "See: ovek catalog list"
        raise InputError(site.folder / "catalog", f"no release has a file name like {glob!r}", do)
    if size is not None and len({one.file for one in files}) > 1:
        raise click.UsageError(f"--size is for one file, and {glob} matches {len(files)}")
    annotation = Annotation(
        files=glob,
        hardware=hardware or None,
        version=version,
        variant=variant,
        status=status,
        track=track,
        size=size,
    )
    from ovek.render.lines import count, hanging

    names = ", ".join(dict.fromkeys(one.file for one in files))
    write_lines(hanging(f"{glob} is {count(len(files), 'release')}: ", names, indent=2))
    if look:
        return
    target = annotate(site.folder / "catalog", annotation)
    mark_changes(site)
    say(f"{target} is written. See: ovek catalog list")


@command.command(
    "path", examples=("catalog path brack-slip --to 7.4.2", "catalog path 7.2.5 --to 7.4.2")
)
@click.argument("start", metavar="DEVICE|VERSION")
@click.option("--to", "target", required=True, metavar="VERSION", help="The version wanted.")
@snapshot_options()
def path_command(
    start: str, target: str, site_folder: Path, snapshot_file: str | None, format_: str
) -> None:
    """Name the shortest chain of direct upgrades from a device's version, or a version.

    Exit code 1 where there is none; it says which link is missing.
    """
    from ovek.render import catalog as render
    from ovek.render import json

    site = Site(site_folder)
    releases = releases_of(site).releases
    if any(device.name == start for device in site.fleet.device):
        devices = Devices(site, site.state(snapshot_file), [start])
        device, judge = _one(devices)
        if device.running.version is None:
            met = f"does not know which version {start!r} runs"
            raise InputError(devices.file, met, "Give the version instead of the device")
        judged = judge_device(device, judge)
        try:
            way = catalog.way(judged, target, wants_of(site).of(judged))
        except ContradictionError as error:
            raise contradiction(site, error) from None
        except catalog.NoSuchVersionError as error:
            raise _no_such_version(site, error) from None
    else:
        try:
            way = catalog.path(releases, start, target)
        except catalog.NoSuchVersionError as error:
            raise _no_such_version(site, error) from None
    told = lambda: json.upgrade_path(site_context(site), way)  # noqa: E731
    _answer(format_, "hops", told, lambda: render.upgrade_path(way))
    if way.steps is None:
        sys.exit(1)


def _no_such_version(site: Site, error: catalog.NoSuchVersionError) -> InputError:
    """The error that no source lists a version."""
    do = f"Did you mean {' or '.join(error.near)}?" if error.near else "See: ovek catalog list"
    return InputError(site.folder / "catalog", f"no source lists version {error.version!r}", do)


@command.command(
    "pick", examples=("catalog pick brack-slip", "catalog pick arle-wifi --format json")
)
@click.argument("device", shell_complete=complete_devices)
@snapshot_options()
def pick_command(device: str, site_folder: Path, snapshot_file: str | None, format_: str) -> None:
    """Which release is the one for DEVICE, why are the others not, and which parts go with it?

    Exit code 1 where no release is, or no way to it is known.
    """
    from ovek.render import catalog as render
    from ovek.render import json

    site = Site(site_folder)
    _, found = chosen_for(site, device, snapshot_file)
    told = lambda: json.pick(site_context(site), found)  # noqa: E731
    _answer(format_, "others", told, lambda: render.pick(found))
    if found.chosen is None or found.path is None or found.path.hops is None:
        sys.exit(1)


def chosen_for(
    site: Site, device: str, snapshot_file: str | None = None
) -> tuple[JudgedDevice, Pick]:
    """The release for a device of a snapshot, the newest by default, as policy wants it."""
    devices = Devices(site, site.state(snapshot_file), [device])
    one, judge = _one(devices)
    judged = judge_device(one, judge)
    try:
        wanted = wants_of(site).of(judged)
    except ContradictionError as error:
        raise contradiction(site, error) from None
    return judged, catalog.pick(judged, wanted)


def _one(devices: Devices) -> tuple[Device, Judge]:
    """The one device that was named; raise InputError where it was never read."""
    for device, judge in devices:
        return device, judge
    unread = devices.not_read[0]
    raise InputError(devices.file, f"holds no line of {unread.device}: {unread.why}", unread.do)

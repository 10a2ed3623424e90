"""`ovek shelf`: are the files on the server or stick what was released?"""

import sys
from collections.abc import Collection, Iterable, Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.cli.command import Command
from ovek.cli.completing import devices as complete_devices
from ovek.cli.options import (
    FORMAT,
    SITE,
    Devices,
    releases_of,
    site_context,
    write_json,
    write_lines,
)
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import on_option
from ovek.engine.bootwalk import walk_device
from ovek.engine.offers import offer
from ovek.engine.releases import ReleaseIndex
from ovek.engine.shelf import Use, UsedBy, judge_shelf, uses
from ovek.engine.verdicts import judge_device
from ovek.files.backups import backups_in
from ovek.files.catalog import OPENED, keep_opened
from ovek.files.errors import InputError
from ovek.files.importers.digestlist import line_of
from ovek.files.importers.sidefile import normalised
from ovek.files.regular import opened
from ovek.files.sheets import sheet_names
from ovek.files.site import Site
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, STRONGEST_FIRST, TITLES, Algorithm, Digests, algorithm_of
from ovek.model.naming import Naming
from ovek.model.shelf import Offer, ShelfFacts, ShelfFile, ShelfVerdict
from ovek.render.visible import visible


@click.command("shelf", cls=Command, examples=("shelf stick", "shelf stick --fits brack-slip"))
@click.argument("folder", required=False, type=click.Path(path_type=Path))
@click.option("--expect", metavar="DIGEST", help="Compare one file with this digest instead.")
@click.option(
    "--write-list",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Write a digest list of the folder; the ending (.md5, .sha512, …) says which digest.",
)
@click.option(
    "--fits",
    metavar="DEVICE",
    shell_complete=complete_devices,
    help="Which of the files are for this device?",
)
@click.option("--fresh", is_flag=True, help="Digest again what is known from before.")
@click.option("-v", "--verbose", is_flag=True, help="Name files that are no images, too.")
@on_option
@SITE
@FORMAT
def command(
    folder: Path | None,
    expect: str | None,
    write_list: Path | None,
    fits: str | None,
    fresh: bool,
    verbose: bool,
    on: str | None,
    site_folder: Path,
    format_: str,
) -> None:
    """Are the files in FOLDER (default: the site's shelf/) what was released?

    Digests every file, looks into archives without unpacking them, checks what a file's own format
    promises, and says which devices use it. With --expect, FOLDER is one file. Exit code 1 where a
    file is altered, cut short, broken inside or bears another release's name; with --fits, where
    the one for the device has no proven copy.
    """
    if expect is not None:
        if folder is None:
            raise click.UsageError("say which file: ovek shelf --expect DIGEST FILE")
        _expect(folder, expect)
        return
    site = Site(site_folder)
    folder = folder if folder is not None else site.folder / "shelf"
    if not folder.is_dir():
        raise InputError(folder, "is no folder", "Name one: ovek shelf FOLDER")
    releases = releases_of(site)
    used_by = _used_by(site)
    algorithms = _algorithms(releases, write_list, used_by.algorithms)
    files = _read(folder, algorithms, fresh=fresh, on=on)
    if write_list is not None:
        _write_list(write_list, folder, files)
    found = list(_judged(site, files, releases, used_by))
    _keep_opened(site, releases, found)
    offered = _offer(site, fits, found) if fits is not None else None
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        whole = json.shelf(site_context(site), str(folder), found, offered)
        write_json(whole, format_, "files")
    elif offered is not None:
        from ovek.render.shelf import offer as told

        write_lines(told(offered))
    else:
        from ovek.render.shelf import shelf

        write_lines(shelf(found, verbose=verbose))
    if offered is not None:
        sys.exit(0 if offered.good is not None else 1)
    if any(
        one.verdict in ("altered", "cut-short")
        or one.named is not None
        or (one.structure is not None and not one.structure.sound and one.verdict != "proven")
        for one in found
    ):
        sys.exit(1)
    if any(one.problem is not None for one in found):
        sys.exit(3)


def _keep_opened(site: Site, releases: ReleaseIndex, found: Iterable[ShelfVerdict]) -> None:
    """Keep in catalog/ what proven archives contain, so that it proves files on flash, too."""
    opened = []
    for one in found:
        known = releases.named(one.release or "", case_blind=False)
        if one.verdict != "proven" or not one.contains or len(known) != 1 or known[0].contains:
            continue
        told = [fact for fact in one.digests if fact[0] in known[0].digests]
        contents = Release(file=known[0].file, digests=Digests(**dict(told)), contains=one.contains)
        opened.append(Published(contents, Origin(one.path, 1)))
    if not opened:
        return
    try:
        news = keep_opened(site.folder / "catalog", opened, datetime.now(UTC).date())
    except InputError as error:
        click.echo(f"ovek: {visible(str(error))} What archives contain is not kept.", err=True)
        return
    if news:
        names = ", ".join(visible(entry.release.file) for entry in opened)
        click.echo(f"ovek: what {names} contains is kept in catalog/{OPENED}.", err=True)


def _offer(site: Site, name: str, found: Iterable[ShelfVerdict]) -> Offer:
    """Hold the shelf against one device of the newest snapshot."""
    from ovek.cli.catalog import chosen_for

    judged, chosen = chosen_for(site, name)
    return offer(judged, chosen, found)


SHELVES = click.option(
    "--shelf",
    "shelves",
    multiple=True,
    metavar="FOLDER",
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="A folder that images came through after the site's shelf/ (a laptop, a stick), in order.",
)


def shelves_of(site: Site, more: Iterable[Path]) -> Iterator[tuple[str, Path]]:
    """Go through the site's shelf, where it keeps one, and more folders: what to call each."""
    own = site.folder / "shelf"
    if own.is_dir():
        yield "shelf", own
    yield from ((str(folder), folder) for folder in more)


def judged_shelf(
    site: Site, releases: ReleaseIndex, folder: Path, also: Iterable[Algorithm] = ()
) -> list[ShelfVerdict]:
    """Read a folder of images and judge it, from the cache where nothing changed.

    `also` are algorithms to digest by that no source asks for.
    """
    files = _read(folder, _algorithms(releases, None, also), fresh=False)
    return list(_judged(site, files, releases, UsedBy()))


def _judged(
    site: Site,
    files: list[ShelfFile],
    releases: ReleaseIndex,
    used_by: UsedBy,
) -> Iterator[ShelfVerdict]:
    weakest, own = site.policy.weakest_digest, "own" in site.policy.accepts
    return judge_shelf(files, releases, _namings(site), used_by, weakest, accepts_own=own)


def shelf_facts(
    site: Site, releases: ReleaseIndex, devices: Collection[str] = ()
) -> ShelfFacts | None:
    """What the site's shelf holds, by digest; None where the site keeps no shelf.

    Configuration backups are looked for of these devices, where policy says what they are called.
    """
    folder = site.folder / "shelf"
    if not folder.is_dir():
        return None
    proven, broken = set[str](), dict[str, str]()
    for one in judged_shelf(site, releases, folder):
        digests = [digest for _, digest in one.digests]
        if one.verdict == "proven":
            proven.update(digests)
        if one.structure is not None and not one.structure.sound:
            broken.update(dict.fromkeys(digests, f"broken inside: {one.structure.why}"))
    pattern = site.policy.backups
    backups = backups_in(folder, pattern, devices) if pattern is not None else None
    return ShelfFacts(proven=frozenset(proven), broken=broken, backups=backups)


def _namings(site: Site) -> list[Naming]:
    sheets = (site.sheet(name) for name in sheet_names(site.folder))
    return [Naming(sheet) for sheet in sheets if sheet is not None]


def _expect(file: Path, digest: str) -> None:
    """Compare one file with a pasted digest."""
    from ovek.render.shelf import expectation
    from ovek.sources.shelf import digest_stream

    wanted = normalised(digest)
    algorithm = algorithm_of(wanted)
    if algorithm is None or set(wanted) - set("0123456789abcdef"):
        lengths = ", ".join(f"{LENGTHS[name]} ({TITLES[name]})" for name in reversed(LENGTHS))
        raise click.BadParameter(
            f"it has {len(wanted)} characters; a digest is hex and as long as {lengths}",
            param_hint="--expect",
        )
    try:
        with opened(file) as stream:
            _, digests = digest_stream(stream, [algorithm], lambda size: None)
    except OSError as error:
        raise cannot_read(file, error) from None
    made = dict(digests)[algorithm]
    write_lines(expectation(str(file), algorithm, wanted, made))
    if made != wanted:
        sys.exit(1)


def _algorithms(
    releases: ReleaseIndex, write_list: Path | None, also: Iterable[Algorithm] = ()
) -> tuple[Algorithm, ...]:
    """The algorithms that the catalog can use, that of the list to write, others; else SHA-256."""
    wanted = {name for one in releases.releases for name in one.digests} | set(also)
    if write_list is not None:
        wanted.add(_algorithm_of_list(write_list))
    return tuple(name for name in STRONGEST_FIRST if name in wanted) or ("sha256",)


def _algorithm_of_list(file: Path) -> Algorithm:
    for name in STRONGEST_FIRST:
        if file.suffix.lower() == f".{name}":
            return name
    known = ", ".join(f".{name}" for name in STRONGEST_FIRST)
    raise click.BadParameter(f"{file.name!r} has to end in {known}", param_hint="--write-list")


def _read(
    folder: Path, algorithms: tuple[Algorithm, ...], *, fresh: bool, on: str | None = None
) -> list[ShelfFile]:
    """Digest the folder, with a bar on standard error where that is a terminal.

    `on` are the workers that do it, where some do. Raises InputError.
    """
    from platformdirs import user_cache_path

    from ovek.sources.shelf import Cache, files_of, read_shelf

    cache = Cache(user_cache_path("ovek") / "shelf.json", fresh=fresh)
    resolved = folder.resolve()
    with ExitStack() as stack:
        size = sum(file.lstat().st_size for file in files_of(resolved))
        advance = stack.enter_context(bytes_bar(size))
        number, elsewhere = None, None
        if on is not None:
            from ovek.cli.cluster import calls

            number, elsewhere = stack.enter_context(calls(on))
        files = read_shelf(resolved, algorithms, cache, advance, number, elsewhere)
    if (told := cache.save()) is not None:
        click.echo(f"ovek: {visible(told)}", err=True)
    return files


def _write_list(file: Path, folder: Path, files: list[ShelfFile]) -> None:
    """Write the names as the folder has them, so that a checksum program finds each."""
    from ovek.sources.shelf import names_in

    algorithm, names = _algorithm_of_list(file), names_in(folder.resolve())
    lines = [
        line_of(digest, names.get(one.path, one.path))
        for one in files
        if (digest := _known(one.digests, algorithm)) is not None
    ]
    write_whole(file, ["".join(lines).encode("utf-8", "surrogateescape")])


def _known(digests: Digests, algorithm: Algorithm) -> str | None:
    return dict(digests).get(algorithm)


def _used_by(site: Site) -> UsedBy:
    """Which devices of the newest snapshot run or start each image."""
    if not any((site.folder / "snapshots").glob("*.jsonl")):
        return UsedBy()
    found: list[Use] = []
    for device, judge in Devices(site, site.state()):
        judged = judge_device(device, judge)
        found += uses(judged, walk_device(judged))
    return UsedBy(found)

"""The shelves of a site: what lies on each, judged, and what of it the audit and plans need."""

import logging
from collections.abc import Collection, Iterable, Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path

from msgspec.structs import replace

from ovek.app.devices import Devices
from ovek.app.means import Bar, Runner, shown
from ovek.app.runner import here
from ovek.engine.bootwalk import walk_device
from ovek.engine.releases import ReleaseIndex
from ovek.engine.shelf import Use, UsedBy, judge_shelf, signed, uses
from ovek.engine.verdicts import judge_device, proof_rule
from ovek.files.backups import backups_among, backups_in, together
from ovek.files.safe_open import refuse_leaving
from ovek.files.shelves import read_record, records
from ovek.files.site import Site
from ovek.model.digest import STRONGEST_FIRST, Algorithm, Digests
from ovek.model.naming import Naming
from ovek.model.shelf import ShelfFacts, ShelfFile, ShelfRecord, ShelfVerdict

_LOG = logging.getLogger(__name__)


def judged_shelves(
    site: Site,
    releases: ReleaseIndex,
    more: Iterable[Path],
    also: Iterable[Algorithm] = (),
    bar: Bar | None = None,
    *,
    signatures: bool = False,
) -> Iterator[tuple[str, list[ShelfVerdict], datetime | None]]:
    """Go through all shelves, judged: the name of each, and when it was read, if that was before.

    Folders and archives are read now; of a server it is known what the last look saw. With
    `signatures` those beside files of folders are checked.
    """

    def judge_folder(folder: Path) -> list[ShelfVerdict]:
        judged = judged_shelf(site, releases, folder, also, bar)
        return with_signatures(site, releases, folder, judged) if signatures else judged

    also, own = list(also), site.folder / "shelf"
    refuse_leaving(own)
    if own.is_dir():
        yield "shelf", judge_folder(own), None
    for shelf in site.head.shelf:
        place = site.folder / Path(shelf.at).expanduser()
        if shelf.is_local and place.exists():
            refuse_leaving(place)
            yield shelf.name, judge_folder(place), None
        elif (record := read_record(site.folder, shelf)) is not None:
            judged = judged_files(site, trusted_files(site, record), releases, UsedBy())
            yield shelf.name, list(judged), record.read_at
    for folder in more:
        yield str(folder), judge_folder(folder), None


def trusted_files(site: Site, record: ShelfRecord) -> list[ShelfFile]:
    """The files of a record; digests by a server's own word only while policy trusts that."""
    if site.policy.server_digests:
        return list(record.files)
    return [replace(file, digests=Digests()) if file.by_word else file for file in record.files]


def judged_shelf(
    site: Site,
    releases: ReleaseIndex,
    folder: Path,
    also: Iterable[Algorithm] = (),
    bar: Bar | None = None,
) -> list[ShelfVerdict]:
    """Read a folder or an archive of images and judge it, from the cache where nothing changed.

    `also` are algorithms to digest by that no source asks for.
    """
    algorithms = algorithms_of(releases, also)
    if folder.is_file():
        files = files_in_archive(folder, algorithms, bar)
    else:
        files = files_in_folder(folder, algorithms, bar)
    return list(judged_files(site, files, releases, UsedBy()))


def with_signatures(
    site: Site,
    releases: ReleaseIndex,
    folder: Path,
    verdicts: Iterable[ShelfVerdict],
    *,
    fresh: bool = False,
) -> list[ShelfVerdict]:
    """The files of a folder with what the signatures beside them come to. Raises InputError."""
    from ovek.files.signatures.check_cache import KeptChecks
    from ovek.files.signatures.names import ENDINGS
    from ovek.sources.shelf import names_in

    judged = list(verdicts)
    paths = {verdict.path for verdict in judged}
    signed_ones = {path for path in paths if any(path + ending in paths for ending in ENDINGS)}
    if not signed_ones or not folder.is_dir():
        return judged
    site.keyring.read()  # what is wrong with the keys is not the fault of an image
    folder = folder.resolve()
    names, checks = names_in(folder), KeptChecks(site.keyring, datetime.now(UTC), fresh=fresh)
    for number, verdict in enumerate(judged):
        if verdict.path not in signed_ones or verdict.verdict is None:
            continue
        known = releases.named(verdict.release or "", case_blind=False)
        publishers = sorted({each.publisher for each in known if each.publisher is not None})
        check = checks.check(folder / names[verdict.path], publishers)
        if check is not None:
            judged[number] = signed(verdict, check)
    checks.save()
    if checks.problem is not None:
        _LOG.warning("%s", checks.problem)
    return judged


def judged_files(
    site: Site,
    files: list[ShelfFile],
    releases: ReleaseIndex,
    used_by: UsedBy,
) -> Iterator[ShelfVerdict]:
    """Judge files of a shelf by what is known of releases, and by which devices use them."""
    return judge_shelf(files, releases, _namings(site), used_by, proof_rule(site.policy))


def shelf_facts(
    site: Site, releases: ReleaseIndex, devices: Collection[str] = (), bar: Bar | None = None
) -> ShelfFacts | None:
    """What the site's shelves hold, by digest; None where the site keeps none.

    Configuration backups are looked for of these devices, where policy says what they are called.
    """
    proven, broken = set[str](), dict[str, str]()
    pattern, backups = site.policy.backups, None
    own, read, some = site.folder / "shelf", list[tuple[str, datetime]](), set[str]()
    held, sizes, where = set[str](), dict[str, int](), dict[str, str]()
    for name, judged, seen in judged_shelves(site, releases, (), bar=bar):
        some.add(name)
        for one in judged:
            digests = [digest for _, digest in one.digests]
            held.update(digests)
            if one.verdict == "proven":
                proven.update(digests)
                for digest in digests:
                    where.setdefault(digest, one.path if seen is None else f"{name}: {one.path}")
                if one.size is not None:
                    sizes.update(dict.fromkeys(digests, one.size))
            if one.structure is not None and not one.structure.sound:
                broken.update(dict.fromkeys(digests, f"internal damage: {one.structure.why}"))
        if seen is not None:
            read.append((name, seen))
    if not some:
        return None
    unread = tuple(shelf.name for shelf in site.head.shelf if shelf.name not in some)
    if pattern is not None:
        if own.is_dir():
            backups = backups_in(own, pattern, devices)
        for record in records(site.folder, site.head.shelf):
            listed = ((file.path, file.modified) for file in record.files)
            backups = together(backups, backups_among(listed, pattern, devices))
        if unread and backups is not None:
            backups = replace(backups, whole=False)
    return ShelfFacts(
        proven=frozenset(proven),
        broken=broken,
        backups=backups,
        read=tuple(read),
        unread=unread,
        held=frozenset(held),
        sizes=sizes,
        where=where,
    )


def shelf_of(devices: Devices) -> ShelfFacts | None:
    """What the shelves of the devices' site hold, and whose backup is there. Raises InputError."""
    return shelf_facts(devices.site, devices.releases, devices.state.lines.keys(), devices.bar)


def _namings(site: Site) -> list[Naming]:
    sheets = (site.sheet(name) for name in site.sheet_names)
    return [Naming(sheet) for sheet in sheets if sheet is not None]


def algorithms_of(releases: ReleaseIndex, also: Iterable[Algorithm] = ()) -> tuple[Algorithm, ...]:
    """The algorithms that the catalog can use, and others; else SHA-256."""
    wanted = {name for one in releases.releases for name in one.digests} | set(also)
    return tuple(name for name in STRONGEST_FIRST if name in wanted) or ("sha256",)


def files_in_archive(
    file: Path, algorithms: tuple[Algorithm, ...], bar: Bar | None = None
) -> list[ShelfFile]:
    """Digest an archive; `bar` shows how far that is. Raises InputError."""
    from ovek.sources.shelf import read_file

    with shown(bar, file.stat().st_size) as advance:
        return [read_file(file, file.name, algorithms, None, advance)]


def files_in_folder(
    folder: Path,
    algorithms: tuple[Algorithm, ...],
    bar: Bar | None = None,
    *,
    fresh: bool = False,
    runner: Runner = here,
) -> list[ShelfFile]:
    """Digest a folder; `bar` shows how far that is, `fresh` digests again what is known.

    `runner` is where that is done. Raises InputError.
    """
    from ovek.files.cache import cache_folder
    from ovek.sources.shelf import Cache, files_of, read_shelf

    cache = Cache(cache_folder() / "shelf.json", fresh=fresh)
    resolved = folder.resolve()
    with ExitStack() as stack:
        size = sum(file.lstat().st_size for file in files_of(resolved))
        advance = stack.enter_context(shown(bar, size))
        number, elsewhere = stack.enter_context(runner.calls())
        files = read_shelf(resolved, algorithms, cache, advance, number, elsewhere)
    if (told := cache.save()) is not None:
        _LOG.warning("%s", told)
    return files


def used_by(site: Site) -> UsedBy:
    """Which devices of the newest snapshot run or start each image."""
    if not any((site.folder / "snapshots").glob("*.jsonl")):
        return UsedBy()
    used: list[Use] = []
    for device, judge in Devices(site, site.state()):
        judged = judge_device(device, judge)
        used += uses(judged, walk_device(judged))
    return UsedBy(used)

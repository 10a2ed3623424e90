"""What was released: take it in, look it up, check it, and choose for a device."""

import logging
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from difflib import get_close_matches
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict, replace

from ovek.app.devices import Devices, releases_of, site_context
from ovek.app.marking import mark_changes
from ovek.app.policy import contradiction, wants_of
from ovek.engine import catalog
from ovek.engine.verdicts import JudgedDevice
from ovek.engine.wanted import ContradictionError
from ovek.files.annotations import annotate as write_annotation
from ovek.files.catalog import OWN, read_catalog, sorted_out, write_catalog
from ovek.files.errors import InputError
from ovek.files.importers.known import importer_of
from ovek.files.importers.pasted import KIND as PASTED
from ovek.files.importers.table import MEANINGS as COLUMNS
from ovek.files.names import shown_name
from ovek.files.signatures.check import check_list
from ovek.files.signatures.record import keep_check
from ovek.files.site import Site
from ovek.model.annotation import Annotation
from ovek.model.catalog import Origin, Published
from ovek.model.choice import CatalogMistake, Pick
from ovek.model.naming import Naming
from ovek.model.results.catalog import (
    CatalogCheck,
    PickedFor,
    Releases,
    Understood,
    UpgradePath,
    WholeReleases,
)
from ovek.model.signature import REFUSED, REMEDIES, SignatureCheck, SignatureState
from ovek.model.signature import TITLES as SIGNATURES
from ovek.model.usage import UsageError
from ovek.model.verdict import KnownRelease

__all__ = ["COLUMNS"]
_LOG = logging.getLogger(__name__)


class ImportTerms(Struct, frozen=True, kw_only=True):
    """How lists are taken into a catalog.

    `columns` says which column of a CSV file means what, `own` that it is a list of own copies,
    `algorithm` what digests are where nothing tells. `signature` is the file with the signature of
    the one list, where it does not lie beside it; `accept` are states of a signature, other than
    good, with which a list is taken all the same, as unsigned.
    """

    publisher: str | None = None
    columns: Mapping[str, str] = {}
    own: bool = False
    algorithm: str | None = None
    signature: Path | None = None
    accept: Collection[SignatureState] = ()


def import_catalog(
    site: Site,
    files: Sequence[Path],
    *,
    name: str | None = None,
    terms: ImportTerms | None = None,
    look: bool = False,
    understood: Callable[[Understood], None] | None = None,
    agreed: Callable[[], bool] | None = None,
) -> Path | None:
    """Take releases from files into catalog/NAME.json of a site; the file, None for a `look`.

    `understood` is called with what each file is understood as, `agreed` asked whether what had to
    be guessed is right (by default it is not). Raises InputError, UsageError.

    >>> from pathlib import Path
    >>> from ovek import import_catalog, open_site
    >>> site, told = open_site("skerrow-ferries"), []
    >>> import_catalog(site, [Path("skerrow-ferries/catalog/stick.md5")], look=True,
    ...                understood=told.append)
    >>> told[0].kind
    'digest list'
    """
    terms = terms or ImportTerms()
    name = name or shown_name(files[0]).partition(".")[0]
    if Path(name).name != name or name.startswith(".") or not name.isprintable():
        raise UsageError(f"{name!r} is not a valid catalog name")
    target = site.folder / "catalog" / f"{name}.json"
    if target.name in OWN:
        raise UsageError(f"{name!r} is the name of a file that Ovek keeps; give another --name")
    if target.exists() and not look:
        raise InputError(target, "already exists", "Give another --name, or remove it")
    lists = [_read_list(site, file, terms) for file in files]
    for file, read in zip(files, lists, strict=True):
        if understood is not None:
            understood(read.understood)
        _check_signature(file, read.understood.signature, terms.accept)
    check = lists[0].understood.signature
    if len(lists) > 1 and any(one.understood.signature is not None for one in lists):
        raise UsageError("several lists, and at least one is signed: import each by itself")
    if look:
        return None
    guessed = any(one.guessed for one in lists)
    if guessed and not (agreed is not None and agreed()):
        raise InputError(
            files[0],
            "nothing imported: the columns were guessed (shown above)",
            "If they are right, run it again with --yes",
        )
    kept = _merged([entry for one in lists for entry in one.understood.entries])
    today = datetime.now(UTC).date()
    if check is not None:
        check = replace(check, checked_on=today)
    publishers = {entry.publisher for entry in kept} - {None}
    whose = terms.publisher or (publishers.pop() if len(publishers) == 1 else None)
    if whose is None and check is not None and check.good:
        whose = check.publisher
    write_catalog(
        target,
        kept,
        f"{', '.join(map(shown_name, files))}, imported {today}",
        whose,
        today,
        "own" if terms.own else "publisher",
        "pasted" if any(one.understood.kind == PASTED for one in lists) else "imported",
    )
    if check is not None:
        keep_check(target, check)
    mark_changes(Site(site.folder))
    return target


class _ListRead(Struct, frozen=True):
    """A list as it was read; `guessed` where a person has to look it over."""

    understood: Understood
    guessed: bool


def _read_list(site: Site, file: Path, terms: ImportTerms) -> _ListRead:
    """Read one file as a list, and its signature. Raises InputError."""
    importer = None if file.suffix == ".json" else importer_of(file)
    hints = {**terms.columns, **({"algorithm": terms.algorithm} if terms.algorithm else {})}
    lines = read_catalog(file) if importer is None else importer.read(file, hints)
    entries, bad = sorted_out(lines)
    for error in bad:
        _LOG.warning("%s That line is ignored.", error)
    publishers = {terms.publisher} if terms.publisher else {one.publisher for one in entries}
    check = check_list(
        file,
        site.keyring,
        datetime.now(UTC),
        terms.signature,
        publishers=sorted(name for name in publishers if name is not None),
    )
    understood = Understood(
        file=str(file),
        kind=importer.kind if importer is not None else "ovek.catalog/1",
        columns=importer.understood(file, terms.columns) if importer else "",
        entries=entries,
        signature=check,
    )
    return _ListRead(understood, importer is not None and importer.guessed)


def _check_signature(
    file: Path, check: SignatureCheck | None, accept: Collection[SignatureState]
) -> None:
    """Refuse a list whose signature is not good, unless a person accepts that state of it."""
    if check is None or check.good or check.state in accept:
        return
    do = REMEDIES[check.state]
    if check.state not in REFUSED:
        do += f"; or take the list as unsigned: --accept-signature {check.state}"
    raise InputError(file, f"{SIGNATURES[check.state]} in {check.file}: {check.why}", do)


def _merged(entries: list[Published]) -> list[Published]:
    """Leave out what is said twice over: the same release with the same facts."""
    seen: dict[tuple[Any, str | None], Published] = {}
    for entry in entries:
        seen.setdefault((repr(entry.release), entry.publisher), entry)
    return list(seen.values())


def list_releases(site: Site) -> Releases:
    """Every known release. Raises InputError."""
    return Releases(**asdict(site_context(site)), releases=releases_of(site).releases)


def find_releases(site: Site, text: str) -> Releases:
    """Releases by name, version, hardware model, or a digest or its beginning."""
    found = catalog.find(releases_of(site), text)
    return Releases(**asdict(site_context(site)), releases=found)


def show_release(site: Site, file: str) -> WholeReleases:
    """All that is known of a release. Raises InputError where no source tells of it."""
    releases = releases_of(site)
    found = [*releases.named(file, case_blind=True)]
    found += [one for one in releases.ours if one.file.casefold() == file.casefold()]
    if not found:
        text = f"has no release {file!r}"
        near = get_close_matches(file, releases.by_name, n=1)
        do = f"Did you mean {near[0]!r}?" if near else "Search with: ovek catalog find TEXT"
        raise InputError(site.folder / "catalog", text, do)
    return WholeReleases(**asdict(site_context(site)), releases=found)


def check_catalog(site: Site) -> CatalogCheck:
    """What is wrong in the catalog. Raises InputError."""
    releases = releases_of(site)
    sheets = (site.sheet(name) for name in site.sheet_names)
    namings = [Naming(sheet) for sheet in sheets if sheet is not None]
    today = datetime.now(UTC).date()
    published = [entry for entry in site.releases if not entry.refused]
    found = list(catalog.mistakes(releases, today, namings, published))
    found += list(_signatures(published))
    found += list(catalog.unused(site.annotations, releases))
    found += [_dropped(error) for error in site.left_out]
    number = len(releases.releases)
    return CatalogCheck(**asdict(site_context(site)), mistakes=found, number=number)


def _dropped(error: InputError) -> CatalogMistake:
    """A list that is not used, or a line of one that could not be read, as a mistake."""
    name, line = Path(error.file).name, error.line or 1
    kind = "line-left-out" if error.line is not None else "list-left-out"
    return CatalogMistake(
        kind=kind, file=name, origins=(Origin(name, line),), seen=error.met, do=error.do
    )


def _signatures(published: Iterable[Published]) -> Iterator[CatalogMistake]:
    """The lists that are used although their signature is not good, each once."""
    seen = set[SignatureCheck]()
    for entry in published:
        check = entry.signature
        if check is None or check.good or check in seen:
            continue
        seen.add(check)
        yield CatalogMistake(
            kind=f"signature-{check.state}",
            file=entry.origin.file,
            origins=(entry.origin,),
            seen=f"{SIGNATURES[check.state]} in {check.file}: {check.why}",
            do=REMEDIES[check.state],
        )


def annotate(
    site: Site, annotation: Annotation, *, look: bool = False
) -> tuple[list[KnownRelease], Path | None]:
    """Say of files what a list does not: the releases that it is for, and what was written.

    Raises InputError, UsageError.
    """
    releases, glob = releases_of(site), annotation.files
    files = [one for one in (*releases.releases, *releases.ours) if fnmatchcase(one.file, glob)]
    if not files:
        near = get_close_matches(glob, releases.by_name, n=1)
        do = f"Did you mean {near[0]!r}?" if near else "See: ovek catalog list"
        raise InputError(
            site.folder / "catalog", f"has no release with a file name like {glob!r}", do
        )
    if annotation.size is not None and len({one.file for one in files}) > 1:
        raise UsageError(f"--size is for one file, and {glob} matches {len(files)}")
    if look:
        return files, None
    target = write_annotation(site.folder / "catalog", annotation)
    mark_changes(site)
    return files, target


def upgrade_path(site: Site, start: str, target: str, snapshot: str | None = None) -> UpgradePath:
    """The shortest chain of direct upgrades from a device's version, or a version.

    Raises InputError.
    """
    try:
        if any(device.name == start for device in site.fleet.device):
            devices = Devices(site, site.state(snapshot), [start])
            judged = _one(devices)
            if judged.device.running.version is None:
                text = f"the running version of {start!r} is unknown"
                raise InputError(devices.file, text, "Give a version instead of the device")
            way = catalog.way(judged, target, wants_of(devices).of(judged))
        else:
            way = catalog.path(releases_of(site).releases, start, target)
    except ContradictionError as error:
        raise contradiction(site, error) from None
    except catalog.NoSuchVersionError as error:
        raise _no_such_version(site, error) from None
    return UpgradePath(**asdict(site_context(site)), route=way)


def _no_such_version(site: Site, error: catalog.NoSuchVersionError) -> InputError:
    """The error that no source lists a version."""
    do = f"Did you mean {' or '.join(error.near)}?" if error.near else "See: ovek catalog list"
    return InputError(site.folder / "catalog", f"has no version {error.version!r}", do)


def pick(site: Site, device: str, snapshot: str | None = None) -> PickedFor:
    """Which release is the one for a device, and why the others are not. Raises InputError."""
    _, chosen = chosen_for(site, device, snapshot)
    return PickedFor(**asdict(site_context(site)), pick=chosen)


def chosen_for(site: Site, device: str, snapshot: str | None = None) -> tuple[JudgedDevice, Pick]:
    """The release for a device of a snapshot, the newest by default, as policy wants it."""
    devices = Devices(site, site.state(snapshot), [device])
    judged = _one(devices)
    try:
        wanted = wants_of(devices).of(judged)
    except ContradictionError as error:
        raise contradiction(site, error) from None
    return judged, catalog.pick(judged, wanted)


def _one(devices: Devices) -> JudgedDevice:
    """The one device that was named; raise InputError where it was never read."""
    for judged in devices.judged():
        return judged
    unread = devices.not_read[0]
    raise InputError(devices.file, f"has no reading of {unread.device}: {unread.why}", unread.do)

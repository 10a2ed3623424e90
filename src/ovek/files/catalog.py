"""Catalogs: `ovek.catalog/1` (JSON) and the two-column digest lists that `md5sum` writes."""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Literal

import msgspec
import msgspec.structs

from ovek.files.annotations import NAME as ANNOTATIONS
from ovek.files.annotations import annotated, read_annotations
from ovek.files.atomic import write_whole
from ovek.files.decode import cannot_read, explain, read_bytes, text_of, too_many_digits
from ovek.files.errors import InputError
from ovek.files.importers.interface import Bad, Importer
from ovek.files.names import shown_name
from ovek.files.signatures.check import check_list, has_signature
from ovek.files.signatures.keyring import Keyring
from ovek.files.signatures.names import is_signature, signed_name
from ovek.files.signatures.record import NAME as CHECKS
from ovek.files.signatures.record import fingerprint_of, read_checks
from ovek.model.catalog import FORMAT, Origin, Published, Release, Taken, ToldBy, Trust
from ovek.model.signature import REMEDIES, TITLES, SignatureCheck, as_of_keys

OPENED = "opened.json"  # in catalog/: what archives contain, as far as the shelf has opened them
OWN = (OPENED, CHECKS)  # what Ovek keeps there


class CatalogFile(
    msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True
):
    """A catalog as it stands in a file."""

    format: Literal["ovek.catalog/1"]
    releases: tuple[Release, ...]
    publisher: str | None = None
    source: str | None = None
    trust: Trust = "publisher"
    taken: Taken = "standing"


class _Outline(msgspec.Struct, forbid_unknown_fields=True, kw_only=True):
    """A catalog with its releases left as text, so that each can tell its own line."""

    format: Literal["ovek.catalog/1"]
    releases: list[msgspec.Raw]
    publisher: str | None = None
    source: str | None = None
    trust: Trust = "publisher"
    taken: Taken = "standing"


def read_catalogs(
    folder: Path,
    left_out: list[InputError] | None = None,
    keys: Keyring | None = None,
    now: datetime | None = None,
) -> list[Published]:
    """Read every catalog and digest list of a folder, in name order; raise InputError.

    A folder that is not there holds no release. A line or release that cannot be read costs itself,
    and goes into `left_out`; a file without one that can is refused. What archives contain counts
    only while a publisher's list has the archive. The signatures of lists are checked with `keys`
    as of `now`; a list with a bad one is read, and marked as refused.
    """
    if not folder.is_dir():
        return []
    try:
        files = sorted(
            file for file in folder.iterdir() if file.is_file() and not file.name.startswith(".")
        )
    except OSError as error:
        raise cannot_read(folder, error) from None
    kept = read_checks(folder) if keys is not None else {}
    releases: list[Published] = []
    opened: list[Published] = []
    for file in files:
        if file.name in (ANNOTATIONS, CHECKS) or _lies_beside(file, files):
            continue
        entries, bad = _read(file)
        if keys is not None and now is not None:
            entries = list(_with_signature(file, entries, keys, now, kept))
            bad += _refused(file, entries[:1])
        if file.name == OPENED:
            opened = entries
        else:
            releases += entries
        if left_out is not None:
            left_out += bad
    annotations = read_annotations(folder)
    return list(annotated([*releases, *_vouched(opened, releases)], annotations))


def _vouched(opened: Sequence[Published], releases: Iterable[Published]) -> Iterator[Published]:
    """What is known of the archives of which publishers' lists give the digest, and no other."""
    published: dict[tuple[str, str], set[str]] = {}
    for entry in releases if opened else ():
        counts = entry.trust == "publisher" and not entry.refused
        for name, digest in entry.release.digests if counts else ():
            published.setdefault((entry.release.file, name), set()).add(digest)
    for entry in opened:
        parts = [
            (published.get((entry.release.file, name), set()), digest)
            for name, digest in entry.release.digests
        ]
        if parts and all(values == {digest} for values, digest in parts):
            yield entry


def sorted_out(
    entries: Iterable[Published | Bad],
) -> tuple[list[Published], list[InputError]]:
    """The releases of a list, and its lines that cannot be read; raise InputError without any."""
    entries = list(entries)
    bad = [entry.error for entry in entries if isinstance(entry, Bad)]
    found = [entry for entry in entries if not isinstance(entry, Bad)]
    if bad and not found:
        raise bad[0]
    return found, bad


def _read(file: Path) -> tuple[list[Published], list[InputError]]:
    """The releases of a file that lies in catalog/, and what of it cannot be read."""
    if is_signature(file.name) and not has_signature(file):
        text = f"is a signature, and {signed_name(file.name)} is not here"
        return [], [InputError(file, text, "Put both here")]
    if file.suffix == ".json":
        return sorted_out(read_catalog(file))
    return sorted_out(_standing(file).read(file, {}))


def _lies_beside(file: Path, files: Sequence[Path]) -> bool:
    """Whether a file of a folder is the signature of another one, and no list itself."""
    return is_signature(file.name) and file.with_name(signed_name(file.name)) in files


def _with_signature(
    file: Path,
    entries: list[Published],
    keys: Keyring,
    now: datetime,
    kept: Mapping[str, SignatureCheck],
) -> Iterator[Published]:
    """The releases of a list with what its signature comes to; whose key it is tells whose list.

    What is `kept` of the signature of an imported list counts as far as the keys still do.
    """
    checked, imported = None, kept.get(fingerprint_of(file)) if kept else None
    publishers = {entry.publisher for entry in entries if entry.publisher is not None}
    if has_signature(file):
        checked = check_list(file, keys, now, publishers=publishers)
    for entry in entries:
        check = checked
        if check is None and imported is not None:
            check = as_of_keys(imported, keys.said, entry.publisher)
        if check is None:
            yield entry
            continue
        whose = check.publisher if check.good else None
        yield msgspec.structs.replace(entry, signature=check, publisher=entry.publisher or whose)


def _refused(file: Path, entries: Iterable[Published]) -> list[InputError]:
    """Why a list is not used, if its signature is bad."""
    return [
        InputError(
            file,
            f"{TITLES[check.state]} in {check.file}: {check.why}",
            REMEDIES[check.state],
        )
        for check in (entry.signature for entry in entries if entry.refused)
        if check is not None
    ]


def _standing(file: Path) -> Importer:
    """What reads a file that lies in catalog/: nothing there is guessed. Raises InputError."""
    from ovek.files.importers.known import importer_of, importers, may_stand

    if is_signature(file.name):  # a clear-signed list
        return importer_of(file)
    if not may_stand(file):
        text = f"has the ending {file.suffix!r}, which is not a catalog format"
        lists = sorted(set[str]().union(*(importer.stands for importer in importers())))
        raise InputError(file, text, f"Give a catalog .json, a list {', '.join(lists)}")
    importer = importer_of(file)
    if file.suffix in importer.stands:
        return importer
    return next(each for each in reversed(importers()) if file.suffix in each.stands)


def read_catalog(file: Path) -> Iterator[Published | Bad]:
    """Go through the releases of one `ovek.catalog/1` file, a bad one as such; raise InputError."""
    text = text_of(file, read_bytes(file))
    if not text.strip():
        raise InputError(file, "is empty", "Fill it with a catalog, or remove it")
    try:
        outline = msgspec.json.decode(text, type=_Outline)
    except (msgspec.DecodeError, RecursionError) as error:
        raise explain(file, error, _plain(file, text), _Outline, FORMAT) from None
    data, at, line = text.encode(), 0, 1
    for number, raw in enumerate(outline.releases):
        start = data.index(bytes(raw), at)
        line += data.count(b"\n", at, start)
        at = start
        try:
            release = msgspec.json.decode(raw, type=Release)
        except (msgspec.DecodeError, RecursionError) as error:
            why = explain(file, error, _untyped(bytes(raw)), Release, FORMAT, line)
            why.key = f"releases[{number}]" + (f".{why.key}" if why.key else "")
            yield Bad(why)
            continue
        told = release.told_by
        origin = Origin(shown_name(file), line) if told is None else Origin(told.file, told.line)
        yield Published(release, origin, outline.publisher, outline.trust, outline.taken)


def _untyped(data: bytes) -> object:
    """JSON that was read once already, without types; None where it holds too large a number."""
    try:
        return json.loads(data)
    except (ValueError, RecursionError):
        return None


def _plain(file: Path, text: str) -> object:
    """Read JSON untyped; the standard library's reader tells the line of a mistake."""
    try:
        return json.loads(text)
    except json.JSONDecodeError as error:
        met = f"invalid JSON: {error.msg.lower()} (column {error.colno})"
        raise InputError(file, met, "Fix that line", line=error.lineno) from None
    except ValueError:  # more digits than Python takes for a number
        raise too_many_digits(file, text) from None
    except RecursionError:
        met = "is nested too deeply"
        raise InputError(file, met, "Check that it is a catalog", line=1) from None


def write_catalog(
    file: Path,
    entries: list[Published],
    source: str,
    publisher: str | None,
    when: date,
    trust: Trust = "publisher",
    taken: Taken = "imported",
) -> None:
    """Write imported releases as a catalog, each with where it was told; whole or not at all."""
    releases = tuple(
        msgspec.structs.replace(
            entry.release,
            told_by=ToldBy(file=entry.origin.file, line=entry.origin.line, when=when),
        )
        for entry in entries
    )
    catalog = CatalogFile(
        format="ovek.catalog/1",
        publisher=publisher,
        source=source,
        releases=releases,
        trust=trust,
        taken=taken,
    )
    text = msgspec.json.format(msgspec.json.encode(catalog), indent=1)
    write_whole(file, [text, b"\n"])


def keep_opened(folder: Path, opened: list[Published], when: date) -> bool:
    """Keep what archives contain with what is known of others; return whether that is news.

    An archive that was opened again takes the place of what was known of it. Raises InputError.
    """
    file = folder / OPENED
    known = sorted_out(read_catalog(file))[0] if file.is_file() else []
    by_name = {entry.release.file: entry for entry in known}
    news = [
        entry
        for entry in opened
        if entry.release.file not in by_name
        or by_name[entry.release.file].release.contains != entry.release.contains
    ]
    if not news:
        return False
    by_name.update({entry.release.file: entry for entry in news})
    entries = [by_name[name] for name in sorted(by_name)]
    write_catalog(file, entries, "proven archives on the shelf", None, when, taken="opened")
    return True

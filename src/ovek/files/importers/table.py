"""CSV with a header (RFC 4180): columns matched by meaning, or as they are said to be.

Commas, semicolons and tabs part cells, whichever the header has most of. A column that nobody
understands is left out, and told.
"""

import csv
import io
import re
from collections.abc import Iterator, Mapping
from pathlib import Path

from msgspec import Struct

from ovek.files.decode import list_text
from ovek.files.errors import InputError
from ovek.files.importers.interface import Bad, Importer
from ovek.files.importers.sidefile import normalised
from ovek.files.names import shown_name
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, Digests
from ovek.model.size import SizeError, parse_size

# What headers are called, in lower case and without what is no letter or digit.
MEANINGS: dict[str, frozenset[str]] = {
    "file": frozenset({"file", "filename", "name", "image", "imagename", "imagefile"}),
    "size": frozenset({"size", "bytes", "filesize", "sizebytes", "sizeinbytes", "length"}),
    "version": frozenset({"version", "release", "ver", "softwareversion"}),
    "variant": frozenset({"variant", "edition", "flavour"}),
    "publisher": frozenset({"publisher", "vendor", "maker"}),
    "hardware": frozenset({"hardware", "model", "models", "platform"}),
    "md5": frozenset({"md5", "md5sum", "md5digest", "md5checksum", "md5hash"}),
    "sha1": frozenset({"sha1", "sha1sum", "sha1digest", "sha1checksum", "sha1hash"}),
    "sha256": frozenset({"sha256", "sha256sum", "sha256digest", "sha256checksum", "sha256hash"}),
    "sha512": frozenset({"sha512", "sha512sum", "sha512digest", "sha512checksum", "sha512hash"}),
}


class Header(Struct, frozen=True):
    """What the columns of a table were taken for: meaning → position, and those left out."""

    columns: dict[str, int]
    titles: tuple[str, ...]
    left_out: tuple[str, ...]
    parted_by: str


def header_of(file: Path, said: Mapping[str, str] | None = None) -> Header:
    """Match the header by meaning; `said` maps a meaning to a column's title. Raises InputError."""
    text = list_text(file)
    first = next((line for line in text.splitlines() if line.strip()), "")
    parted_by = max(",;\t", key=first.count)
    try:
        titles = tuple(cell.strip() for cell in next(csv.reader([first], delimiter=parted_by), []))
    except csv.Error as error:
        raise InputError(file, f"invalid CSV: {error}", "Fix its header", line=1) from None
    columns: dict[str, int] = {}
    for meaning, title in (said or {}).items():
        if title not in titles:
            met = f"has no column {title!r}"
            do = f"Its columns are: {', '.join(titles)}"
            raise InputError(file, met, do, line=1)
        columns[meaning] = titles.index(title)
    for number, title in enumerate(titles):
        plain = re.sub(r"[^a-z0-9]", "", title.lower())
        for meaning, names in MEANINGS.items():
            if plain in names and meaning not in columns and number not in columns.values():
                columns[meaning] = number
    if "file" not in columns:
        met = f"has no column for the file name (its columns: {', '.join(titles) or 'none'})"
        raise InputError(file, met, "Give it: --column file=TITLE", line=1)
    left = tuple(title for number, title in enumerate(titles) if number not in columns.values())
    return Header(columns, titles, left, parted_by)


def read(file: Path, said: Mapping[str, str] | None = None) -> Iterator[Published | Bad]:
    """Go through the rows of a table; a bad one costs itself. Raises InputError."""
    header = header_of(file, said)
    text = list_text(file)
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=header.parted_by, strict=True)
    seen_header = found = False
    try:
        for cells in rows:
            if not any(cell.strip() for cell in cells):
                continue
            line = rows.line_num
            if tuple(cell.strip() for cell in cells) == header.titles:
                if seen_header:
                    met = "repeats the header"
                    raise InputError(file, met, "Keep one header", line=line)
                seen_header = True
                continue
            found = True
            try:
                yield _entry(file, line, header, cells)
            except InputError as error:
                yield Bad(error)
    except csv.Error as error:
        raise InputError(
            file, f"invalid CSV: {error}", "Fix that line", line=rows.line_num
        ) from None
    if not found:
        raise InputError(file, "has no row below its header", "Check that it is the right file")


def _entry(file: Path, line: int, header: Header, cells: list[str]) -> Published:
    if len(cells) != len(header.titles):
        text = f"has {len(cells)} cells, the header has {len(header.titles)}"
        raise InputError(file, text, "Fix that line", line=line)
    row = {meaning: cells[at].strip() for meaning, at in header.columns.items()}
    if not row["file"] or "/" in row["file"]:
        text = f"the file name is {row['file']!r}"
        raise InputError(file, text, "Use a file name without folders", line=line)
    size = None
    if row.get("size"):
        try:
            size = parse_size(re.sub(r"(?<=\d)[ ,_'](?=\d{3})", "", row["size"]))
        except SizeError as error:
            raise InputError(file, str(error), "Fix that cell", line=line, key="size") from None
    digests = {name: normalised(row[name]) for name in LENGTHS if row.get(name)}
    for name, digest in digests.items():
        if not re.fullmatch(f"[0-9a-f]{{{LENGTHS[name]}}}", digest):
            text = f"the digest has {len(digest)} characters"
            do = f"It should be {LENGTHS[name]} hex characters"
            raise InputError(file, text, do, line=line, key=name)
    release = Release(
        file=row["file"],
        size=size,
        digests=Digests(**digests),
        version=row.get("version") or None,
        variant=row.get("variant") or None,
        hardware=tuple(row["hardware"].split()) if row.get("hardware") else None,
    )
    return Published(release, Origin(shown_name(file), line), row.get("publisher") or None)


def _understood(file: Path, said: Mapping[str, str]) -> str:
    """Which column means what, and which are left out."""
    header = header_of(file, said)
    text = ", ".join(f"{header.titles[at]} is {name}" for name, at in header.columns.items())
    left = f"; ignored: {', '.join(header.left_out)}" if header.left_out else ""
    return text + left


IMPORTER = Importer(
    kind="table",
    claims=lambda file, text: file.suffix.lower() in (".csv", ".tsv"),
    read=read,
    guessed=True,
    understood=_understood,
)

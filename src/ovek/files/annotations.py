"""What a site says of releases beside what was imported: `catalog/annotations.toml`.

A digest list tells names and digests only. What is said here of the files that a glob names counts
before what their sources tell, and stays when a list is imported again.
"""

from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase
from pathlib import Path

from msgspec.structs import replace

from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes, read_toml_parts, text_of
from ovek.files.errors import InputError
from ovek.model.annotation import ANNOTATED, FORMAT, Annotation, Annotations
from ovek.model.catalog import Published

NAME = "annotations.toml"


def read_annotations(folder: Path) -> tuple[Annotation, ...]:
    """The annotations in a catalog folder; none where the file is not there.

    Raises InputError, or ManyInputError with all that is wrong.
    """
    file = folder / NAME
    return read_toml_parts(file, Annotations, FORMAT).annotation if file.exists() else ()


def annotated(
    entries: Iterable[Published], annotations: tuple[Annotation, ...]
) -> Iterator[Published]:
    """Releases with what the site says of them."""
    for entry in entries:
        facts = {
            field: value
            for one in annotations
            if fnmatchcase(entry.release.file, one.files)
            for key, field in ANNOTATED.items()
            if (value := getattr(one, key)) is not None
        }
        yield replace(entry, release=replace(entry.release, **facts)) if facts else entry


def annotate(folder: Path, said: Annotation) -> Path:
    """Say something of the files that a glob names, beside what is said already; return the file.

    What a person wrote into the file stays as it is. Raises InputError.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    file = folder / NAME
    known = read_annotations(folder)
    try:
        text = text_of(file, read_bytes(file)) if file.exists() else f'format = "{FORMAT}"\n'
        document = tomlkit.parse(text)
    except TOMLKitError as error:
        raise InputError(file, f"invalid TOML: {error}", "Fix that line") from None
    index = next((index for index, one in enumerate(known) if one.files == said.files), None)
    if index is None:
        tables = document.setdefault("annotation", tomlkit.aot())
        table = tomlkit.table()
        table.trivia.indent = "\n"
        table["files"] = said.files
        tables.append(table)
    else:
        table = document["annotation"][index]
    for key in ANNOTATED:
        value = getattr(said, key)
        if value is not None:
            table[key] = list(value) if isinstance(value, tuple) else value
    folder.mkdir(parents=True, exist_ok=True)
    write_whole(file, [tomlkit.dumps(document).encode()])
    return file

"""Metalink 4 (RFC 5854). What reads XML is loaded where there is such a document."""

import re
from collections.abc import Iterator
from pathlib import Path

from ovek.files.importers.interface import Bad, Importer
from ovek.model.catalog import Published


def read(file: Path) -> Iterator[Published | Bad]:
    """Go through the files of a Metalink document. Raises InputError."""
    import ovek.files.importers.metadocument as metadocument

    return metadocument.read(file)


IMPORTER = Importer(
    kind="Metalink",
    claims=lambda file, text: (
        file.suffix.lower() in (".meta4", ".metalink")
        or re.match(r"\s*(<\?xml|<metalink)", text) is not None
    ),
    read=lambda file, said: read(file),
    stands=frozenset({".meta4"}),
)

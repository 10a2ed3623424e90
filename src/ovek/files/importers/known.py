"""Where releases are told of: one module a format, each behind `interface.Importer`.

IMPORTERS is the one list: the first that claims a file reads it, so that the most particular stand
first and pasted text, which claims all there is, last.
"""

from pathlib import Path

from ovek.files.decode import list_text
from ovek.files.importers import digestlist, metalink, pasted, sidefile, table
from ovek.files.importers.interface import Importer

IMPORTERS: tuple[Importer, ...] = (
    metalink.IMPORTER,
    sidefile.IMPORTER,
    digestlist.IMPORTER,
    table.IMPORTER,
    pasted.IMPORTER,
)


def importer_of(file: Path) -> Importer:
    """The importer of a file, by its name and then its content. Raises InputError."""
    text = list_text(file)
    return next(importer for importer in IMPORTERS if importer.claims(file, text))


def may_stand(file: Path) -> bool:
    """Whether a file of this name may lie in catalog/ as it is."""
    return any(file.suffix in importer.stands for importer in IMPORTERS)

"""Where releases are told of: one module a format, each behind `interface.Importer`.

IMPORTERS is the one list: the first that claims a file reads it, so that the most particular stand
first and pasted text, which claims all there is, last. Those of installed packages come before.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from msgspec.structs import replace

from ovek.files.decode import list_text
from ovek.files.errors import InputError, ManyInputError
from ovek.files.importers import digestlist, metalink, pasted, sidefile, table
from ovek.files.importers.interface import Bad, Hints, Importer
from ovek.files.packages import IMPORTERS as PACKAGED
from ovek.files.packages import Brought, brought
from ovek.model.catalog import Published

IMPORTERS: tuple[Importer, ...] = (
    metalink.IMPORTER,
    sidefile.IMPORTER,
    digestlist.IMPORTER,
    table.IMPORTER,
    pasted.IMPORTER,
)


def importers() -> tuple[Importer, ...]:
    """Those of installed packages, then Ovek's own. Raises InputError where a package is broken."""
    return (*(_external(one) for one in brought(PACKAGED)), *IMPORTERS)


def _external(one: Brought) -> Importer:
    """The importer of a package, whose mistakes are told as such."""
    importer = one.load()
    if not isinstance(importer, Importer):
        raise one.wrong(f"is {type(importer).__name__}, not an Importer")

    def claims(file: Path, text: str) -> bool:
        with _told(one, file):
            return bool(importer.claims(file, text))

    def read(file: Path, said: Hints) -> Iterator[Published | Bad]:
        with _told(one, file):
            yield from importer.read(file, said)

    return replace(importer, claims=claims, read=read)


@contextmanager
def _told(one: Brought, file: Path) -> Iterator[None]:
    """Tell whatever a package raises as one message, with the file that it was about."""
    try:
        yield
    except (InputError, ManyInputError, GeneratorExit):
        raise
    except Exception as error:
        wrong = one.wrong(f"failed on {file} ({type(error).__name__}: {error})")
        raise wrong from None


def importer_of(file: Path) -> Importer:
    """The importer of a file, by its name and then its content. Raises InputError."""
    text = list_text(file)
    return next(importer for importer in importers() if importer.claims(file, text))


def may_stand(file: Path) -> bool:
    """Whether a file of this name may lie in catalog/ as it is."""
    return any(file.suffix in importer.stands for importer in importers())

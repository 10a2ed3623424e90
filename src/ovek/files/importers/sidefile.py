"""A bare digest in a side file named after the image: `IMAGE.md5`, `IMAGE.sha512`."""

import re
from collections.abc import Iterator
from pathlib import Path

from ovek.files.decode import list_text
from ovek.files.errors import InputError
from ovek.files.importers.interface import Importer
from ovek.files.names import shown_name
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import LENGTHS, TITLES, Algorithm, Digests, algorithm_of

SUFFIXES: dict[str, Algorithm] = {f".{name}": name for name in LENGTHS}
_BARE = re.compile(r"[0-9A-Fa-f](?:[\s:]?[0-9A-Fa-f])+")


def is_bare(text: str) -> bool:
    """Whether a text is one digest and nothing else; blanks and colons in it do not count."""
    return _BARE.fullmatch(text.strip()) is not None


def read(file: Path) -> Iterator[Published]:
    """Read the one digest; the image is the file's name without its ending. Raises InputError."""
    digest = normalised(list_text(file))
    algorithm, named = algorithm_of(digest), SUFFIXES.get(file.suffix.lower())
    if algorithm is None or (named is not None and algorithm != named):
        wanted = f"{LENGTHS[named]} ({TITLES[named]})" if named else "that of a known algorithm"
        text = f"the digest has {len(digest)} characters"
        raise InputError(file, text, f"Its length should be {wanted}", line=1)
    release = Release(file=file.stem, digests=Digests(**{algorithm: digest}))
    yield Published(release, Origin(shown_name(file), 1))


def normalised(digest: str) -> str:
    """A digest in lower case, without the blanks and colons that people put into it."""
    return re.sub(r"[\s:]", "", digest).lower()


IMPORTER = Importer(
    kind="side file",
    claims=lambda file, text: file.suffix.lower() in SUFFIXES and is_bare(text),
    read=lambda file, said: read(file),
    stands=frozenset(SUFFIXES),
)

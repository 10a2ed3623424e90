"""An importer: lists of releases, one a line, `FILE = ALGORITHM DIGEST`, headed `# tide list`."""

from collections.abc import Iterator
from pathlib import Path

from ovek.files.errors import InputError
from ovek.files.importers.interface import Bad, Hints, Importer
from ovek.model.catalog import Origin, Published, Release
from ovek.model.digest import Digests

HEAD = "# tide list"


def claims(file: Path, text: str) -> bool:
    """Whether a file is such a list."""
    return text.startswith(HEAD)


def read(file: Path, said: Hints) -> Iterator[Published | Bad]:
    """Go through the entries; a line that is none costs itself."""
    for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1):
        if number == 1 or not line.strip():
            continue
        name, _, rest = line.partition(" = ")
        algorithm, _, digest = rest.partition(" ")
        if not name or algorithm not in ("sha256", "sha512") or not digest:
            text, do = f"is no entry: {line!r}", "Write FILE = sha256 DIGEST"
            yield Bad(InputError(file, text, do, line=number))
            continue
        release = Release(file=name, digests=Digests(**{algorithm: digest.strip()}))
        yield Published(release=release, origin=Origin(file=file.name, line=number))


IMPORTER = Importer(kind="tide list", claims=claims, read=read, stands=frozenset({".tide"}))

"""By which names a signature lies beside what it is of."""

from pathlib import Path

ENDINGS = (".asc", ".sig", ".sign", ".p7s", ".p7", ".cms")  # behind the whole name of the file


def is_signature(name: str) -> bool:
    """Whether a file is a signature by its name."""
    return name.lower().endswith(ENDINGS)


def signed_name(name: str) -> str:
    """The name of the file that a signature of this name is of.

    >>> signed_name("sha256sums.asc")
    'sha256sums'
    """
    return name.rpartition(".")[0]


def beside(file: Path) -> list[Path]:
    """The signatures that lie beside a file, under the usual names."""
    paths = (file.with_name(file.name + ending) for ending in ENDINGS)
    return [path for path in paths if path.is_file()]

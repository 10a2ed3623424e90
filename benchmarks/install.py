"""The `install` rows: how large the package is with what it stands on.

`python benchmarks/install.py`: two fresh virtual environments, the core and all extras; without
pip itself. Needs a package index.
"""

import subprocess
import tempfile
import venv
from collections.abc import Iterator
from pathlib import Path

from measure import Row, at_most, show

TYPED, ROOT = "python benchmarks/install.py", Path(__file__).parent.parent


def size_of(folder: Path) -> float:
    """The MB of what is installed in a virtual environment, without pip."""
    (packages,) = folder.glob("lib/python*/site-packages")
    files = (each for each in packages.rglob("*") if each.is_file() and not each.is_symlink())
    return sum(
        each.stat().st_size for each in files
        if not each.relative_to(packages).parts[0].startswith(("pip", "setuptools", "wheel"))
    ) / 1e6  # fmt: skip


def rows() -> Iterator[Row]:
    """The sizes of the core and of all."""
    for extras, goal in (("", 75), ("[all]", 320)):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            venv.create(folder, with_pip=True)
            command = [folder / "bin/pip", "install", "-q", f"{ROOT}{extras}"]
            subprocess.run(command, check=True, stderr=subprocess.DEVNULL)
            size = size_of(folder)
        yield at_most(f"installed: `ovek{extras}`", goal, size, "", TYPED, " MB")


if __name__ == "__main__":
    show(rows())

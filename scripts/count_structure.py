"""How large the house is, and how many files a simple question goes through.

`python scripts/count_structure.py`: lines of each package, and the files of Ovek in which a
function is entered while `ovek audit` looks at one healthy device of the sample, not from what is
kept; what is only loaded does not count.
"""

import os
import sys
import tempfile
from pathlib import Path
from types import FrameType

import ovek
from ovek.cli import cli
from ovek.demo import write_site

ROOT = Path(ovek.__file__).parent
_DEVICE = "arle-core"


def lines(folder: Path) -> int:
    """The lines of Python below a folder."""
    return sum(len(file.read_text().splitlines()) for file in folder.rglob("*.py"))


def entered(site: Path) -> set[str]:
    """The files in which a function is entered; modules that are only loaded do not count."""
    found = set[str]()

    def see(frame: FrameType, event: str, argument: object) -> None:
        if event == "call" and frame.f_code.co_name != "<module>":
            found.add(frame.f_code.co_filename)

    command = ["audit", _DEVICE, "--site", str(site)]
    cli(command, standalone_mode=False)  # so that all is loaded
    sys.setprofile(see)
    try:
        cli(command, standalone_mode=False)
    finally:
        sys.setprofile(None)
    return {str(Path(file).relative_to(ROOT)) for file in found if file.startswith(str(ROOT))}


def main() -> None:
    """Print it."""
    packages = sorted(folder.name for folder in ROOT.iterdir() if (folder / "__init__.py").exists())
    for name in packages:
        print(f"{name:<8} {lines(ROOT / name):>6} lines")
    print(f"{'src':<8} {lines(ROOT):>6} lines")
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_CACHE_HOME"] = os.devnull  # nothing is kept: it is looked at anew
        write_site(Path(folder, "site"))
        shown, sys.stdout = sys.stdout, open(os.devnull, "w")  # noqa: SIM115, PTH123
        try:
            files = entered(Path(folder, "site"))
        finally:
            sys.stdout = shown
    print(f"{len(files)} files are entered by `ovek audit {_DEVICE}`:")
    print("\n".join(f"  {name}" for name in sorted(files)))


if __name__ == "__main__":
    main()

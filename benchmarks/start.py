"""The `start` rows: a command that does little, against `python -c 'import click'`.

`python benchmarks/start.py`: in turn, twenty times, the median of the pairs.
"""

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from measure import PYTHON, Row, at_most, fresh_cache, in_turn, show, timed

TYPED = "python benchmarks/start.py"


def ovek() -> str:
    """The program as it is installed beside this Python."""
    beside = Path(sys.executable).parent / "ovek"
    found = str(beside) if beside.exists() else shutil.which("ovek")
    if found is None:
        sys.exit("ovek is not installed")
    return found


def rows() -> Iterator[Row]:
    """How long a start takes."""
    click = lambda: timed(PYTHON, "-c", "import click").seconds  # noqa: E731
    pair = in_turn(20, lambda: timed(ovek(), "--version").seconds, click)
    yield at_most(
        "start: `ovek --version` against `python -c 'import click'`", 1.2, pair.ratio,
        f"{1000 * pair.ours:.0f} ms", TYPED,
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as name:
        site = Path(name, "site")
        subprocess.run(
            [PYTHON, "-c", "import sys; from pathlib import Path; from ovek.demo import write_site;"
             "write_site(Path(sys.argv[1]))", str(site)], check=True,
        )  # fmt: skip
        audit = (ovek(), "audit", "--site", str(site), "--fail-on", "never")
        with fresh_cache():
            timed(*audit, ends=(0, 3))
            pair = in_turn(10, lambda: timed(*audit, ends=(0, 3)).seconds, click)
        yield at_most(
            "start: `ovek audit` of the sample (36 devices), audited before", 3.5, pair.ratio,
            f"{1000 * pair.ours:.0f} ms", TYPED,
        )  # fmt: skip

        def anew() -> float:
            with fresh_cache():
                return timed(*audit, ends=(0, 3)).seconds

        pair = in_turn(10, anew, click)
        yield at_most(
            "the same, the first time", 6, pair.ratio, f"{1000 * pair.ours:.0f} ms", TYPED
        )


if __name__ == "__main__":
    show(rows())

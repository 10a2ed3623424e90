"""The `start` row: `ovek --version` against `python -c 'import click'`.

`python benchmarks/start.py`: both in turn, twenty times, the median of each.
"""

import shutil
import statistics
import subprocess
import sys
import time
from pathlib import Path


def seconds(*command: str) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def main() -> None:
    beside = Path(sys.executable).parent / "ovek"
    ovek = str(beside) if beside.exists() else shutil.which("ovek")
    if ovek is None:
        sys.exit("ovek is not installed")
    pairs = [
        (seconds(ovek, "--version"), seconds(sys.executable, "-c", "import click"))
        for _ in range(20)
    ]
    ours, click = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(
        f"start: ovek --version {ours * 1000:.0f} ms, import click {click * 1000:.0f} ms, "
        f"ratio {ours / click:.2f} (wanted: 1.20 or less)"
    )


if __name__ == "__main__":
    main()

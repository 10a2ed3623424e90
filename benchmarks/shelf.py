"""The `shelf` row: `ovek shelf` against `openssl dgst -md5` on one core.

`python benchmarks/shelf.py [FILES] [MIB]` (default 24 files of 64 MiB). Whole commands, in turn,
five times; the ratio is the median of the pairs. Many files: the rate of `ovek shelf --fresh` over
cores times the rate of openssl on one file. One file: one rate over the other. The time that an
empty folder takes (starting Python and reading the site) is taken off, since it is no digesting.
"""

import json
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

MIB = 2**20


def seconds(*command: str) -> float:
    start = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - start


def main() -> None:
    files = int(sys.argv[1]) if len(sys.argv) > 1 else 24
    size = int(sys.argv[2]) if len(sys.argv) > 2 else 64
    cores = os.cpu_count() or 1
    with tempfile.TemporaryDirectory() as name:
        site = Path(name)
        os.environ["XDG_CACHE_HOME"] = name
        (site / "fleet.toml").write_text('name = "bench"\n')
        (site / "catalog").mkdir()
        releases = [{"file": "other.img", "digests": {"md5": "0" * 32}}]
        catalog = {"format": "ovek.catalog/1", "releases": releases}
        (site / "catalog/list.json").write_text(json.dumps(catalog))
        many, single, empty = site / "many", site / "single", site / "empty"
        for folder in (many, single, empty):
            folder.mkdir()
        block = random.Random(4).randbytes(size * MIB)
        for number in range(files):
            (many / f"{number}.bin").write_bytes(block)
        one = single / "one.bin"
        with one.open("wb") as out:
            for _ in range(files // 2):
                out.write(block)
        shelf = (sys.executable, "-m", "ovek", "shelf", "--fresh", "--site", name)
        ratios: dict[str, list[float]] = {"many files": [], "one file": []}
        for _ in range(5):
            openssl = one.stat().st_size / seconds("openssl", "dgst", "-md5", str(one))
            nothing = seconds(*shelf, str(empty))
            rate = files * size * MIB / (seconds(*shelf, str(many)) - nothing)
            ratios["many files"].append(rate / (cores * openssl))
            rate = one.stat().st_size / (seconds(*shelf, str(single)) - nothing)
            ratios["one file"].append(rate / openssl)
        for what, wanted in (("many files", "0.95"), ("one file", "1.00")):
            ratio = statistics.median(ratios[what])
            print(f"shelf, {what}: ratio {ratio:.2f} (wanted: {wanted} or more), {cores} cores")


if __name__ == "__main__":
    main()

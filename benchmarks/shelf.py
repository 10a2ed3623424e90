"""The `shelf` rows: `ovek shelf` against `openssl dgst`.

`python benchmarks/shelf.py [FILES] [MIB]` (default 24 files of 64 MiB). Whole commands, in turn,
five times. One file: its rate over that of one openssl. Many files: the rate over that of as many
openssl at once as there are cores, each with its share of the files. The time that an empty folder
takes (starting Python and reading the site) is taken off, since it is no digesting. Several
algorithms: how much longer three in one read take than the slowest of them alone.
"""

import json
import os
import random
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from measure import OVEK, Row, at_least, fresh_cache, show, size_asked, timed

MIB = 2**20


def openssl(files: list[Path], at_once: int, algorithm: str = "md5") -> float:
    """The seconds of so many openssl at once, each with its share of the files."""
    began = time.perf_counter()
    shares = [files[at::at_once] for at in range(at_once)]
    running = [
        subprocess.Popen(
            ["openssl", "dgst", f"-{algorithm}", *map(str, share)], stdout=subprocess.DEVNULL
        )
        for share in shares
        if share
    ]
    for each in running:
        each.wait()
    return time.perf_counter() - began


def _list(site: Path, *algorithms: str) -> None:
    """A catalog for which these algorithms have to be read."""
    long = {"md5": 32, "sha256": 64, "sha512": 128}
    digests = {each: "0" * long[each] for each in algorithms}
    catalog = {"format": "ovek.catalog/1", "releases": [{"file": "o.img", "digests": digests}]}
    (site / "catalog/list.json").write_text(json.dumps(catalog))


def rows(files: int = 24, size: int = 64) -> Iterator[Row]:
    """How fast files are digested."""
    typed, cores = f"python benchmarks/shelf.py {files} {size}", len(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory() as name, fresh_cache():
        site = Path(name)
        (site / "fleet.toml").write_text('name = "bench"\n')
        (site / "catalog").mkdir()
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
        shelf = (*OVEK, "shelf", "--fresh", "--site", name)
        found = sorted(many.iterdir())

        def ours(folder: Path) -> float:
            nothing = timed(*shelf, str(empty)).seconds
            return timed(*shelf, str(folder)).seconds - nothing

        _list(site, "md5")
        of_one = statistics.median(openssl([one], 1) / ours(single) for _ in range(5))
        of_many = statistics.median(openssl(found, cores) / ours(many) for _ in range(5))
        _list(site, "sha512")
        slowest = statistics.median(ours(single) for _ in range(3))
        _list(site, "md5", "sha256", "sha512")
        several = statistics.median(ours(single) for _ in range(3))
    half = files * size // 2
    yield at_least(
        f"shelf: one file of {half} MiB, its rate over that of `openssl dgst -md5`", 1.05, of_one,
        "", typed,
    )  # fmt: skip
    yield at_least(
        f"shelf: {files} files of {size} MiB, the rate over that of {cores} openssl at once", 0.95,
        of_many, f"{cores} cores", typed,
    )  # fmt: skip
    yield Row(
        "shelf: MD5, SHA-256 and SHA-512 of one file in one read, against SHA-512 alone", "none",
        f"{several / slowest:.2f} ×; {several:.1f} s against {slowest:.1f} s", None, typed,
    )  # fmt: skip


if __name__ == "__main__":
    show(rows(size_asked(24), size_asked(64, 2)))

"""The `newest state` row: finding and reading it among many snapshots, against reading one.

`python benchmarks/state.py [SNAPSHOTS] [DEVICES]` (default 400 and 500). Every snapshot holds every
device; a tenth of the devices is newest in each of the last ten. The index is there, as every
command leaves it; how long it takes to make it anew is told beside. In turn, eleven times; the
ratio is the median of the pairs.
"""

import tempfile
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from msgspec.structs import replace

from generated import write_site
from measure import Row, at_most, in_turn, show, size_asked
from ovek.files.database import INDEX
from ovek.files.snapshot import read_snapshot, write_snapshot
from ovek.files.state import state_of


def rows(snapshots: int = 400, number: int = 500) -> Iterator[Row]:
    """How long the newest state of so many snapshots takes."""
    typed = f"python benchmarks/state.py {snapshots} {number}"
    with tempfile.TemporaryDirectory() as name:
        first = write_site(Path(name), number)
        folder, devices = first.parent, list(read_snapshot(first))
        for at in range(1, snapshots):
            late = at - (snapshots - 10)
            some = [
                replace(one, taken_at=one.taken_at + timedelta(days=at))
                for place, one in enumerate(devices)
                if late < 0 or place % 10 >= late
            ]
            write_snapshot(folder / f"{at:04}.jsonl", some)
        began = time.perf_counter()
        state_of(folder)
        anew = time.perf_counter() - began

        def newest() -> float:
            began = time.perf_counter()
            state = state_of(folder)
            assert sum(1 for _ in state.devices(state.lines.items())) == number
            return time.perf_counter() - began

        def one() -> float:
            began = time.perf_counter()
            assert sum(1 for _ in read_snapshot(first)) == number
            return time.perf_counter() - began

        pair = in_turn(11, newest, one)
        size = (folder / INDEX).stat().st_size / 1024
    yield at_most(
        f"the latest reading of each of {number} devices, out of {snapshots} snapshots, against "
        "reading one snapshot", 1.2, pair.ratio,
        f"the index has {size:.0f} KiB, rebuilt in {anew:.1f} s", typed,
    )  # fmt: skip


if __name__ == "__main__":
    show(rows(size_asked(400), size_asked(500, 2)))

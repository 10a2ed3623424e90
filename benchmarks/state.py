"""The `newest state` row: finding and reading it among many snapshots, against reading one.

`python benchmarks/state.py [SNAPSHOTS] [DEVICES]` (default 400 and 500). Every snapshot holds every
device; a tenth of the devices is newest in each of the last ten. The index is there, as every
command leaves it; how long it takes to make it anew is told beside. In turn, eleven times; the
ratio is the median of the pairs.
"""

import statistics
import sys
import tempfile
import time
from datetime import timedelta
from pathlib import Path

from msgspec.structs import replace

from generated import write_site
from ovek.files.snapshot import read_snapshot, write_snapshot
from ovek.files.state import INDEX, state_of


def main() -> None:
    snapshots = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    number = int(sys.argv[2]) if len(sys.argv) > 2 else 500
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
        ratios = []
        for _ in range(11):
            began = time.perf_counter()
            merely = sum(1 for _ in read_snapshot(first))
            between = time.perf_counter()
            state = state_of(folder)
            ours = sum(1 for _ in state.devices(state.lines.items()))
            ratios.append((time.perf_counter() - between) / (between - began))
            assert merely == ours == number
        size = (folder / INDEX).stat().st_size / 1024
        ratio = statistics.median(ratios)
        print(
            f"{snapshots} snapshots x {number} devices: ratio {ratio:.2f} (wanted: 1.20 or less); "
            f"the index has {size:.0f} KiB, made anew in {anew:.1f} s"
        )


if __name__ == "__main__":
    main()

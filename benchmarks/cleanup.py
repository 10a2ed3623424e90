"""The `cleanup` row: `ovek cleanup --whole-fleet` against `ovek audit` of the same snapshot.

`python benchmarks/cleanup.py [VOLUMES]` (default 10,000). Both are processes of their own, timed
whole and in turn, five times; the ratio is the median of the five pairs.
"""

import statistics
import sys
import tempfile
from pathlib import Path

from audit import timed
from generated import write_site


def main() -> None:
    volumes = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory() as name:
        site = Path(name)
        write_site(site, volumes)
        ovek = (sys.executable, "-m", "ovek")
        audit = (*ovek, "audit", "--site", str(site))
        for asked in (("--room-for", "ox40-full-7.4.2.img"), ("--free", "600MiB")):
            cleanup = (*ovek, "cleanup", "--whole-fleet", *asked, "--site", str(site))
            rounds = [(timed(*audit)[0], *timed(*cleanup)) for _ in range(5)]
            ratio = statistics.median(ours / audited for audited, ours, _ in rounds)
            audited, ours, peak = (
                statistics.median(column) for column in zip(*rounds, strict=True)
            )
            print(
                f"cleanup {' '.join(asked)}: {ours:.2f} s, audit {audited:.2f} s, ratio "
                f"{ratio:.2f} (wanted: 1.50 or less); peak {peak:.0f} MiB"
            )


if __name__ == "__main__":
    main()

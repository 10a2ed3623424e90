"""A fleet in several regions: `ovek audit` over all their snapshots, and what memory that takes.

`python benchmarks/shards.py [DEVICES [SHARDS [FOLDER]]]` (default 100,000 in 10). Each region has a
snapshot of its part; the audit takes the newest line of each device over all of them. Memory is the
peak of the process that is typed and that of each of its workers. A FOLDER that was written before
is used again.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from generated import write_site


def write_regions(folder: Path, devices: int, shards: int) -> int:
    """Write the regions of a site, some at a time; how many bytes their snapshots have."""
    each, size = devices // shards, 0
    for shard in range(shards):
        file = folder / f"region-{shard:03}/snapshots/night.jsonl"
        if not file.exists():
            file.parent.mkdir(parents=True)
            snapshot = write_site(folder, each)
            with snapshot.open() as lines, file.open("w") as out:
                for line in lines:
                    out.write(line.replace('"device":"', f'"device":"r{shard:03}-', 1))
            snapshot.unlink()
        size += file.stat().st_size
    return size


def peak(pid: int) -> float:
    """The peak of a process so far, in MiB."""
    try:
        told = Path(f"/proc/{pid}/status").read_text()
    except OSError:
        return 0.0
    found = [line for line in told.splitlines() if line.startswith("VmHWM:")]
    return int(found[0].split()[1]) / 1024 if found else 0.0


def children(pid: int) -> list[int]:
    try:
        return [int(each) for each in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    except OSError:
        return []


def main() -> None:
    devices = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    shards = int(sys.argv[2]) if len(sys.argv) > 2 else 10
    with tempfile.TemporaryDirectory() as name:
        folder = Path(sys.argv[3]) if len(sys.argv) > 3 else Path(name)
        size = write_regions(folder, devices, shards)
        print(f"{devices} devices x 60 files in {shards} regions, {size / 2**30:.1f} GiB")
        typed = ["audit", "--format", "jsonl", "--snapshot", "region-*/snapshots/*.jsonl"]
        began = time.perf_counter()
        with subprocess.Popen(
            [sys.executable, "-m", "ovek", *typed], cwd=folder, stdout=subprocess.DEVNULL
        ) as process:
            whole, workers = 0.0, dict[int, float]()
            while process.poll() is None:
                whole = max(whole, peak(process.pid))
                for pid in children(process.pid):
                    workers[pid] = max(workers.get(pid, 0.0), peak(pid))
                time.sleep(0.5)
        took = time.perf_counter() - began
        told = ", ".join(f"{each:.0f}" for each in workers.values())
        print(
            f"audit: {took:.0f} s, {devices / took:.0f} devices a second on "
            f"{len(os.sched_getaffinity(0))} cores; peak {whole:.0f} MiB, its workers {told} MiB"
        )


if __name__ == "__main__":
    main()

"""The `audit` row: `ovek audit` against merely decoding the same snapshot, and its memory.

`python benchmarks/audit.py [DEVICES [RELEASES]]` (default 10,000, and no releases more than a
handful). Both are processes of their own, timed whole and in turn, five times; the ratio is the
median of the five pairs, so that a machine whose speed changes does not decide it. The decoder goes
through the lines into the same typed data. Memory is the peak of the process, at a tenth of the
devices and at all.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from generated import write_site

DECODE = """
import sys, msgspec
from ovek.model.snapshot import Device
decoder = msgspec.json.Decoder(Device)
with open(sys.argv[1], "rb") as lines:
    for line in lines:
        decoder.decode(line)
"""


def timed(*command: str) -> tuple[float, float]:
    """Seconds and peak MiB of a command whose output is thrown away."""
    start = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    _, status, usage = os.wait4(process.pid, 0)
    # An audit that finds something ends with 1, and says nothing on standard error.
    complaint = process.stderr.read().decode()
    if os.waitstatus_to_exitcode(status) not in (0, 1) or complaint:
        sys.exit(f"{command} ended with {status}: {complaint}")
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def main() -> None:
    devices = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    releases = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    os.environ["XDG_CACHE_HOME"] = "/dev/null"  # nothing is kept from one audit to the next
    with tempfile.TemporaryDirectory() as name:
        large, small = Path(name, "large"), Path(name, "small")
        snapshot = write_site(large, devices, releases=releases)
        write_site(small, devices // 10, releases=releases)
        size = f"{snapshot.stat().st_size / 2**20:.0f} MiB"
        print(f"{devices} devices x 60 files, {releases} releases more, {size}")
        decode = (sys.executable, "-c", DECODE, str(snapshot))
        for form in ("json", "table"):
            audit = (sys.executable, "-m", "ovek", "audit", "--format", form, "--site")
            rounds = [(timed(*decode)[0], *timed(*audit, str(large))) for _ in range(5)]
            ratio = statistics.median(ours / merely for merely, ours, _ in rounds)
            merely, ours, peak = (statistics.median(column) for column in zip(*rounds, strict=True))
            _, little = timed(*audit, str(small))
            print(
                f"audit {form:5}: {ours:.2f} s, decode {merely:.2f} s, ratio {ratio:.2f} "
                f"(wanted: 2.50 or less); peak {peak:.0f} MiB, with a tenth of the devices "
                f"{little:.0f} MiB"
            )


if __name__ == "__main__":
    main()

"""The `audit again` row: `ovek audit` where 1 % of the devices changed since the last one.

`python benchmarks/again.py [DEVICES]` (default 10,000). A site is audited once; then every device
is read again an hour later, one in a hundred with another free space, and the audit of that is
timed against merely decoding the snapshot, each a process of its own, five times in turn; before
each the results are put back as the first audit left them.
"""

import json
import os
import random
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from audit import DECODE, timed
from generated import write_site
from ovek.files.state import state_of


def read_again(snapshot: Path) -> None:
    """Every device as it is an hour later; one in a hundred has a little more room."""
    lines, read = [], snapshot.read_text().splitlines()
    changed = set(random.Random(7).sample(range(len(read)), len(read) // 100))
    for number, text in enumerate(read):
        device = json.loads(text)
        device["taken_at"] = device["taken_at"].replace("T21", "T22")
        if number in changed:
            device["members"][0]["volumes"][0]["free"] += 4096
        lines.append(json.dumps(device, separators=(",", ":")))
    snapshot.write_text("\n".join(lines) + "\n")
    state_of(snapshot.parent)  # as the end of a survey does


def main() -> None:
    devices = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory() as name:
        site, cache, kept = (Path(name, each) for each in ("site", "cache", "kept"))
        os.environ["XDG_CACHE_HOME"] = str(cache)
        snapshot = write_site(site, devices)
        decode = (sys.executable, "-c", DECODE, str(snapshot))
        audit = (sys.executable, "-m", "ovek", "audit", "--site", str(site), "--format")
        first, _ = timed(*audit, "json")
        read_again(snapshot)
        shutil.copytree(cache, kept)
        size = sum(file.stat().st_size for file in kept.rglob("*.db")) / snapshot.stat().st_size
        print(f"{devices} devices x 60 files: the first audit takes {first:.2f} s")
        for form in ("json", "table"):
            rounds = []
            for _ in range(5):
                shutil.rmtree(cache)
                shutil.copytree(kept, cache)
                rounds.append((timed(*decode)[0], timed(*audit, form)[0]))
            ratio = statistics.median(ours / merely for merely, ours in rounds)
            merely, ours = (statistics.median(column) for column in zip(*rounds, strict=True))
            print(
                f"again as {form:5}: {ours:.2f} s, decode {merely:.2f} s, ratio {ratio:.2f} "
                f"(wanted: 0.80 or less); what is kept is {size:.2f} of the snapshot"
            )


if __name__ == "__main__":
    main()

"""The `one device of many` row: a command on one device, against decoding the whole snapshot.

`python benchmarks/one.py [DEVICES]` (default 20,000). Each command runs as typed, in turn with
decoding, three times; starting Python is part of it. The fleet file lists every device. Beside it,
how long a shell waits for the devices that a word may be.
"""

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from generated import write_site
from ovek.files.snapshot import read_snapshot

COMMANDS = {
    "audit": ["audit", "{}"],
    "bootwalk": ["bootwalk", "{}"],
    "runbook": ["runbook", "{}"],
    "cleanup": ["cleanup", "{}", "--free", "1MiB"],
    "where": ["where", "7.4.2", "{}"],
    "custody": ["custody", "*", "{}"],
}


def took(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main() -> None:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        snapshot = write_site(folder, number)
        with snapshot.open() as lines:
            names = [json.loads(line)["device"] for line in lines]
        rows = "".join(f'[[device]]\nname = "{each}"\nsheet = "oxwick-40"\n' for each in names)
        (folder / "fleet.toml").write_text('name = "generated"\n' + rows)
        one = names[number // 2]
        ovek = [sys.executable, "-m", "ovek"]

        def typed(words: list[str], **more: str) -> None:
            command = [*ovek, *(word.format(one) for word in words)]
            subprocess.run(
                command, cwd=folder, stdout=subprocess.DEVNULL, check=False,
                env={**os.environ, **more},
            )  # fmt: skip

        typed(["bootwalk", "{}"])  # leaves the indexes, as every command does
        print(f"{number} devices, {snapshot.stat().st_size / 2**20:.0f} MiB")
        for command, words in COMMANDS.items():
            pairs = []
            for _ in range(3):
                merely = took(lambda: sum(1 for _ in read_snapshot(snapshot)))
                pairs.append((took(lambda words=words: typed(words)), merely))
            ratio = statistics.median(ours / merely for ours, merely in pairs)
            best = min(ours for ours, _ in pairs)
            print(f"{command:<9} {best:.2f} s, ratio {ratio:.2f} (wanted: 0.15 or less)")
        asked = {"COMP_WORDS": f"ovek audit {one[:-1]}", "COMP_CWORD": "2",
                 "_OVEK_COMPLETE": "bash_complete"}  # fmt: skip
        waits = statistics.median(took(lambda: typed([], **asked)) for _ in range(7))
        print(f"completion of a device: {waits * 1000:.0f} ms (wanted: 150 or less at 10,000)")


if __name__ == "__main__":
    main()

"""The `one device of many` rows: a command on one device, against decoding the whole snapshot.

`python benchmarks/one.py [DEVICES]` (default 100,000, of 60 files each). Each command runs as
typed, starting Python and all, three times; the fleet file lists every device. The snapshot is
decoded twice. Beside it, how long a shell waits for the devices that a word may be.
"""

import json
import os
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from generated import write_site
from measure import OVEK, Row, at_most, decode, fresh_cache, show, size_asked, timed

COMMANDS = {
    "audit": ["audit", "{}"],
    "bootwalk": ["bootwalk", "{}"],
    "runbook": ["runbook", "{}"],
    "cleanup": ["cleanup", "{}", "--free", "1MiB"],
    "where": ["where", "7.4.2", "{}"],
    "custody": ["custody", "*", "{}"],
}


def rows(devices: int = 100_000) -> Iterator[Row]:
    """What one device of so many costs."""
    typed = f"python benchmarks/one.py {devices}"
    with tempfile.TemporaryDirectory() as name, fresh_cache():
        folder = Path(name)
        snapshot = write_site(folder, devices)
        with snapshot.open() as lines:
            names = [json.loads(line)["device"] for line in lines]
        listed = "".join(f'[[device]]\nname = "{each}"\nsheet = "oxwick-40"\n' for each in names)
        (folder / "fleet.toml").write_text('name = "generated"\n' + listed)
        one = names[devices // 2]
        timed(*OVEK, "bootwalk", one, cwd=folder)  # leaves the indexes, as every command does
        whole = statistics.median(decode(snapshot) for _ in range(2))
        for command, words in COMMANDS.items():
            asked = [*OVEK, *(word.format(one) for word in words)]
            took = statistics.median(timed(*asked, cwd=folder).seconds for _ in range(3))
            yield at_most(
                f"`ovek {command}` of one device of {devices:,}, against decoding the snapshot",
                0.05, took / whole, f"{took:.2f} s against {whole:.1f} s", typed,
            )  # fmt: skip
        words = {"COMP_WORDS": f"ovek audit {one[:-1]}", "COMP_CWORD": "2",
                 "_OVEK_COMPLETE": "bash_complete"}  # fmt: skip
        waits = list[float]()
        for _ in range(7):
            began = time.perf_counter()
            subprocess.run(
                OVEK, cwd=folder, stdout=subprocess.DEVNULL, check=False,
                env={**os.environ, **words},
            )  # fmt: skip
            waits.append(1000 * (time.perf_counter() - began))
        yield at_most(
            f"completing the name of a device among {devices:,}", 150, statistics.median(waits),
            "", typed, " ms",
        )  # fmt: skip


if __name__ == "__main__":
    show(rows(size_asked(100_000)))

"""Every row, in one run: the table of docs/performance.md.

`python benchmarks/all.py [--only NAME,…] [--before FILE] [--keep FILE]`. It takes about ten minutes
on two cores, which should have nothing else to do. `--keep` writes the rows to a file, `--before`
shows those of such a file beside the new ones. What takes hours is documented apart (`shards.py`).
"""

import argparse
import importlib
import json
import os
import platform
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from measure import Row

PAGE = Path(__file__).parent.parent / "docs/performance.md"
BEGIN, END = "<!-- table: benchmarks/all.py -->", "<!-- end of the table -->"
# What is measured, and with which sizes.
PARTS: dict[str, tuple[int, ...]] = {
    "start": (),
    "plan": (1_000,),
    "fleet": (10_000,),
    "one": (100_000,),
    "advisories": (10_000, 50_000),
    "growth": (),
    "shelf": (24, 64),
    "survey": (500, 100),
    "cluster": (3_000,),
    "state": (200, 500),
    "history": (120, 100),
    "report": (2_000,),
    "install": (),
}


def measured(parts: list[str]) -> Iterator[Row]:
    """Go through the rows, and tell each as it comes."""
    for part in parts:
        began = time.perf_counter()
        for row in importlib.import_module(part).rows(*PARTS[part]):
            print(row, flush=True)
            yield row
        print(f"-- {part}: {time.perf_counter() - began:.0f} s", flush=True)


def table(rows: list[Row], before: dict[str, str]) -> str:
    """The rows as Markdown, with how and when they were measured."""
    cores, python = len(os.sched_getaffinity(0)), platform.python_version()
    reached = sum(row.reached is True for row in rows)
    goals = sum(row.reached is not None for row in rows)
    lines = [
        f"{reached} of {goals} goals are reached. Measured {datetime.now(UTC):%Y-%m-%d} by "
        f"`python benchmarks/all.py` on {cores} cores with Python {python}.",
        "",
        "| work | goal | measured | reached |" + (" before |" if before else ""),
        "| --- | --- | --- | --- |" + (" --- |" if before else ""),
    ]
    for row in rows:
        mark = {True: "yes", False: "**no**", None: "-"}[row.reached]
        more = f" {before.get(row.work, '-')} |" if before else ""
        lines.append(f"| {row.work} | {row.goal} | {row.measured} | {mark} |{more}")
    commands = dict.fromkeys(row.command for row in rows)
    lines += ["", "By itself: " + ", ".join(f"`{each}`" for each in commands) + "."]
    return "\n".join(lines)


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__.split("\n", 1)[0])
    asked.add_argument("--only", default=",".join(PARTS))
    asked.add_argument("--before", type=Path)
    asked.add_argument("--keep", type=Path)
    told = asked.parse_args()
    before = {}
    if told.before is not None:
        before = {row[0]: row[2].split(";")[0] for row in json.loads(told.before.read_text())}
    rows = list(measured(told.only.split(",")))
    if told.keep is not None:
        told.keep.write_text(json.dumps(rows, indent=1))
    page = PAGE.read_text()
    start, _, rest = page.partition(BEGIN)
    _, _, end = rest.partition(END)
    if told.only == ",".join(PARTS):
        PAGE.write_text(f"{start}{BEGIN}\n\n{table(rows, before)}\n\n{END}{end}")
    else:
        print(table(rows, before))


if __name__ == "__main__":
    main()

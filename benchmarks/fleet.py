"""The rows of a whole fleet: the first audit, an audit again, runbooks, cleanup, and memory.

`python benchmarks/fleet.py [DEVICES]` (default 10,000, of 60 files each). All are whole commands,
in turn with merely decoding the same snapshot or with the first audit; each first audit finds an
empty cache.
"""

import json
import random
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

from generated import write_site
from measure import (
    OVEK,
    PYTHON,
    Row,
    at_most,
    decode,
    first,
    fresh_cache,
    in_turn,
    show,
    size_asked,
    timed,
)
from ovek.files.state import state_of

ROUNDS = 3
# The answers of a fleet, for which every rule is asked and no plan is made.
ANSWERS = """
import sys
from pathlib import Path
from ovek import open_site, select
from ovek.app.answering import ANSWERS
from ovek.app.runner import each_part
from ovek.app.selection import now_of
site = open_site(Path(sys.argv[1]))
for part in each_part(select(site), ANSWERS, now_of(site), None):
    pass
"""


def audit(site: Path, form: str = "json") -> tuple[str, ...]:
    """An audit as typed."""
    return (*OVEK, "audit", "--format", form, "--site", str(site))


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


def rows(devices: int = 10_000) -> Iterator[Row]:
    """The rows of a fleet of so many devices."""
    typed = f"python benchmarks/fleet.py {devices}"
    with tempfile.TemporaryDirectory() as name:
        site, small = Path(name, "site"), Path(name, "small")
        snapshot = write_site(site, devices)
        write_site(small, devices // 10)
        named = f"{devices:,} devices × 60 files"
        timed(*OVEK, "bootwalk", "device-000001", "--site", str(site))  # leaves the index
        pair = in_turn(ROUNDS, lambda: first(*audit(site)).seconds, lambda: decode(snapshot))
        yield at_most(
            f"first audit, {named}, a plan for each, as JSON, against decoding the snapshot", 5,
            pair.ratio, f"{pair.ours:.1f} s against {pair.other:.2f} s", typed,
        )  # fmt: skip
        whole, peak = pair.ours, first(*audit(site)).peak
        table = first(*audit(site, "table")).seconds
        yield Row(
            "the same as a table", "none", f"{table / whole:.2f} × the JSON; {table:.1f} s", None,
            typed,
        )  # fmt: skip
        bare = (PYTHON, "-c", ANSWERS, str(site))
        pair = in_turn(ROUNDS, lambda: timed(*bare).seconds, lambda: decode(snapshot))
        yield at_most(
            "the same without plans (the answers)", 3, pair.ratio,
            f"{pair.ours:.1f} s against {pair.other:.2f} s", typed,
        )  # fmt: skip
        books = (*OVEK, "runbook", "--format", "json", "--site", str(site))
        took = first(*books).seconds
        yield at_most(
            f"runbooks of {devices:,} devices, against the first audit", 1.3, took / whole,
            f"{took:.1f} s against {whole:.1f} s", typed,
        )  # fmt: skip
        for asked, goal in (
            (("--room-for", "ox40-full-7.4.2.img"), 1.0), (("--free", "600MiB"), 1.5)
        ):  # fmt: skip
            clean = (*OVEK, "cleanup", "--whole-fleet", *asked, "--site", str(site))
            pair = in_turn(
                ROUNDS, lambda clean=clean: first(*clean).seconds, lambda: timed(*bare).seconds
            )
            hard = " (an exact choice on every volume)" if asked[0] == "--free" else ""
            yield at_most(
                f"cleanup {' '.join(asked)} of {devices:,} volumes{hard}, against the first audit "
                "without plans", goal, pair.ratio, f"{pair.ours:.1f} s against {pair.other:.1f} s",
                typed,
            )  # fmt: skip
        little = first(*audit(small)).peak
        yield at_most(
            f"memory of the largest process of an audit, {devices:,} devices against "
            f"{devices // 10:,}", 1.3, peak / little, f"{peak:.0f} MiB against {little:.0f} MiB",
            typed,
        )  # fmt: skip
        yield at_most("the same, a process", 80, peak, "", typed, " MiB")
        yield from _again(site, snapshot, devices, typed)
    yield from _releases(devices // 5, typed)


def _again(site: Path, snapshot: Path, devices: int, typed: str) -> Iterator[Row]:
    """An audit where one device of a hundred changed since the last one."""
    with tempfile.TemporaryDirectory() as name:
        kept = Path(name, "kept")
        with fresh_cache() as cache:
            timed(*audit(site))
            read_again(snapshot)
            shutil.copytree(cache, kept)

        def again(form: str) -> float:
            with fresh_cache(kept):
                return timed(*audit(site, form)).seconds

        for form, goal in (("json", 0.7), ("table", 1.0)):
            pair = in_turn(ROUNDS + 2, lambda form=form: again(form), lambda: decode(snapshot))
            shown = {"json": "JSON", "table": "a table"}[form]
            yield at_most(
                f"audit again where 1 % of {devices:,} devices changed, as {shown}, against "
                "decoding the snapshot", goal, pair.ratio,
                f"{pair.ours:.2f} s against {pair.other:.2f} s", typed,
            )  # fmt: skip


def _releases(devices: int, typed: str) -> Iterator[Row]:
    """The same audit with many releases more; both for the recommended one."""
    with tempfile.TemporaryDirectory() as name:
        few, many = Path(name, "few"), Path(name, "many")
        write_site(few, devices, releases=20)
        write_site(many, devices, releases=50_000)
        # Once: each takes half a minute, and reading the catalog counts once, as for any fleet.
        pair = in_turn(1, lambda: first(*audit(many)).seconds, lambda: first(*audit(few)).seconds)
        yield at_most(
            f"first audit of {devices:,} devices with 50,000 releases more in the catalog, against "
            "the same without them", 1.2, pair.ratio,
            f"{pair.ours:.1f} s against {pair.other:.1f} s", typed,
        )  # fmt: skip


if __name__ == "__main__":
    show(rows(size_asked(10_000)))

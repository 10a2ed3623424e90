"""How the cost of an audit grows: with devices, files, releases, members and steps; and memory.

`python benchmarks/growth.py`. Each line is one first audit as JSON of each size, its cost a unit
at the largest against the smallest: 1 is linear, more is worse. 100,000 devices and more take long,
and are in `shards.py`.
"""

import json
import tempfile
import time
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

from generated import FULL, digest, write_site
from measure import OVEK, Row, Took, first, show, timed
from ovek import open_site, select
from ovek.app.answering import Answering
from ovek.app.selection import now_of
from ovek.engine.plan import plan
from ovek.engine.verdicts import judge_device

TYPED = "python benchmarks/growth.py"
WORST = 1.3  # a cost a unit that grows no more than this from one size to the next is linear


def audit(site: Path) -> Took:
    """The first audit of a site."""
    return first(*OVEK, "audit", "--format", "json", "--site", str(site))


def row(what: str, unit: str, took: dict[int, Took], start: float) -> Row:
    """The row of what was taken at each size; `start` is what nothing takes."""
    cost = {size: max(each.seconds - start, 0.01) / size for size, each in took.items()}
    sizes = list(took)
    steps = [cost[two] / cost[one] for one, two in pairwise(sizes)]
    told = "; ".join(
        f"{size:,}: {each.seconds:.2f} s, {each.peak:.0f} MiB" for size, each in took.items()
    )
    worst = max(steps)
    return Row(
        f"growth with {what}", f"≤ {WORST} × a {unit}", f"{worst:.2f} ×; {told}", worst <= WORST,
        TYPED,
    )  # fmt: skip


def stacked(snapshot: Path, members: int) -> None:
    """Make a stack of each device: its member so many times."""
    lines = []
    for text in snapshot.read_text().splitlines():
        device = json.loads(text)
        one = device["members"][0]
        device["members"] = [{**one, "id": str(number + 1)} for number in range(members)]
        lines.append(json.dumps(device, separators=(",", ":")))
    snapshot.write_text("\n".join(lines) + "\n")


def chain(site: Path, hops: int) -> None:
    """One device whose target is so many installs away, each over the one before it."""
    snapshot = write_site(site, 1)
    device = json.loads(snapshot.read_text())
    volume = device["members"][0]["volumes"][0]
    name = FULL.format("7.2.5")
    file = {"path": name, "size": 600_000_000, "digests": {"sha512": digest(name)}}
    volume |= {"files": [file], "capacity": 10**13, "free": 10**13 - 10**10}
    entry = {"place": f"flash:{name}", "raw": "x"}
    device["members"][0]["boot"]["order"] = {"live": [entry], "saved": [entry]}
    device["running"] = {"version": "7.2.5", "place": f"flash:{name}"}
    snapshot.write_text(json.dumps(device) + "\n")
    releases = [
        {
            "file": f"chain-{8 + at}.0.img", "size": 600_000_000, "version": f"{8 + at}.0",
            "digests": {"sha512": digest(f"chain {at}")}, "kind": "system-image",
            "hardware": ["OX40-*"], "from": [str(7 + at)],
            "status": "recommended" if at == hops - 1 else "current",
        }
        for at in range(hops)
    ]  # fmt: skip
    catalog = {"format": "ovek.catalog/1", "publisher": "Oxwick", "releases": releases}
    (site / "catalog/chain.json").write_text(json.dumps(catalog))
    (site / "policy.toml").write_text('format = "ovek.policy/1"\ntarget = "recommended"\n')


def of_a_plan(site: Path) -> tuple[int, float]:
    """How many steps the plan of the one device has, and the seconds that it takes."""
    devices = select(open_site(site))
    answering = Answering(devices, now_of(devices.site), None)
    ((name, line),) = devices.chosen.lines.items()
    text = next(iter(devices.state.texts([(name, line)])))[2]
    device = devices.state.device(name, line, text)
    subject = answering.subject(judge_device(device, devices.judge(device)))
    began = time.process_time()
    made = plan(subject)
    return len(made.stages), time.process_time() - began


def rows() -> Iterator[Row]:
    """How each of them grows."""
    with tempfile.TemporaryDirectory() as name:
        folder, number = Path(name), iter(range(1000))
        new = lambda: folder / str(next(number))  # noqa: E731
        empty = new()
        write_site(empty, 1, files=4)
        start = timed(*OVEK, "audit", "--site", str(empty)).seconds

        def sites(sizes: tuple[int, ...], write: object) -> dict[int, Took]:
            found = {}
            for size in sizes:
                site = new()
                write(site, size)  # type: ignore[operator]
                found[size] = audit(site)
            return found

        took = sites((100, 1_000, 10_000), lambda site, n: write_site(site, n))
        yield row("devices of 60 files", "device", took, start)
        took = sites((10, 60, 500, 5_000), lambda site, n: write_site(site, 200, files=n))
        flat = min(each.seconds for each in took.values())
        yield row("the files of 200 devices", "file", {n: took[n] for n in (500, 5_000)}, flat)
        took = sites((10, 10_000, 50_000), lambda site, n: write_site(site, 200, releases=n))
        flat = min(each.seconds for each in took.values())
        yield row("releases, 200 devices", "release", {n: took[n] for n in (10_000, 50_000)}, flat)

        def stack(site: Path, members: int) -> None:
            stacked(write_site(site, 100), members)

        yield row("the members of 100 devices", "member", sites((2, 6, 16), stack), start)
        steps = {}
        for hops in (2, 10, 50):
            site = new()
            chain(site, hops)
            length, seconds = of_a_plan(site)
            steps[length] = Took(seconds, 0)
        cost = {length: each.seconds / length for length, each in steps.items()}
        lengths = list(cost)
        worst = cost[lengths[-1]] / cost[lengths[0]]
        told = "; ".join(f"{n} steps: {1000 * each.seconds:.0f} ms" for n, each in steps.items())
        yield Row(
            "growth with the steps of a plan", f"≤ {WORST} × a step", f"{worst:.2f} ×; {told}",
            worst <= WORST, TYPED,
        )  # fmt: skip


if __name__ == "__main__":
    show(rows())

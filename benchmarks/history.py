"""How large a history gets, and how fast it answers.

`python benchmarks/history.py [NIGHTS] [DEVICES]` (default 365 and 250; SQLite). Every device has
8 images, boot settings and a few findings; each night one in fifty gets a new image and another
boot order, and one in a hundred a finding that goes the night after. Against the size of one
snapshot of these devices with 60 files each, and in seconds a question.
"""

import random
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from generated import write_site
from measure import Row, at_most, show, size_asked
from ovek.engine.history import days, held, joined, life, opened
from ovek.files.history import FILE, HistoryStore, StoredReading
from ovek.model.history import Fact

FIRST = datetime(2025, 11, 20, 2, tzinfo=UTC)


def facts(device: int, versions: list[int], chance: random.Random) -> frozenset[Fact]:
    newest = versions[-1]
    found = [
        Fact("answer", "", "", "go"),
        Fact("proven", "", "", "yes"),
        Fact("target", "", "", "yes" if newest % 2 else "no"),
        Fact("version", "1", "", f"7.{newest}"),
        Fact("starts", "1", "", f"7.{newest}"),
        Fact("boot", "1", "order", f"flash:ox-7.{newest}.img"),
        Fact("site", "", "", f"site {device % 40}"),
        Fact("role", "", "", ("core", "access")[device % 2]),
        Fact("finding", "", '["no-fallback",null]', "note"),
    ]
    for version in versions[-8:]:
        value = f'{{"verdict":"proven","release":"ox-7.{version}.img","size":{version},'
        value += f'"digest":"{version:064x}","modified":"{device}"}}'
        found.append(Fact("image", "1", f"flash:ox-7.{version}.img", value))
    if chance.random() < 0.01:
        found.append(Fact("finding", "", '["boot-target-missing","flash:x"]', "critical"))
    return frozenset(found)


def rows(nights: int = 365, number: int = 250) -> Iterator[Row]:
    """How large the history of so many nights and devices is, and how fast it answers."""
    typed, chance = f"python benchmarks/history.py {nights} {number}", random.Random(7)
    what = f"history of {nights} nights × {number} devices"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        snapshot = write_site(folder, min(number, 500))
        one = snapshot.stat().st_size * number / min(number, 500)
        store = HistoryStore(f"sqlite:///{folder / FILE}", "store")
        fleet = [list(range(1, 9)) for _ in range(number)]
        began = time.perf_counter()
        for night in range(nights):
            at = FIRST + timedelta(days=night)
            for device in fleet:
                if chance.random() < 0.02:
                    device.append(device[-1] + 1)
            file = folder / f"{night}.jsonl"
            file.write_text(str(night))
            store.add(
                file,
                (
                    StoredReading(f"sw{device:05}", at, facts(device, versions, chance))
                    for device, versions in enumerate(fleet)
                ),
                at,
            )
        spent = time.perf_counter() - began
        size = (folder / FILE).stat().st_size
        yield at_most(
            f"{what}: its size against one snapshot", 15, size / one,
            f"{size / 2**20:.0f} MiB; a night is added in {spent / nights:.2f} s", typed,
        )  # fmt: skip
        questions = {
            "device": lambda: life([span for _, span in store.spans(device="sw00007")]),
            "image": lambda: joined(
                held(name, span) for name, span in store.spans("image", like=["ox-7.12.img"])
            ),
            "finding": lambda: opened(store.spans("finding", like=['"boot-target-missing"']), {}),
            "trend": lambda: days(
                store.spans("answer", "proven", "target"),
                FIRST.date(),
                (FIRST + timedelta(days=nights - 1)).date(),
            ),
        }
        took = dict[str, float]()
        for question, ask in questions.items():
            began = time.perf_counter()
            ask()
            took[question] = time.perf_counter() - began
        told = ", ".join(f"{question} {seconds:.2f} s" for question, seconds in took.items())
        yield at_most(f"{what}: the slowest question", 1, max(took.values()), told, typed, " s")


if __name__ == "__main__":
    show(rows(size_asked(365), size_asked(250, 2)))

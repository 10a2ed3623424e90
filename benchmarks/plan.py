"""The `plan` rows: the plan of a random device with findings.

`python benchmarks/plan.py [DEVICES]` (default 1,000). The devices are those of the tests: every
layout, one to three members. Processor time of one process, in milliseconds.
"""

import gc
import statistics
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from measure import Row, at_most, show, size_asked

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from builders import NOW
from builders.chance import cases
from ovek.engine.audit import Terms, audit_judged
from ovek.engine.bootwalk import walk_device
from ovek.engine.plan import Asked, plan
from ovek.engine.rules import subject_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import Wants
from ovek.model.shelf import ShelfFacts


def rows(number: int = 1_000) -> Iterator[Row]:
    """How long the plans of so many devices take."""
    typed, took = f"python benchmarks/plan.py {number}", list[float]()
    threshold = gc.get_threshold()
    gc.set_threshold(50_000, 20, 100)  # as the program sets it
    for case in cases(9_000_000, number):
        judge, wants = case.judged().judge, Wants(case.policy)
        shelf = ShelfFacts(proven=case.shelf, broken={})
        judged = judge_device(case.device, judge)
        terms = Terms(now=NOW, shelf=shelf, plans=False)
        if not audit_judged(judged, wants, terms).findings:
            continue
        subject = subject_of(
            judged, walk_device(judged), case.policy, wants.of(judged),
            times_of(judged.device, NOW), shelf,
        )  # fmt: skip
        begun = time.process_time()
        plan(subject, Asked())
        took.append(1000 * (time.process_time() - begun))
    gc.set_threshold(*threshold)
    parts = statistics.quantiles(took, n=100)
    what = f"the plan of {len(took)} random devices with findings"
    yield at_most(f"{what}, at the median", 3, parts[49], "", typed, " ms")
    yield at_most(f"{what}, at the 99th percentile", 15, parts[98], "", typed, " ms")


if __name__ == "__main__":
    show(rows(size_asked(1_000)))

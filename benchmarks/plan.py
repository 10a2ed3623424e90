"""The `plan` row: the plan of a random device with findings, against the audit without it.

`python benchmarks/plan.py [DEVICES]` (default 1,000). The devices are those of the tests: every
layout, one to three members. Processor time of one process, milliseconds and their ratio.
"""

import gc
import statistics
import sys
import time
from pathlib import Path

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


def main() -> None:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000
    took, alone = list[float](), list[float]()
    gc.set_threshold(50_000, 20, 100)  # as the program sets it
    for case in cases(9_000_000, number):
        judge, wants = case.judged().judge, Wants(case.policy)
        shelf = ShelfFacts(proven=case.shelf, broken={})
        start = time.process_time()
        judged = judge_device(case.device, judge)
        terms = Terms(now=NOW, shelf=shelf, plans=False)
        audit = audit_judged(judged, wants, terms)
        audited = time.process_time()
        if not audit.findings:
            continue
        subject = subject_of(
            judged, walk_device(judged), case.policy, wants.of(judged),
            times_of(judged.device, NOW), shelf,
        )  # fmt: skip
        begun = time.process_time()
        plan(subject, Asked())
        took.append(1000 * (time.process_time() - begun))
        alone.append(1000 * (audited - start))
    parts = statistics.quantiles(took, n=100)
    print(
        f"a plan of {len(took)} devices with findings: median {parts[49]:.1f} ms (wanted: 3), "
        f"99th percentile {parts[98]:.0f} ms (wanted: 15); the audit without it takes "
        f"{statistics.median(alone):.1f} ms, mean ratio {sum(took) / sum(alone):.1f}"
    )


if __name__ == "__main__":
    main()

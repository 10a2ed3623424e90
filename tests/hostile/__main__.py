"""The long run: `PYTHONPATH=tests python -m hostile [--inputs N] [--seed S] [PARSER…]`.

Says of each parser how many inputs it took, the slowest one and the most memory, and keeps those
that it did not stand. The figures of the last run are in docs/security.md.
"""

import argparse
import sys
from pathlib import Path

from hostile.parsers import PARSERS
from hostile.trial import trial


def main() -> None:
    told = argparse.ArgumentParser(description=__doc__)
    told.add_argument("parser", nargs="*", choices=[*PARSERS, []])
    told.add_argument("--inputs", type=int, default=100_000)
    told.add_argument("--seed", type=int, default=1)
    told.add_argument("--kept", type=Path, default=Path("hostile-kept"))
    asked = told.parse_args()
    bad = 0
    for name in asked.parser or PARSERS:
        (found,) = trial([name], asked.inputs, asked.seed)
        print(found, flush=True)
        for data, why in found.failures[:5]:
            asked.kept.mkdir(exist_ok=True)
            file = asked.kept / f"{name.replace(' ', '-')}-{bad}"
            file.write_bytes(data)
            print(f"  {file}: {why}", flush=True)
            bad += 1
    sys.exit(1 if bad else 0)


if __name__ == "__main__":
    main()

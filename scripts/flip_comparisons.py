"""Flip each comparison in the engine once, and see whether the tests notice.

`python scripts/flip_comparisons.py [SHARE] [SEED]`: every comparison (`<`, `==`, `in`, `is`) is
turned into its opposite, one at a time, in a copy of the sources; the tests that drive the engine
are run until one fails. SHARE (default 1.0) takes only so many, chosen by SEED. Prints what
survived, and how many of how many were caught. The whole takes some hours on two cores.
"""

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent
ENGINE = ROOT / "src/ovek/engine"
OPPOSITE = {
    ast.Lt: ast.GtE, ast.GtE: ast.Lt, ast.Gt: ast.LtE, ast.LtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
TESTS = [
    "test_across_members", "test_changes", "test_verdicts", "test_bootwalk", "test_cleanup",
    "test_rules", "test_facts", "test_compare", "test_catalog", "test_custody", "test_policy",
    "test_shelf", "test_room", "test_random_devices",
]  # fmt: skip


def comparisons() -> list[tuple[Path, int, int]]:
    """File, line and column of every comparison."""
    return [
        (file, node.lineno, node.col_offset)
        for file in sorted(ENGINE.rglob("*.py"))
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.Compare) and len(node.ops) == 1
    ]


def flipped(file: Path, line: int, column: int) -> str:
    tree = ast.parse(file.read_text())
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and (node.lineno, node.col_offset) == (line, column):
            node.ops = [OPPOSITE[type(node.ops[0])]()]
    return ast.unparse(tree)


def caught(place: tuple[Path, int, int]) -> bool:
    file, line, column = place
    with tempfile.TemporaryDirectory() as name:
        sources = Path(name) / "src"
        shutil.copytree(ROOT / "src", sources, ignore=shutil.ignore_patterns("__pycache__"))
        (sources / file.relative_to(ROOT / "src")).write_text(flipped(file, line, column))
        tests = [str(ROOT / "tests" / f"{each}.py") for each in TESTS]
        here = {"PYTHONPATH": str(sources), "PYTHONDONTWRITEBYTECODE": "1", "OVEK_QUICK": "1"}
        command = [sys.executable, "-m", "pytest", "-x", "-q", "-n0", "-p", "no:cacheprovider"]
        done = subprocess.run(
            [*command, "--hypothesis-seed=1", *tests],
            cwd=ROOT,
            env={**os.environ, **here},
            capture_output=True,
            check=False,
        )
    return done.returncode != 0


def main() -> None:
    share = float(sys.argv[1]) if len(sys.argv) > 1 else 1.0
    chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
    every = comparisons()
    places = chance.sample(every, int(len(every) * share))
    number = 0
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for place, found in zip(places, pool.map(caught, places), strict=True):
            number += found
            if not found:
                text = place[0].read_text().splitlines()[place[1] - 1].strip()
                print(f"survived: {place[0].relative_to(ENGINE)}:{place[1]}: {text}", flush=True)
    print(f"caught {number} of {len(places)} flipped ({len(every)} comparisons in all)")


if __name__ == "__main__":
    main()

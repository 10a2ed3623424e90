"""Which outputs on the sample differ from those of another checkout?

`python scripts/compare_outputs.py CHECKOUT`: runs each example of each command, and others, there
and here, on the sample of each, and shows what differs. Nothing may, where code is only moved.
"""

import argparse
import difflib
import json
import os
import re
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

# What tells the time at which it was asked, or a folder that has another name each time.
_OWN = re.compile(
    r"\d{4}-\d\d-\d\d[T ]\d\d:?\d\d(:?\d\d(\.\d+)?)?Z?( UTC)?"
    r"|/tmp/[^\s\"]+|\d+ (days|hours|min) (ago|behind)"
)
_LISTED = """
import json, click
from ovek.cli import cli
def walk(command, ctx):
    if isinstance(command, click.Group):
        for name in command.list_commands(ctx):
            yield from walk(command.get_command(ctx, name), ctx)
    yield from getattr(command, "examples", ())
print(json.dumps(sorted(set(walk(cli, click.Context(cli))))))
"""
_MAKE = """
import sys
from pathlib import Path
from ovek.demo import write_site
write_site(Path(sys.argv[1]))
"""
# Beside the examples: forms, what goes into files, and what is refused.
_MORE = (
    "audit -v",
    "audit --color always",
    "runbook --color always",
    "cleanup --whole-fleet --free 30% --color always",
    "compare before-7.4.2 --color always",
    "catalog list --color always",
    "where 7.4.2 --color always",
    "shelf --color always",
    "rules --color always",
    "history image 7.4.2 --color always",
    "history finding no-fallback --color always",
    "shelf --for arle-core --color always",
    "survey --replay --color always",
    "audit 'arle-*' --on nowhere:1",
    *(f"audit --format {form}" for form in ("json", "jsonl", "csv", "markdown", "junit")),
    "audit --format csv --rows devices",
    "audit --group-by rule",
    "audit --group-by image --format markdown",
    "audit --only no-such",
    "audit --group-by rule --format json",
    "audit --where answer=no-go --fail-on never",
    "audit --where site=Nowhere",
    "audit --where colour=red",
    "audit nobody",
    "audit arle-quay --as-of 2026-03-01 --knowing now",
    *(f"bootwalk{more}" for more in ("", " -v", " --format json", " --format jsonl")),
    "bootwalk arle-quay --if-missing flash:none",
    "bootwalk --if-bad flash:",
    "bootwalk 'arle-*' --if-bad flash:ox40-full-7.4.2.img --format json",
    *(f"runbook --format {form}" for form in ("json", "jsonl", "csv", "markdown")),
    "runbook -v",
    "runbook --for 9.9",
    "runbook --for 7.4.2",
    "runbook --into lists && cat lists/*",
    "runbook --confirm snapshots/*.jsonl",
    "runbook --confirm snapshots/*.jsonl --format json",
    "runbook --confirm snapshots/*.jsonl --format csv",
    "runbook --figure waves.svg",
    "cleanup",
    "cleanup --free 20% --format json",
    "cleanup --free 60MiB -v",
    "cleanup --sweep 6",
    "cleanup --sweep 3 --format markdown",
    "cleanup --sweep 2 --into goes && cat goes/*",
    "cleanup --room-for 7.4.2 --format jsonl",
    "cleanup --room-for nothing.img",
    "cleanup arle-core --room-for target --confirm snapshots/*.jsonl",
    "cleanup --room-for target --confirm snapshots/*.jsonl --format json",
    "cleanup --whole-fleet --free 30%",
    "cleanup --whole-fleet --free 30% --format json",
    "cleanup --whole-fleet --free 30% --format jsonl",
    "cleanup --whole-fleet --free 30% --format markdown",
    "cleanup gannet-bridge --free 900GiB",
    "compare",
    "compare before-7.4.2 --format json",
    "compare before-7.4.2 --format jsonl",
    "compare before-7.4.2 --expect recommended -v",
    "compare before-7.4.2 --to nowhere",
    "compare --baseline now",
    "compare --baseline now2 --format json",
    "compare --baseline ../now",
    "custody",
    "custody --format json",
    "custody nothing.img",
    "where 7.4.2 --format json",
    "where nothing.img --format csv",
    "rules",
    "rules --format json",
    "rules no-such",
    "policy check --format json",
    "shelf --format json",
    "shelf --format jsonl -v",
    "shelf nowhere",
    "shelf --for arle-core --format json",
    "shelf shelf --write-list list.sha256 && cat list.sha256",
    "shelf shelf --write-list list.txt",
    "shelf --expect 12 fleet.toml",
    *(f"chart {figure}" for figure in ("flash", "versions", "verdicts", "waves", "trend")),
    "chart flash --ascii",
    "chart walk",
    "chart walk arle-quay --if-saved",
    "chart walk arle-quay --if-bad flash:none",
    "chart flash -o flash.gif",
    "chart versions -o versions.svg && cat versions.svg",
    "history trend --format json",
    "history trend --format csv",
    "history trend --last never",
    "history add --format json",
    "history device arle-core --format json",
    "history device arle-core --format csv",
    "history device nobody",
    "history image 7.4.2 --format json",
    "history image nothing",
    "history finding no-fallback --format json",
    "history finding no-fallback --format csv",
    "history purge",
    "catalog list --format json",
    "catalog show nothing.img",
    "catalog check --format jsonl",
    "catalog path 7.2.5 --to 7.4.2 --format json",
    "catalog path arle-core --to 7.4.2 --format json",
    "catalog path arle-core --to 9",
    "catalog pick arle-core --format json",
    "catalog find 7.4.2 --format json",
    "report --format markdown",
    "report",
    "report -o pages/ && cat pages/index.html",
    "report -o page.html && cat page.html",
    "sheet check --format json",
    "sheet fields --format json",
    "sheet show oxwick-40",
    "survey nobody",
    "survey --prune 1d --format json",
    "survey --replay",
    "survey --capture fleet.toml",
    "init new --sheet oxwick-40 && cat new/*.toml",
)
# What serves until it is stopped, asks, or starts a sample of its own.
_NOT = ("standin", "demo", "completion", "init", "survey")


def outputs(source: Path, folder: Path, lines: list[str]) -> dict[str, str]:
    """What each line shows, with that source, in a sample made by it."""
    environment = {
        **os.environ,
        "PYTHONPATH": str(source / "src"),
        "COLUMNS": "100",
        "NO_COLOR": "1",
    }
    subprocess.run([sys.executable, "-c", _MAKE, str(folder)], env=environment, check=True)
    found = {}
    for line in lines:
        done = subprocess.run(
            ["bash", "-c", f"{sys.executable} -m ovek {line}"], cwd=folder, env=environment,
            capture_output=True, encoding="utf-8", check=False, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        told = f"{done.returncode}\n{done.stdout}\n{done.stderr}"
        found[line] = _OWN.sub("…", told.replace(str(folder), "SITE"))
    return found


def main() -> None:
    """Compare."""
    told = argparse.ArgumentParser(description=__doc__)
    told.add_argument("checkout", type=Path)
    there, here = told.parse_args().checkout.resolve(), Path(__file__).resolve().parent.parent
    listed = subprocess.run(
        [sys.executable, "-c", _LISTED], env={**os.environ, "PYTHONPATH": str(there / "src")},
        capture_output=True, encoding="utf-8", check=True,
    )  # fmt: skip
    lines = [line for line in json.loads(listed.stdout) if not line.startswith(_NOT)]
    lines += [line for line in _MORE if line not in lines]
    with tempfile.TemporaryDirectory() as top:
        with ThreadPoolExecutor() as pool:
            asked = [
                pool.submit(outputs, source, Path(top) / name, lines)
                for source, name in ((there, "there"), (here, "here"))
            ]
        before, after = (each.result() for each in asked)
    differing = [line for line in lines if before[line] != after[line]]
    for line in differing:
        print(f"== ovek {line}")
        print(
            "\n".join(
                difflib.unified_diff(
                    before[line].splitlines(), after[line].splitlines(), lineterm=""
                )
            )
        )
    print(f"{len(lines)} lines, {len(differing)} differ")
    sys.exit(1 if differing else 0)


if __name__ == "__main__":
    main()

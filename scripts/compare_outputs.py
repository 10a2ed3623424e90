"""Which outputs on the sample differ from those of another checkout?

`python scripts/compare_outputs.py CHECKOUT`: runs each example of each command there and here, on
the sample of each, and shows what differs. Nothing may, where code is only moved.
"""

import argparse
import difflib
import json
import os
import re
import subprocess
import sys
import tempfile
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
    with tempfile.TemporaryDirectory() as top:
        before = outputs(there, Path(top) / "there", lines)
        after = outputs(here, Path(top) / "here", lines)
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

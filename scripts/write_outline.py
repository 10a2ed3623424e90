"""Write the outline of the commands from the code: `python scripts/write_outline.py`."""

import json
from pathlib import Path

import click

import ovek.cli
from ovek.cli.completing import OUTLINE
from ovek.cli.outline import outline_of


def text() -> str:
    """The outline as it is kept."""
    told = outline_of(ovek.cli.cli, click.Context(ovek.cli.cli))
    return json.dumps(told, separators=(",", ":"), sort_keys=True) + "\n"


if __name__ == "__main__":
    (Path(ovek.cli.__file__).parent / OUTLINE).write_text(text())

"""`ovek demo`: write the sample site and take a tour of it."""

import subprocess
import sys
from pathlib import Path

import click

from ovek.cli.options import write_lines
from ovek.demo import TOUR, write_site
from ovek.render.lines import STYLES, hanging


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("skerrow-ferries"))
def command(folder: Path) -> None:
    """Write the sample site to FOLDER (default: skerrow-ferries) and take a tour of it.

    The tour runs a few commands on it, each shown as typed, with its output and what it means.
    """
    write_site(folder)
    click.echo(f"The sample site is in {folder}. The tour has {len(TOUR)} stops.")
    for number, stop in enumerate(TOUR, 1):
        click.echo()
        click.secho(f"── {number} of {len(TOUR)}  $ ovek {' '.join(stop.typed)}", bold=True)
        click.echo()
        sys.stdout.flush()
        done = subprocess.run(  # noqa: S603 - our own commands, on our own data
            [sys.executable, "-m", "ovek", *stop.typed, "--site", str(folder)], check=False
        )
        click.echo()
        write_lines(hanging("  → ", stop.means, indent=4, style=STYLES["note"]))
        if done.returncode not in (0, 1):
            sys.exit(done.returncode)
    click.echo()
    click.echo(f"Look around yourself: cd {folder} && ovek audit")

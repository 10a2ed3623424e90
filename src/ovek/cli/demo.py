"""`ovek demo`: write the sample site and take a tour of it."""

import os
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click

from ovek.cli.command import Command
from ovek.cli.say import say
from ovek.cli.show import write_lines
from ovek.demo import TOUR, write_site
from ovek.model.fleet import PASSWORD
from ovek.render.lines import STYLES, hanging

_OVEK = (sys.executable, "-m", "ovek")


@click.command("demo", cls=Command, examples=("demo", "demo elsewhere"))
@click.argument("folder", type=click.Path(path_type=Path), default=Path("skerrow-ferries"))
def command(folder: Path) -> None:
    """Write the sample site to FOLDER (default: skerrow-ferries) and take a tour of it.

    The tour starts the sample's stand-ins on loopback, reads them over SSH, and runs a few commands
    on what came back; each is shown as typed, with its output and what it means.
    """
    write_site(folder)
    with _standins(folder):
        say(
            f"The sample site is in {folder}, its devices are simulated on loopback. The tour has "
            f"{len(TOUR)} stops."
        )
        for number, stop in enumerate(TOUR, 1):
            say()
            say(f"── {number} of {len(TOUR)}  $ ovek {' '.join(stop.typed)}", bold=True)
            say()
            sys.stdout.flush()
            done = subprocess.run(  # noqa: S603 - our own commands, on our own data
                [*_OVEK, *stop.typed, "--site", str(folder)],
                check=False,
                env={**os.environ, PASSWORD: "harbour"},
            )
            say()
            write_lines(hanging("  → ", stop.means, indent=4, style=STYLES["note"]))
            if done.returncode not in (0, 1, 3):
                sys.exit(done.returncode)
    say()
    say(f"Look around yourself: cd {folder} && ovek audit")
    say(f"To survey again: ovek standin serve (elsewhere), then {PASSWORD}=harbour ovek survey")


@contextmanager
def _standins(folder: Path) -> Iterator[None]:
    """Serve the stand-ins of the site as long as this lasts."""
    serving = subprocess.Popen(  # noqa: S603 - our own command
        [*_OVEK, "standin", "serve", "--site", str(folder)],
        stdout=subprocess.PIPE,
        stdin=subprocess.DEVNULL,
    )
    try:
        assert serving.stdout is not None
        if not serving.stdout.readline():
            raise click.ClickException("the stand-ins could not be served; see above")
        yield
    finally:
        serving.terminate()
        serving.wait()

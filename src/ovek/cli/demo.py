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
    """Create a sample network in FOLDER (default: skerrow-ferries) and take a guided tour.

    The tour starts simulated devices on this machine, reads them over SSH, and runs the main
    commands; each is shown as typed, with its output and what it means.
    """
    write_site(folder)
    with _standins(folder):
        say(
            f"Sample network written to {folder}/. Its devices are simulated on this machine. The "
            f"tour has {len(TOUR)} stops."
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
    say(f"Try it yourself: cd {folder} && ovek audit")
    say(
        f"To read the devices again: run ovek standin serve in a second terminal, then "
        f"{PASSWORD}=harbour ovek survey"
    )


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
            raise click.ClickException("the simulated devices could not be started; see above")
        yield
    finally:
        serving.terminate()
        serving.wait()

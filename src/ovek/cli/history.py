"""`ovek history`: since when, and for how long?"""

from pathlib import Path

import click

from ovek.app.asking import open_site
from ovek.app.remembering import History, open_history
from ovek.cli.command import Group
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import images
from ovek.cli.completing import rules as complete_rules
from ovek.cli.options import A_PATH, SITE, exit_code, format_option, verbose_option
from ovek.cli.progress import bytes_bar
from ovek.cli.show import show
from ovek.render.view import View


@click.group("history", cls=Group)
def command() -> None:
    """Since when, and for how long? What was read before is remembered beside the site.

    Each survey adds what it read; `ovek history add` takes in snapshots from before. SQLite in the
    site (history.db), or PostgreSQL where fleet.toml names it.
    """


def _of(site_folder: Path) -> History:
    return open_history(open_site(site_folder), bar=bytes_bar)


@command.command("add", examples=("history add", "history add baselines/before-7.4.2.jsonl"))
@click.argument("snapshot", nargs=-1, type=A_PATH)
@SITE
@format_option()
def add_command(snapshot: tuple[Path, ...], site_folder: Path, form: str) -> None:
    """Take snapshots into the history: each SNAPSHOT, or all in snapshots/ that it lacks.

    A snapshot that is there already is not taken twice, whatever it is called, and any order will
    do.
    """
    show(_of(site_folder).add(snapshot), form)


@command.command("device", examples=("history device arle-core", "history device arle-quay -v"))
@click.argument("device", shell_complete=complete_devices)
@verbose_option("Findings that are notes, too.")
@SITE
@format_option("csv")
def device_command(device: str, verbose: bool, site_folder: Path, form: str) -> None:
    """A line of one DEVICE's life: versions, images, boot settings, rot, findings."""
    show(_of(site_folder).device(device), form, View(verbose=verbose))


@command.command(
    "image", examples=("history image ox40-full-7.4.2.img", "history image 7.4.1 --format csv")
)
@click.argument("image", shell_complete=images, metavar="IMAGE|VERSION|DIGEST")
@SITE
@format_option("csv")
def image_command(image: str, site_folder: Path, form: str) -> None:
    """Which devices had an image, from when to when, and who vouches for it since when?

    Exit code 1 where none ever had it.
    """
    result = _of(site_folder).image(image)
    show(result, form)
    exit_code(not result.copies and not result.ran)


@command.command(
    "finding", examples=("history finding no-fallback", "history finding boot-target-missing")
)
@click.argument("rule", shell_complete=complete_rules)
@SITE
@format_option("csv")
def finding_command(rule: str, site_folder: Path, form: str) -> None:
    """Where is or was this RULE's finding, since when, how long, and did it come back?"""
    show(_of(site_folder).finding(rule), form)


@command.command("trend", examples=("history trend", "history trend --last 4w --format csv"))
@click.option("--last", metavar="AGE", default="30d", help="So long back (default: 30d).")
@SITE
@format_option("csv")
def trend_command(last: str, site_folder: Path, form: str) -> None:
    """How the fleet stood each day: go, no-go and unclear, proven starts, on the target."""
    show(_of(site_folder).trend(last), form)


@command.command("purge", examples=("history purge --older 2000d", "history purge --older 52w"))
@click.option("--older", metavar="AGE", help="What ended so long ago (default: policy's).")
@click.option("--yes", is_flag=True, help="Remove it; without, only say what would go.")
@SITE
def purge_command(older: str | None, yes: bool, site_folder: Path) -> None:
    """Forget what ended long ago. Says what would go, and removes it with --yes only.

    The last reading of each device stays, and so does whatever is so still.
    """
    show(_of(site_folder).purge(older, look=not yes))

"""`ovek history`: since when, and for how long?"""

from pathlib import Path

import click

from ovek.app.asking import open_site
from ovek.app.remembering import History, open_history
from ovek.cli.command import CommandGroup
from ovek.cli.completing import devices as complete_devices
from ovek.cli.completing import images
from ovek.cli.completing import rules as complete_rules
from ovek.cli.options import A_PATH, ADVISORY, SITE, exit_code, format_option, verbose_option
from ovek.cli.progress import bytes_bar
from ovek.cli.show import show
from ovek.render.view import View


@click.group("history", cls=CommandGroup)
def command() -> None:
    """History of devices, images and findings.

    Each survey adds its readings; `ovek history add` adds earlier snapshots. Stored in the site
    folder (SQLite, history.db), or in PostgreSQL if fleet.toml says so.
    """


def _of(site_folder: Path) -> History:
    return open_history(open_site(site_folder), bar=bytes_bar)


@command.command("add", examples=("history add", "history add baselines/before-7.4.2.jsonl"))
@click.argument("snapshot", nargs=-1, type=A_PATH)
@SITE
@format_option()
def add_command(snapshot: tuple[Path, ...], site_folder: Path, form: str) -> None:
    """Add each SNAPSHOT to the history (default: all of snapshots/ that are not in it).

    A snapshot is never added twice, whatever its name; the order does not matter.
    """
    show(_of(site_folder).add(snapshot), form)


@command.command("device", examples=("history device arle-core", "history device arle-quay -v"))
@click.argument("device", shell_complete=complete_devices)
@verbose_option("Also show findings of severity note.")
@SITE
@format_option("csv")
def device_command(device: str, verbose: bool, site_folder: Path, form: str) -> None:
    """Timeline of one DEVICE: versions, images, boot settings, corruption, findings."""
    show(_of(site_folder).device(device), form, View(verbose=verbose))


@command.command(
    "image",
    examples=("history image ox40-full-7.4.2.img", "history image --advisory OXW-2026-003"),
)
@click.argument("image", required=False, shell_complete=images, metavar="IMAGE|VERSION|DIGEST")
@ADVISORY
@SITE
@format_option("csv")
def image_command(image: str | None, advisory: str | None, site_folder: Path, form: str) -> None:
    """Which devices had an image, from when to when, and since when it is in the catalog.

    Exit code 1 if no device ever had it.
    """
    if (image is None) == (advisory is None):
        raise click.UsageError("give an image, version or digest, or --advisory ID")
    history = _of(site_folder)
    result = history.image(image) if image is not None else history.affected(advisory or "")
    show(result, form)
    exit_code(not result.copies and not result.ran)


@command.command(
    "finding", examples=("history finding no-fallback", "history finding boot-target-missing")
)
@click.argument("rule", shell_complete=complete_rules)
@SITE
@format_option("csv")
def finding_command(rule: str, site_folder: Path, form: str) -> None:
    """Where and when a RULE's finding was open, for how long, and whether it came back."""
    show(_of(site_folder).finding(rule), form)


@command.command("trend", examples=("history trend", "history trend --last 4w --format csv"))
@click.option(
    "--last", metavar="AGE", default="30d", help="Period to show, e.g. 4w (default: 30d)."
)
@SITE
@format_option("csv")
def trend_command(last: str, site_folder: Path, form: str) -> None:
    """The fleet day by day: answers, proven next boots, devices on target."""
    show(_of(site_folder).trend(last), form)


@command.command("purge", examples=("history purge --older 2000d", "history purge --older 52w"))
@click.option(
    "--older",
    metavar="AGE",
    help="Delete what is older than this, e.g. 52w (default: history_age in policy.toml).",
)
@click.option("--yes", is_flag=True, help="Delete; without it, only show what would be deleted.")
@SITE
def purge_command(older: str | None, yes: bool, site_folder: Path) -> None:
    """Delete old history. Shows what would be deleted; deletes only with --yes.

    The latest reading of each device and everything still true are kept.
    """
    show(_of(site_folder).purge(older, look=not yes))

"""`ovek policy`: what is wanted, checked against the fleet and the catalog."""

from pathlib import Path

import click

from ovek.app.asking import open_site
from ovek.app.wanted import policy_check
from ovek.cli.command import CommandGroup
from ovek.cli.options import SITE, format_option
from ovek.cli.progress import bytes_bar
from ovek.cli.show import show


@click.group("policy", cls=CommandGroup)
def command() -> None:
    """Check policy.toml (what you want) and waivers.toml (accepted findings)."""


@command.command("check", examples=("policy check", "policy check --format json"))
@SITE
@format_option(lists=False)
def check(site_folder: Path, form: str) -> None:
    """Check policy.toml and waivers.toml for mistakes.

    Tells every mistake at once: contradictions, and rules, devices, sheets and releases that do
    not exist, each with the nearest name that does. Waivers that are expired, and those that no
    device needs by its latest reading, are marked.
    """
    show(policy_check(open_site(site_folder), bar=bytes_bar), form)

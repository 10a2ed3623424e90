"""`ovek rules`: what is checked, why, and what to do."""

import click

from ovek.app.rules import rules
from ovek.cli.command import Command
from ovek.cli.completing import rules as complete
from ovek.cli.options import FORMAT
from ovek.cli.show import show


@click.command("rules", cls=Command, examples=("rules boot-target-missing", "rules --format jsonl"))
@click.argument("rule", nargs=-1, shell_complete=complete)
@FORMAT
def command(rule: tuple[str, ...], form: str) -> None:
    """List the audit rules: what each checks, why, and the fix. With RULE, explain that one."""
    show(rules(rule), form)

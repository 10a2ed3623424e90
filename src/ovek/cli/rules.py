"""`ovek rules`: what is checked, why, and what to do."""

import click

from ovek.cli.command import Command
from ovek.cli.completing import rules as complete
from ovek.cli.options import FORMAT, unknown_rule, write_json, write_lines
from ovek.engine.audit import rule_cards


@click.command("rules", cls=Command, examples=("rules boot-target-missing", "rules --format jsonl"))
@click.argument("rule", nargs=-1, shell_complete=complete)
@FORMAT
def command(rule: tuple[str, ...], format_: str) -> None:
    """What is checked, why, and what to do? With RULE, all about that one."""
    cards = {card.slug: card for card in rule_cards()}
    for slug in rule:
        if slug not in cards:
            raise unknown_rule(slug, cards, "RULE")
    shown = [cards[slug] for slug in rule] if rule else list(cards.values())
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.rules(shown), format_, "rules")
    else:
        from ovek.render.rules import rules

        write_lines(rules(shown, whole=bool(rule)))

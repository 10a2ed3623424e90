"""The rules of the audit."""

from collections.abc import Sequence

from ovek.app.packages import load_rules
from ovek.engine.audit import rule_cards
from ovek.engine.rules.every import RULES
from ovek.model.renamed import new_name
from ovek.model.results.sheets import Rules
from ovek.model.usage import UsageError, near_to


def rules(slugs: Sequence[str] = ()) -> Rules:
    """What is checked, and why: all rules, or those of these names. Raises UsageError.

    >>> from ovek import rules
    >>> rules(["boot-target-missing"]).rules[0].severity
    'warning'
    """
    load_rules()
    cards = {card.slug: card for card in rule_cards()}
    for slug in slugs:
        known_rule(slug, "RULE")
    shown = [cards[slug] for slug in slugs] if slugs else list(cards.values())
    return Rules(rules=shown, whole=bool(slugs))


def known_rule(slug: str, option: str) -> None:
    """Raise UsageError where there is no such rule, with the nearest name that is one."""
    load_rules()
    if slug not in RULES:
        new = new_name(slug, RULES)
        meant = near_to(slug, RULES, cutoff=0.4) or "; see ovek rules"
        meant = meant if new is None else f"; it is called {new!r} now"
        raise UsageError(f"no such rule: {slug!r}{meant}", option)

"""The rules of the audit, for a terminal and as a page."""

import textwrap
from collections.abc import Iterator, Sequence
from itertools import groupby

from rich.text import Text

from ovek.model.finding import RuleCard
from ovek.model.results.sheets import Rules
from ovek.render.lines import STYLES, USUAL, Columns, Line, Toned, count, hanging
from ovek.render.view import View


def rules(result: Rules, view: View) -> Iterator[Line]:
    """Go through the lines: one a rule, or all about each where that was asked for."""
    cards = result.rules
    if result.whole:
        for number, card in enumerate(cards):
            if number:
                yield ""
            yield from _whole(card)
        return
    yield f"{count(len(cards), 'rule')}; ovek rules RULE explains one."
    columns = Columns(("  RULE", "SEVERITY", "CHECKS FOR"), whole=(0, 1), wrap={2: 30})
    for card in cards:
        columns.measure((f"  {card.slug}", card.severity, card.looks_for))
    columns.fit()
    for group, inside in groupby(cards, key=lambda card: card.group):
        yield from ("", Text(group.upper(), "bold"))
        for card in inside:
            yield from columns.rows((f"  {card.slug}", Toned(card.severity), card.looks_for))


def _whole(card: RuleCard) -> Iterator[Line]:
    yield Text.assemble((card.slug, "bold"), "  ", (card.severity, STYLES[card.severity]))
    yield from hanging("  checks for:", card.looks_for, indent=14)
    yield from hanging("  why:", card.reason, indent=14)
    yield from hanging("  do:", card.remedy, indent=14)
    if card.speaks_for:
        yield from hanging("  silences:", ", ".join(card.speaks_for), indent=14)


def page(cards: Sequence[RuleCard]) -> str:
    """The page of all rules, as Markdown."""
    lines = [
        "# Audit rules",
        "",
        "Made from the code by `python scripts/write_rules_page.py`; `ovek rules` shows the same.",
        "The severity is the default: it changes with the consequence, and",
        "`policy.toml` can set it, or turn a rule off. A rule *silences* others: if it "
        "already reports",
        "a problem, they do not report it again for the same member.",
    ]
    for group, inside in groupby(cards, key=lambda card: card.group):
        lines += ["", f"## {group.capitalize()}"]
        for card in inside:
            lines += ["", f"### `{card.slug}` ({card.severity})", ""]
            lines += textwrap.wrap(f"{card.looks_for} {card.reason}", USUAL)
            lines += ["", *textwrap.wrap(f"Do: {card.remedy}.", USUAL, break_on_hyphens=False)]
            if card.speaks_for:
                names = ", ".join(f"`{slug}`" for slug in card.speaks_for)
                text = f"Silences {names}."
                lines += ["", *textwrap.wrap(text, USUAL, break_on_hyphens=False)]
    return "\n".join(lines) + "\n"

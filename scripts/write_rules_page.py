"""Write docs/rules.md from the rules themselves; a test holds that it is up to date."""

from pathlib import Path

from ovek.engine.audit import rule_cards
from ovek.render.rules import page

if __name__ == "__main__":
    (Path(__file__).parent.parent / "docs/rules.md").write_text(page(rule_cards()))

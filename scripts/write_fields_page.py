"""Write docs/fields.md: every field that a sheet can fill, out of the code."""

from pathlib import Path

from ovek.model.fields import OF_THINGS
from ovek.model.sheet import WORDING
from ovek.render.fields import fields_table

_HEAD = """# Every field of a sheet

What a question of a [sheet](sheets.md) may fill, thing by thing; `ovek sheet fields` shows it, too.
In a mark the last word is enough where it says which thing is meant: `<<free=90112>>`."""


def page() -> str:
    """The page."""
    return "\n".join([_HEAD, *fields_table(OF_THINGS, WORDING), ""])


if __name__ == "__main__":
    (Path(__file__).parent.parent / "docs/fields.md").write_text(page())

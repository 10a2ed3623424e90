"""The keys of a site, for a terminal."""

from collections.abc import Iterator

from rich.text import Text

from ovek.model.results.keys import KeyList
from ovek.render.lines import STYLES, Line, count, hanging
from ovek.render.view import View
from ovek.render.visible import visible


def listing(result: KeyList, view: View) -> Iterator[Line]:
    """How many count, then each with its whole fingerprint."""
    counting = sum(key.counts for key in result.keys)
    text = f"{count(len(result.keys), 'key')}"
    if result.keys:
        text += f": {counting} in use, {len(result.keys) - counting} not."
    else:
        text += f" (no {result.listed_in}): a signature cannot be checked."
    yield text
    for key in result.keys:
        yield ""
        yield Text(visible(f"{key.publisher}  {key.file}"), "bold")
        if not key.counts:
            yield from hanging("  not used   ", key.why, indent=13, style=STYLES["warning"])
        yield f"  form       {key.form}"
        yield from hanging("  key        ", key.fingerprint, indent=13)
        if key.signs_for != (key.publisher,):
            yield from hanging("  signs for  ", ", ".join(key.signs_for), indent=13)
        for name, day in (("from", key.first), ("until", key.last)):
            if day is not None:
                yield f"  {name:<9}  {day}"
        if key.expires is not None:
            yield f"  expires    {key.expires:%Y-%m-%d}"

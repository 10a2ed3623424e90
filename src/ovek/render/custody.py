"""Custody, for a terminal: the answer, then each image's copies grouped by equal digest."""

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from rich.text import Text

from ovek.model.age import show_age
from ovek.model.custody import CopyGroup, Custody
from ovek.model.digest import TITLES
from ovek.model.size import show_size
from ovek.render.lines import STYLES, Line, count, hanging, listed, table
from ovek.render.unread import Unreads
from ovek.render.visible import visible

_TELLING = timedelta(days=2)  # an age of a digest that is worth telling


def custody(found: Sequence[Custody], unread: Unreads, *, verbose: bool) -> Iterator[Line]:
    """Go through the lines; `verbose` shows images whose every copy is right, too."""
    yield from hanging("", answer(found), indent=0)
    if unread:
        yield from hanging("", unread.summary(), indent=0)
    lost = [one.image for one in found if one.restorable is False]
    if lost:
        told = f"{listed([visible(name) for name in lost])}: put a proven copy there"
        yield from hanging("Runs and is nowhere on the shelf: ", told, indent=4)
    for one in found:
        if verbose or len(found) == 1 or one.first_wrong is not None:
            yield ""
            yield from _image(one, unread.now)


def answer(found: Sequence[Custody]) -> str:
    """The first line: where did it go wrong?"""
    wrong = [one for one in found if one.first_wrong is not None]
    if not found:
        return "No copy of such an image is known."
    if not wrong:
        return f"Every measured copy of {count(len(found), 'image')} is what was published."
    told = ", ".join(f"{visible(one.image)} (first on the {one.first_wrong})" for one in wrong[:5])
    return f"{len(wrong)} of {count(len(found), 'image')} went wrong: {told}."


def _image(one: Custody, now: datetime) -> Iterator[Line]:
    yield Text(f"{visible(one.image)}  {visible(one.version or '')}".rstrip(), "bold")
    rows = [_cells(group, at, now) for group in one.groups for at in range(len(group.copies))]
    yield from table(("  COPY", "HOP", "SIZE", "WHERE"), rows, right=(2,))
    for group in one.groups:
        for name, digest in group.digests[:1]:
            yield f"  {group.label}  {TITLES[name]}"  # type: ignore[index]
            yield f"     {digest}"
    for told in one.told:
        yield from hanging("  → ", told, indent=4, style=STYLES["warning"])
    if one.renamed:
        yield from hanging("  under other names: ", ", ".join(one.renamed), indent=4)
    if one.restorable is False:
        yield from hanging("  → ", "it runs and no right copy is on the shelf", indent=4)


def _cells(group: CopyGroup, at: int, now: datetime) -> tuple[str, ...]:
    copy = group.copies[at]
    age = ""
    if copy.measured_at is not None and now - copy.measured_at >= _TELLING:
        age = f", measured {show_age(now - copy.measured_at)} ago"
    kind = {True: "right", False: "wrong", None: "not known"}[group.right]
    return (
        f"  {group.label} {kind}",
        copy.hop,
        show_size(copy.size) if copy.size is not None else "-",
        visible(copy.place) + (", runs" if copy.runs else "") + age,
    )

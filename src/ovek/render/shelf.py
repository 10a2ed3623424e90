"""The shelf, for a terminal; and one file held against a pasted digest."""

from collections.abc import Iterator, Sequence

from rich.text import Text

from ovek.model.digest import TITLES
from ovek.model.results.shelves import Expectation, ShelfLook
from ovek.model.shelf import Look, Offer, ShelfVerdict
from ovek.model.signature import REFUSED
from ovek.model.size import show_size
from ovek.model.verdict import WORST_FIRST
from ovek.render.cells import signer
from ovek.render.lines import STYLES, Line, Toned, count, hanging, listed, table
from ovek.render.view import View
from ovek.render.visible import visible


def shelves(result: ShelfLook, view: View) -> Iterator[Line]:
    """The answer of all shelves, then each under its name; of one alone, that one.

    Where it was asked for a device, what they have for that.
    """
    if result.offer is not None:
        yield from offer(result.offer)
        return
    looks, verbose = result.looks, view.verbose
    if len(looks) > 1:
        every = [one for look in looks for one in look.files]
        unread = sum(look.problem is not None for look in looks)
        shelves_ = f"{len(looks)} shelves{f' ({unread} not read now)' if unread else ''}"
        yield from hanging("", f"{shelves_}, {answer(every)}", indent=0)
        for look in looks:
            yield ""
            yield Text(visible(f"{look.name}: {look.at}" if look.at != look.name else look.name),
                       "bold")  # fmt: skip
            yield from _look(look, verbose)
        return
    for look in looks:
        yield from _look(look, verbose)


def _look(look: Look, verbose: bool) -> Iterator[Line]:
    if look.problem is not None:
        style = STYLES["not read"]
        yield from hanging("cannot read the shelf: ", look.problem, indent=14, style=style)
        if look.read_at is None:
            return
        yield f"Shown as last read on {look.read_at:%Y-%m-%d %H:%M} UTC."
    yield from shelf(look.files, verbose=verbose)


def shelf(verdicts: Sequence[ShelfVerdict], *, verbose: bool) -> Iterator[Line]:
    """The answer, a line a file, then what is to be said of those that are not proven."""
    for one in verdicts:
        if one.named is not None:
            bears = f"but has the name of {visible(one.named)}; rename it."
            line = f"contains {visible(one.release or '')}, {bears}"
            yield from hanging(f"{visible(one.path)} ", line, indent=4, style=STYLES["warning"])
    yield from hanging("", answer(verdicts), indent=0)
    shown = [one for one in verdicts if verbose or is_image(one)]
    if not shown:
        return
    titles: tuple[str, ...] = (
        "FILE", "SIZE", "VERDICT", "FORMAT CHECK", "FOR HARDWARE", "USED BY",
    )  # fmt: skip
    rows = [_cells(one) for one in shown]
    wrap = {3: 12, 4: 12, 5: 12}
    if any(one.signature is not None for one in shown):
        titles, wrap[6] = (*titles, "SIGNED BY"), 10
        rows = [
            (*row, visible(signer(one.signature))) for row, one in zip(rows, shown, strict=True)
        ]
    yield ""
    yield from table(titles, rows, right=(1,), whole=(2,), wrap=wrap, least=(4, 3))
    parts = [
        one
        for one in shown
        if one.named is None
        and (
            one.verdict != "proven"
            or one.by_word
            or "another name" in one.why
            or (one.signature is not None and not one.signature.good)
        )
    ]
    if parts:
        yield ""
    for one in parts:
        yield from hanging(f"{visible(one.path)}: ", one.why, indent=4, style="bold")
    left = len(verdicts) - len(shown)
    if left:
        yield f"{count(left, 'file')} not listed: not an image (-v lists them)"


def offer(found: Offer) -> Iterator[Line]:
    """Which files of the shelf are for a device, and which is the one; why the others are not."""
    device, chosen = visible(found.device), visible(found.chosen or "")
    copies = [row for row in found.files if row.use == "the one"]
    if found.chosen is None:
        text = "the catalog has no release for this hardware."
    elif found.good is not None:
        text = f"needs {chosen}; proven copy: {visible(found.good)}."
    elif copies:
        text = f"needs {chosen}; the copies here are bad. Download it again."
    else:
        text = f"needs {chosen}; it is not on this shelf."
    yield from hanging("", f"{device}: {text}", indent=0)
    order = ("the one", "first", "part", "no")
    rows = sorted(found.files, key=lambda row: (order.index(row.use), row.path))
    if rows:
        yield ""
        yield from table(
            ("FILE", "VERDICT", f"FOR {device}"),
            [(visible(row.path), Toned(row.verdict), row.use) for row in rows],
        )
        yield ""
    for row in rows:
        if row.why:
            yield from hanging(f"{visible(row.path)}: ", row.why, indent=4, style="bold")


def is_image(verdict: ShelfVerdict) -> bool:
    """Whether there is anything to be said of a file."""
    damaged = verdict.structure is not None and not verdict.structure.sound
    return verdict.verdict is not None or verdict.problem is not None or damaged


def answer(verdicts: Sequence[ShelfVerdict]) -> str:
    """The first line: are the files what was released?"""
    images = [one for one in verdicts if is_image(one)]
    parts = []
    for verdict in reversed(WORST_FIRST):
        number = sum(one.verdict == verdict for one in images)
        if number:
            parts.append(f"{number} {verdict}")
    broken = sum(one.structure is not None and not one.structure.sound for one in images)
    unread = sum(one.problem is not None for one in images)
    parts += [f"{broken} with internal damage"] if broken else []
    parts += [f"{unread} not read"] if unread else []
    good = sum(one.signature is not None and one.signature.good for one in images)
    parts += [f"{good} signed"] if good else []
    bad = sum(one.signature is not None and one.signature.state in REFUSED for one in images)
    parts += [f"{bad} with a bad signature"] if bad else []
    return f"{count(len(images), 'image')}: {', '.join(parts) or 'nothing to compare'}."


def _cells(one: ShelfVerdict) -> tuple[str, ...]:
    inside = "-"
    if one.structure is not None:
        inside = f"{one.structure.kind} {'sound' if one.structure.sound else 'broken'}"
    verdict = one.verdict or ("not read" if one.problem else "not an image")
    return (
        visible(one.path),
        show_size(one.size) if one.size is not None else "-",
        f"{verdict} {TITLES[one.by]}" if one.by and one.verdict == "proven" else Toned(verdict),
        inside,
        visible(" ".join(one.hardware)) or "-",
        listed([visible(name) for name in one.used_by], most=2) or "-",
    )


def expectation(result: Expectation, view: View) -> Iterator[Line]:
    """Hold a file's digest against a pasted one, both in full, the first difference marked."""
    path, algorithm, wanted, made = result.file, result.algorithm, result.wanted, result.made
    if wanted == made:
        yield Text(f"{visible(path)} has this {TITLES[algorithm]}.", STYLES["proven"])
        yield f"  {made}"
        return
    at = next(
        n for n, (ours, theirs) in enumerate(zip(made, wanted, strict=True)) if ours != theirs
    )
    yield Text(f"{visible(path)} does not have this {TITLES[algorithm]}.", STYLES["critical"])
    yield f"  expected  {wanted}"
    yield f"  it has    {made}"
    yield f"            {' ' * at}^ first difference at character {at + 1} of {len(made)}"

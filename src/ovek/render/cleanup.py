"""Cleanup plans, for a terminal: the answer, what goes, what stays and why."""

from collections.abc import Iterator, Sequence

from rich.text import Text

from ovek.model.plan import TIERS, CleanupPlan, Keep
from ovek.model.size import show_size
from ovek.render.lines import Columns, Line, count, hanging, listed
from ovek.render.visible import visible


def cleanup(plans: Sequence[CleanupPlan], *, verbose: bool) -> Iterator[Line]:
    """Go through the lines; `verbose` names every file that stays."""
    names = _names(plans)
    if len(plans) != 1:
        yield from hanging("", _answer(plans, names), indent=0)
    for plan, name in zip(plans, names, strict=True):
        if len(plans) != 1:
            yield ""
        yield from hanging("", f"{name} {_verdict(plan)}.", indent=0, style="bold")
        yield from _plan(plan, verbose)


def _answer(plans: Sequence[CleanupPlan], names: list[str]) -> str:
    """The first line: is there room, or can it be made?"""
    short = [name.rstrip(":") for plan, name in zip(plans, names, strict=True) if not plan.enough]
    fitting = sum(plan.enough and not plan.drop for plan in plans)
    made = sum(plan.enough and bool(plan.drop) for plan in plans)
    told = f"{count(len(plans), 'plan')}: {fitting} need nothing deleted, {made} fit after deleting"
    return told + (f", {len(short)} not: {listed(short)}." if short else ".")


def _names(plans: Sequence[CleanupPlan]) -> list[str]:
    """Name each plan: the device, the member where it has several, and the volume."""
    members: dict[str, set[str]] = {}
    for plan in plans:
        members.setdefault(plan.device, set()).add(plan.member)
    names = []
    for plan in plans:
        front = f"{visible(plan.member)}/" if len(members[plan.device]) > 1 else ""
        names.append(f"{visible(plan.device)} {front}{visible(plan.volume or 'banks')}:")
    return names


def _verdict(plan: CleanupPlan) -> str:
    if plan.bank is not None:
        return visible(plan.note)
    if plan.short_by is None:
        return f"no plan: {visible(plan.note)}"
    if not plan.enough:
        even = "even if all below went" if plan.drop else "and nothing may go"
        return f"not enough, short by {show_size(plan.short_by)} {even}"
    if not plan.drop:
        return "there is room already, nothing has to go"
    return f"delete {_what(plan)}, then there is room"


def _what(plan: CleanupPlan) -> str:
    files = sum(len(drop.files) for drop in plan.drop)
    sets = sum(len(drop.files) > 1 for drop in plan.drop)
    if len(plan.drop) == 1 and not sets:
        return visible(plan.drop[0].place)
    told = count(files, "file")
    return f"{told} ({count(sets, 'set')} among them)" if sets else told


def _plan(plan: CleanupPlan, verbose: bool) -> Iterator[Line]:
    if plan.free is not None and plan.free_after is not None:
        yield Text(
            f"  free now {show_size(plan.free)} → wanted {show_size(plan.wanted)} → after "
            f"{show_size(plan.free_after)}"
        )
        if plan.note:
            yield from hanging("  wanted:", _note(plan), indent=10)
    if plan.drop:
        yield from _drops(plan)
        yield from _power(plan)
    for locked in plan.locked:
        verb = "would be enough" if locked.enough else "would not be enough either"
        text = (
            f"tier {locked.tier} ({TIERS[locked.tier]}) is locked; it would add "
            f"{show_size(locked.adds)}, which {verb}: {listed([visible(p) for p in locked.places])}"
        )
        yield from hanging("  locked:", text, indent=11, style="yellow")
    if verbose or plan.drop or not plan.enough:
        yield from _stays(plan, verbose)


def _note(plan: CleanupPlan) -> str:
    """What was wanted, its byte counts shown as sizes."""
    words = plan.note.split(" ")
    return " ".join(show_size(int(word)) if word.isdecimal() else word for word in words)


def _drops(plan: CleanupPlan) -> Iterator[Line]:
    columns = Columns(
        ("  GOES" if plan.enough else "  WOULD GO", "TIER", "FREES", "WHY"), right=(1, 2)
    )
    rows = [
        (f"  {visible(drop.place)}", str(drop.tier), show_size(drop.frees), drop.why)
        for drop in plan.drop
    ]
    for row in rows:
        columns.measure((*row[:3], ""))
    yield columns.head()
    before = sum(columns.widths[:3]) + 6
    for drop, row in zip(plan.drop, rows, strict=True):
        first = columns.row((*row[:3], "")).plain
        yield from hanging(first, row[3], indent=before)
        if len(drop.files) > 1:
            names = listed([visible(name) for name in drop.files[1:]], most=99)
            yield from hanging("    with", names, indent=9)


def _power(plan: CleanupPlan) -> Iterator[Line]:
    verdict = plan.reload_before
    if plan.reload_after == verdict:
        text = (
            f"each deletion by itself leaves the next start as it is ({verdict}); look at what is "
            "left and plan again"
        )
    else:
        text = f"the reload verdict goes from {verdict} to {plan.reload_after} on the way"
    yield from hanging("  if the power fails halfway:", text, indent=30)


def _stays(plan: CleanupPlan, verbose: bool) -> Iterator[Line]:
    held = [keep for keep in plan.keep if keep.tier is None or verbose or keep.tier in (5, 6)]
    if held:
        columns = Columns(("  STAYS", "SIZE", "WHY"), right=(1,))
        rows = [_stay(keep) for keep in held]
        for row in rows:
            columns.measure((*row[:2], ""))
        yield columns.head()
        for row in rows:
            first = columns.row((*row[:2], "")).plain
            yield from hanging(first, row[2], indent=sum(columns.widths[:2]) + 4)
    left = len(plan.keep) - len(held)
    if left:
        yield Text(f"  {count(left, 'file')} more may go and need not (-v names them)")


def _stay(keep: Keep) -> tuple[str, str, str]:
    size = show_size(keep.size) if keep.size is not None else "not known"
    return f"  {visible(keep.place)}", size, "; ".join(keep.why)

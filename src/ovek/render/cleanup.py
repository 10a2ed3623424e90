"""Cleanup plans, for a terminal: the answer, what goes, what stays and why; a fleet's in lines."""

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec
from msgspec import Struct
from rich.text import Text

from ovek.model.plain_word import typed
from ovek.model.plan import LOCKED, TIERS, CleanupPlan, Confirmed, Keep
from ovek.model.results.cleanup import CleanupConfirmed, CleanupPlans, FleetCleanup
from ovek.model.size import show_mib
from ovek.render.context import told as told_context
from ovek.render.lines import STYLES, Columns, Line, count, hanging, listed, table
from ovek.render.runbook import details
from ovek.render.steps import danger_of, lost_of, need_of
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible


def cleanup(result: CleanupPlans, view: View) -> Iterator[Line]:
    """Go through the lines, then those that were not read; `verbose` names all that stays."""
    unread = Unreads(result.not_read, result.as_of)
    yield from _plans(result.plans, verbose=view.verbose) if result.plans else [unread.summary()]
    yield from unread.lines()


def _plans(plans: Sequence[CleanupPlan], *, verbose: bool) -> Iterator[Line]:
    names = names_of(plans)
    if len(plans) != 1:
        yield from hanging("", _answer(plans, names), indent=0)
    for plan, name in zip(plans, names, strict=True):
        if len(plans) != 1:
            yield ""
        yield from hanging("", f"{name} {verdict_of(plan)}.", indent=0, style="bold")
        yield from _plan(plan, verbose)


def _answer(plans: Sequence[CleanupPlan], names: list[str]) -> str:
    """The first line: is there room, or can it be made?"""
    short = [name.rstrip(":") for plan, name in zip(plans, names, strict=True) if not plan.enough]
    fitting = sum(plan.enough and not plan.drop for plan in plans)
    made = sum(plan.enough and bool(plan.drop) for plan in plans)
    has, have = (("has" if number == 1 else "have") for number in (fitting, made))
    answer = f"{count(len(plans), 'volume')}: {fitting} {has} enough space"
    answer += f", {made} {have} enough after deleting files" if made else ""
    return answer + (f", {len(short)} not: {listed(short)}." if short else ".")


def names_of(plans: Sequence[CleanupPlan]) -> list[str]:
    """Name each plan: the device, the member where it has several, and the volume."""
    members: dict[str, set[str]] = {}
    for plan in plans:
        members.setdefault(plan.device, set()).add(plan.member)
    names = []
    for plan in plans:
        front = f"{visible(plan.member)}/" if len(members[plan.device]) > 1 else ""
        names.append(f"{visible(plan.device)}, {front}{visible(plan.volume or 'banks')}:")
    return names


def verdict_of(plan: CleanupPlan) -> str:
    """The answer for one plan, in words."""
    if plan.bank is not None and plan.volume is None and plan.enough:
        return visible(plan.note)
    if plan.refused:
        return f"no safe plan: {visible(plan.note)}. Do not overwrite files by hand either"
    if plan.short_by is None:
        return f"no safe plan: {visible(plan.note)}"
    if plan.fits:
        first = f"delete {_what(plan)}; then " if plan.drop else ""
        short = show_mib(plan.short_by)
        return f"{first}the image fits, but free space stays {short} below the reserve"
    if not plan.enough:
        short = show_mib(plan.short_by)
        if plan.drop:
            return f"not enough space: still {short} missing after deleting all files listed below"
        return f"not enough space: {short} missing, and no file may be deleted"
    bank = f"write to bank {visible(plan.bank)}; " if plan.bank is not None else ""
    if not plan.drop:
        return f"{bank}enough space already; nothing to delete"
    return f"{bank}delete {_what(plan)}; that is enough"


def _what(plan: CleanupPlan) -> str:
    """What goes, in words."""
    files = sum(len(drop.files) for drop in plan.drop)
    sets = sum(len(drop.files) > 1 for drop in plan.drop)
    if len(plan.drop) == 1 and not sets:
        return visible(plan.drop[0].place)
    told = count(files, "file")
    return f"{told} (with {count(sets, 'package set')})" if sets else told


def _plan(plan: CleanupPlan, verbose: bool) -> Iterator[Line]:
    if plan.stop:
        yield from hanging("  STOP:", plan.stop, indent=10, style=STYLES["warning"])
    if plan.free is not None and plan.free_after is not None:
        yield Text(
            f"  free:   {show_mib(plan.free)} now, {show_mib(plan.wanted)} needed, "
            f"{show_mib(plan.free_after)} after deleting"
        )
        if plan.made_of is not None:
            yield from hanging("  needs:", need_of(plan.made_of), indent=10)
        if plan.note:
            yield from hanging("  note:", plan.note, indent=10)
    if plan.bank is not None:
        if plan.volume is not None:
            yield from hanging("  bank:", plan.bank_why, indent=10)
        if plan.lost is not None:
            yield from hanging("  lost:", lost_of(plan.lost), indent=10)
    if plan.drop:
        yield from _drops(plan)
    if plan.drop or (plan.bank is not None and not (plan.there and not plan.steps)):
        yield from hanging("  power failure:", power_cut(plan), indent=18)
    if plan.danger:
        yield from _danger(plan)
    for why in plan.barred if not plan.steps else ():
        yield from hanging("  no steps:", why, indent=12, style="yellow")
    for locked in plan.locked:
        verb = "would be enough" if locked.enough else "would not be enough"
        verb += " together with tier 5" if locked.enough and not locked.alone else ""
        places = listed([visible(place) for place in locked.places])
        text = (
            f"tier {locked.tier}, {TIERS[locked.tier]}: {places} ({show_mib(locked.adds)}, "
            f"{verb}). "
            f"Only with --may-drop {LOCKED[locked.tier]}"
        )
        yield from hanging("  locked:", text, indent=11, style="yellow")
    for way in plan.alternatives:
        yield from hanging("  or:", way, indent=11)
    unlocked = any(drop.tier in LOCKED for drop in plan.drop)
    if plan.steps and (verbose or plan.bank is not None or unlocked):
        yield from _steps(plan)
    if verbose or plan.drop or not plan.enough:
        yield from _stays(plan, verbose)


def _danger(plan: CleanupPlan) -> Iterator[Line]:
    yield from hanging("  DANGER:", danger_of(plan.danger), indent=11, style="bold red")


def _steps(plan: CleanupPlan) -> Iterator[Line]:
    device = typed(plan.device, "DEVICE")
    yield Text(f"  STEPS (as ovek runbook {device} numbers them, up to the copy)", "bold")
    for step in plan.steps:
        yield from hanging(f"  {step.do.number:>3}. ", step.words, indent=7)
        for name, told in details(step):
            style = "red" if name == "DANGER" else ""
            yield from hanging(f"       {name}: ", told, indent=13, style=style)


def _drops(plan: CleanupPlan) -> Iterator[Line]:
    columns = Columns(
        ("  DELETE" if plan.enough or plan.fits else "  COULD BE DELETED", "TIER", "FREES", "WHY"),
        right=(1, 2),
        wrap={0: 24, 3: 30},
    )
    rows = [
        (f"  {visible(drop.place)}", str(drop.tier), show_mib(drop.frees), drop.why)
        for drop in plan.drop
    ]
    for row in rows:
        columns.measure(row)
    columns.fit()
    yield columns.head()
    for drop, row in zip(plan.drop, rows, strict=True):
        yield from columns.rows(row)
        if len(drop.files) > 1:
            names = listed([visible(name) for name in drop.files[1:]], most=99)
            yield from hanging("    with", names, indent=9)


def power_cut(plan: CleanupPlan) -> str:
    """What a power failure on the way does."""
    verdict = plan.next_boot_before
    if plan.danger:
        first, last = plan.danger[0], plan.danger[-1]
        steps = f"step {first}" if first == last else f"steps {first} to {last}"
        return f"DANGER during {steps}; safe during every other step"
    if plan.there:
        return f"safe: nothing is written, and the next boot stays {verdict}"
    if plan.bank is not None:
        return f"the bank is left half-written and bad; the next boot does not change ({verdict})"
    if plan.boots_after != plan.boots_before:
        after = plan.boots_after or "unknown"
        return f"the next boot changes from {plan.boots_before} to {after} during the plan"
    if plan.next_boot_after == verdict:
        return (
            f"safe at every step: the next boot does not change ({verdict}). Read the device "
            "again, "
            "and plan again"
        )
    return f"the next boot changes from {verdict} to {plan.next_boot_after} during the plan"


def _stays(plan: CleanupPlan, verbose: bool) -> Iterator[Line]:
    held = [keep for keep in plan.keep if keep.tier is None or verbose or keep.tier in (5, 6)]
    if held:
        rows = [_stay(keep) for keep in held]
        yield from table(("  KEEP", "SIZE", "WHY"), rows, right=(1,), wrap={0: 24, 2: 30})
    left = len(plan.keep) - len(held)
    if left:
        yield Text(f"  {count(left, 'more file')} could be deleted but need not be (-v lists them)")


def _stay(keep: Keep) -> tuple[str, str, str]:
    size = show_mib(keep.size) if keep.size is not None else "unknown"
    return f"  {visible(keep.place)}", size, "; ".join(keep.why)


TITLES = ("DEVICE", "VOLUME", "FREE", "NEEDED", "FREE AFTER", "DELETE", "RESULT")


def _fleet_columns() -> Columns:
    return Columns(TITLES, right=(2, 3, 4, 5), wrap={6: 30}, whole=(1,), least=(4, 5, 2))


class FleetRow(Struct, frozen=True):
    """What the table shows of one plan; `short` is whether it lacks room, or is none."""

    cells: tuple[str, ...]
    short: bool


class FleetRows:
    """Makes and measures the rows of a fleet's table, wherever the plans are made."""

    def __init__(self) -> None:
        self._columns = _fleet_columns()

    @property
    def widths(self) -> list[int]:
        """How wide the columns of the rows are."""
        return self._columns.widths

    def row(self, plan: CleanupPlan, members: int) -> FleetRow:
        """What the table shows of one plan of a device with so many members."""
        front = f"{visible(plan.member)}/" if members > 1 else ""
        volume = f"{visible(plan.volume)}:" if plan.volume is not None else "banks"
        files = sum(len(drop.files) for drop in plan.drop)
        row = (
            visible(plan.device),
            front + volume,
            show_mib(plan.free) if plan.free is not None else "-",
            show_mib(plan.wanted) if plan.wanted else "-",
            show_mib(plan.free_after) if plan.free_after is not None else "-",
            str(files) if files else "-",
            _fleet_answer(plan),
        )
        self._columns.measure(row)
        return FleetRow(row, short=_lacks_room(plan))


def _lacks_room(plan: CleanupPlan) -> bool:
    return not plan.enough and (plan.short_by is None or not (plan.holds or plan.fits))


def _fleet_answer(plan: CleanupPlan) -> str:
    if plan.holds and plan.enough and not plan.drop:
        return "image already there"
    if plan.holds and plan.enough:
        tier = max(drop.tier for drop in plan.drop)
        return f"image already there; delete up to tier {tier} for the reserve"
    if plan.holds and plan.short_by is not None:
        return f"image already there; reserve {show_mib(plan.short_by)} short"
    if plan.enough and plan.bank is not None and not plan.drop:
        return f"write to bank {visible(plan.bank)}"
    if plan.enough and not plan.drop:
        return "fits"
    if plan.enough:
        return f"fits after deleting up to tier {max(drop.tier for drop in plan.drop)}"
    if plan.short_by is None:
        return f"no safe plan: {visible(plan.note)}"
    if plan.fits:
        return f"image fits; reserve {show_mib(plan.short_by)} short"
    unlocked = next((locked for locked in plan.locked if locked.enough), None)
    hint = f"; --may-drop {LOCKED[unlocked.tier]} would do" if unlocked is not None else ""
    return f"{show_mib(plan.short_by)} missing{hint}"


def fleet(result: FleetCleanup, view: View) -> Iterator[Line]:
    """Go through the lines of a fleet's plans: the answer, the totals, then one line each.

    What is shaped are rows, as FleetRows makes them.
    """
    totals, (rows, widths) = result.totals, _shaped(result)
    able = totals.fit + sum(totals.after.values())
    have, all_of = "has" if able == 1 else "have", count(totals.plans, "volume")
    hold = "has" if totals.done == 1 else "have"
    parts = [f"{totals.done} already {hold} the image"] if totals.done else []
    parts.append(f"{able} {have} or can make space")
    if totals.short:
        lack = "has" if totals.short == 1 else "have"
        missing = show_mib(totals.short_by)
        parts.append(f"{totals.short} {lack} too little space ({missing} missing in total)")
    if totals.no_plan:
        parts.append(f"{totals.no_plan} {'has' if totals.no_plan == 1 else 'have'} no safe plan")
    yield from hanging("", f"{all_of}: {', '.join(parts)}.", indent=0)
    ways = [f"{totals.fit} {'fits' if totals.fit == 1 else 'fit'} now"]
    ways += [
        f"{number} after deleting up to tier {tier}"
        for tier, number in sorted(totals.after.items())
    ]
    frees = f" ({show_mib(totals.frees)} freed)" if totals.frees else ""
    yield from hanging("", f"Space: {', '.join(ways)}{frees}", indent=0)
    yield from hanging("", told_context(result), indent=0)
    yield ""
    columns = _fleet_columns()
    for measured in widths:
        columns.widen(measured)
    columns.fit()
    yield columns.head()
    for row in map(msgspec.json.Decoder(FleetRow).decode, rows()):
        yield from columns.rows(row.cells, "yellow" if row.short else "")
    yield from Unreads(result.not_read, result.as_of).lines()


def _shaped(result: FleetCleanup) -> tuple[Callable[[], Iterable[bytes]], Iterable[Sequence[int]]]:
    """The rows as JSON, and how wide their columns are: made now where they were not before."""
    if result.shaped is not None:
        return result.shaped.lines, result.widths
    maker, members = FleetRows(), Counter(plan.device for plan in result.plans)
    rows = [msgspec.json.encode(maker.row(one, members[one.device])) for one in result.plans]
    return lambda: rows, [maker.widths]


def confirmed(result: CleanupConfirmed, view: View) -> Iterator[Line]:
    """Go through the lines of plans that are held against a later snapshot."""
    found, snapshot = result.plans, result.snapshot
    right = sum(not one.not_done and not one.too_much and one.enough is not False for one in found)
    yield f"{right} of {count(len(found), 'plan')} carried out, according to {visible(snapshot)}."
    members: dict[str, int] = {}
    for one in found:
        members[one.device] = members.get(one.device, 0) + 1
    for one in found:
        front = f"{visible(one.member)}/" if members[one.device] > 1 else ""
        yield ""
        volume = f"{visible(one.volume)}:" if one.volume is not None else "banks"
        title = Text.assemble((f"{visible(one.device)} {front}{volume}", "bold"), " ")
        yield title.append(_outcome(one))
        for head, places in (
            ("done:", one.done),
            ("not done:", one.not_done),
            ("too much:", one.too_much),
        ):
            if places:
                names = listed([visible(place) for place in places], 40)
                yield from hanging(f"  {head}", names, indent=13)
        if one.free is not None:
            enough = "enough" if one.enough else "NOT ENOUGH"
            text = f"{show_mib(one.free)} of the {show_mib(one.wanted)} needed: {enough}"
            yield from hanging("  free:", text, indent=13)
        yield from hanging("  next boot:", one.next_boot, indent=13)


def _outcome(one: Confirmed) -> str:
    if one.too_much:
        return f"too much was deleted: {count(len(one.too_much), 'file')} that the plan keeps"
    if one.not_done:
        return f"not done: {count(len(one.not_done), 'deletion')} left"
    if one.enough is False:
        return "done, but still not enough space"
    return "carried out as planned"

"""What changed between two snapshots, for a terminal."""

from collections.abc import Iterator, Sequence
from itertools import islice

from rich.text import Text

from ovek.model.compare import ChangedFact, DeviceCompare
from ovek.model.results.compared import FleetCompare, KeptBaseline
from ovek.render.answer import answers, first_line
from ovek.render.context import told as context
from ovek.render.lines import STYLES, Line, count, hanging, listed, shortened
from ovek.render.unread import Unreads
from ovek.render.view import View
from ovek.render.visible import visible


def compare(result: FleetCompare, view: View) -> Iterator[Line]:
    """Go through the lines: the answer, then each device that is not as it was.

    What nobody asked for comes first. Devices that were read on one side only are named before
    others.
    """
    found, answers_, expect = result.devices, result.answered, result.expect
    unread = Unreads(result.not_read, result.as_of)
    told = () if len(answers_) == 1 else answers_
    yield from hanging("", _first(found), indent=0)
    yield from hanging("", first_line(answers_, result), indent=0)
    longest = min(max((len(visible(one.device)) for one in found if one.unasked), default=0), 30)
    for one in found:
        for what in one.unasked:
            name = shortened(visible(one.device), longest)
            front = f"  {'worse':<7}  {name:<{longest}}  "
            yield from hanging(front, what, indent=longest + 13, style=STYLES["critical"])
    if told:
        yield from islice(answers("", told, whole=view.verbose), 1, None)
    if any(one.members for one in found):
        yield from hanging("", _wanted(expect), indent=0)
    yield from _not_done(found, expect)
    told_ = f" ({totals})" if (totals := _totals(found)) else ""
    yield from hanging("Before: ", context(result.earlier), indent=8)
    yield from hanging("After:  ", f"{context(result)}{told_}", indent=8)
    if unread:
        yield from hanging("", unread.summary(), indent=0)
    for one in sorted(found, key=lambda one: one.outcome not in ("new", "gone")):
        shown = one.outcome != "same" or (expect is not None and one.done is not True)
        if shown:
            yield ""
            yield from _device(one, expect)


def kept(result: KeptBaseline, view: View) -> Iterator[Line]:
    """Say what was kept, and what comes next."""
    yield f"Saved baseline {result.name!r}: {count(result.devices, 'device')}, from {result.label}."
    yield f"After the change: ovek survey, then ovek compare {result.name}"


def _first(comparisons: Sequence[DeviceCompare]) -> str:
    """The first line: how many got worse, and how many run what is wanted, or changed."""
    if not comparisons:
        return "No device to compare."
    worse = sum(device.worse for device in comparisons)
    parts = [f"{worse} worse"] if worse else []
    wanted = [device for device in comparisons if device.members]
    if wanted:
        parts.append(f"{sum(device.done is True for device in wanted)} done")
        parts.append(f"{sum(device.done is False for device in wanted)} not done")
        unknown = sum(device.done is None for device in wanted)
        parts += [f"{unknown} unknown"] if unknown else []
    else:
        changed = sum(device.outcome != "same" for device in comparisons)
        parts.append(f"{changed} changed" if changed else "no change")
    return f"{count(len(comparisons), 'device')} compared: {', '.join(parts)}."


def _wanted(expect: str | None) -> str:
    """What done means, in words."""
    what = visible(expect or "target")
    own = {"target": "its target", "recommended": "the release recommended for it"}
    return f"Done = every member runs {own.get(what, what)} and boots it next."


def _not_done(comparisons: Sequence[DeviceCompare], expect: str | None) -> Iterator[Line]:
    """Who does not run what was expected, where something was."""
    for done, what in ((False, "not done"), (None, "unknown")):
        names = [visible(one.device) for one in comparisons if one.members and one.done is done]
        if names and expect is not None:
            yield from hanging(f"{what.capitalize()}: ", f"{listed(names, 20)}.", indent=4)


def _totals(comparisons: Sequence[DeviceCompare]) -> str:
    counts = {name: sum(one.outcome == name for one in comparisons) for name in _OUTCOMES}
    return ", ".join(f"{number} {_OUTCOMES[name]}" for name, number in counts.items() if number)


_OUTCOMES = {
    "changed": "changed",
    "same": "the same",
    "new": "new (not in the earlier snapshot)",
    "gone": "gone (not in the later snapshot)",
}


def _device(comparison: DeviceCompare, expect: str | None) -> Iterator[Line]:
    title = Text.assemble((visible(comparison.device), "bold"), "  ")
    if comparison.outcome in ("new", "gone"):
        title.append(_OUTCOMES[comparison.outcome])
    elif comparison.next_boot_before == comparison.next_boot_after:
        title.append(
            f"{comparison.next_boot_after}", STYLES[comparison.next_boot_after or "unknown"]
        )
        title.append(", unchanged")
    else:
        title.append(f"{comparison.next_boot_before} → ")
        title.append(
            f"{comparison.next_boot_after}", STYLES[comparison.next_boot_after or "unknown"]
        )
    if comparison.answer is not None and comparison.answer_before not in (None, comparison.answer):
        title.append(f"; {comparison.answer_before} → ").append(
            comparison.answer, STYLES[comparison.answer]
        )
    elif comparison.answer not in (None, "go"):
        title.append("; ").append(comparison.answer or "", STYLES[comparison.answer or "unclear"])
    yield title
    if expect is not None or comparison.outcome != "same":
        for member in comparison.members:
            front = f"member {visible(member.member)} " if len(comparison.members) > 1 else ""
            word = "done" if member.done else "unknown" if member.done is None else "NOT DONE"
            yield from hanging("  expected:", f"{front}{word}: {member.why}", indent=13)
    for change in comparison.changes:
        yield from hanging(
            f"  {change.topic}:", _told(change), indent=max(13, len(change.topic) + 4)
        )


def _where(change: ChangedFact) -> str:
    front = f"{change.member}/" if change.member is not None and ":" in change.what else ""
    whole = change.what == f"member {change.member}"
    if change.member is not None and not front and not whole:
        front = f"member {change.member} "
    return f"{front}{visible(change.what)}"


def _told(change: ChangedFact) -> str:
    what = _where(change)
    if change.unknown is not None:
        was = "unknown" if change.unknown == "was" else change.was or "none"
        now = "unknown" if change.unknown == "now" else change.now or "none"
        return f"{what} {was} → {now}"
    if change.was is None:
        return f"+ {what} {change.now}"
    if change.now is None:
        return f"- {what} (was {change.was})"
    return f"{what} {change.was} → {change.now}"

"""What changed between two snapshots, for a terminal."""

from collections.abc import Iterator, Sequence

from rich.text import Text

from ovek.model.compare import Change, DeviceCompare
from ovek.render.lines import STYLES, Line, count, hanging, listed
from ovek.render.unread import Unreads
from ovek.render.visible import visible


def compare(
    found: Sequence[DeviceCompare], old: str, new: str, expect: str | None, unread: Unreads
) -> Iterator[Line]:
    """Go through the lines: the answer, then each device that is not as it was.

    Devices that were read on one side only are named first.
    """
    if lost := [(one, change) for one in found for change in one.no_longer_proven]:
        told = [f"{visible(one.device)} {_where(each)} ({_verdict(each)})" for one, each in lost]
        what = count(len(lost), "image")
        verb = "is" if len(lost) == 1 else "are"
        yield from hanging("", f"{what} {verb} no longer proven: {listed(told)}.", indent=0)
    yield from hanging("", _answer(found, expect), indent=0)
    yield from hanging("", f"From {old} to {new}: {_totals(found)}", indent=0)
    if unread:
        yield from hanging("", unread.summary(), indent=0)
    for one in sorted(found, key=lambda one: one.outcome not in ("new", "gone")):
        shown = one.outcome != "same" or (expect is not None and one.done is not True)
        if shown:
            yield ""
            yield from _device(one, expect)


def _answer(found: Sequence[DeviceCompare], expect: str | None) -> str:
    all_of = count(len(found), "device")
    if expect is not None:
        done = sum(one.done is True for one in found)
        wrong = [visible(one.device) for one in found if one.done is False]
        unknown = [visible(one.device) for one in found if one.done is None]
        version = "its own target" if expect == "target" else visible(expect)
        version = "what is recommended for it" if expect == "recommended" else version
        told = f"{done} of {all_of} run {version} and start it again"
        told += f"; not done: {listed(wrong)}" if wrong else ""
        return told + (f"; not known: {listed(unknown)}" if unknown else "") + "."
    worse = [
        visible(one.device)
        for one in found
        if one.reload_after == "stranded" and one.reload_before not in ("stranded", None)
    ]
    if worse:
        return f"{count(len(worse), 'device')} would no longer start: {listed(worse)}."
    changed = [visible(one.device) for one in found if one.outcome != "same"]
    if not changed:
        return f"Nothing changed on {all_of}."
    return f"{len(changed)} of {all_of} changed: {listed(changed)}."


def _totals(found: Sequence[DeviceCompare]) -> str:
    counts = {name: sum(one.outcome == name for one in found) for name in _OUTCOMES}
    return ", ".join(f"{number} {_OUTCOMES[name]}" for name, number in counts.items() if number)


_OUTCOMES = {
    "changed": "changed",
    "same": "the same",
    "new": "new (not in the old snapshot)",
    "gone": "gone (not in the new snapshot)",
}


def _device(one: DeviceCompare, expect: str | None) -> Iterator[Line]:
    title = Text.assemble((visible(one.device), "bold"), "  ")
    if one.outcome in ("new", "gone"):
        title.append(_OUTCOMES[one.outcome])
    elif one.reload_before == one.reload_after:
        title.append(f"{one.reload_after}", STYLES[one.reload_after or "unknown"])
        title.append(", as before")
    else:
        title.append(f"{one.reload_before} → ")
        title.append(f"{one.reload_after}", STYLES[one.reload_after or "unknown"])
    yield title
    if expect is not None:
        for member in one.members:
            front = f"member {visible(member.member)} " if len(one.members) > 1 else ""
            word = "done" if member.done else "not known" if member.done is None else "NOT DONE"
            yield from hanging("  expected:", f"{front}{word}: {member.why}", indent=13)
    for change in one.changes:
        yield from hanging(
            f"  {change.topic}:", _told(change), indent=max(13, len(change.topic) + 4)
        )


def _where(change: Change) -> str:
    front = f"{change.member}/" if change.member is not None and ":" in change.what else ""
    whole = change.what == f"member {change.member}"
    if change.member is not None and not front and not whole:
        front = f"member {change.member} "
    return f"{front}{visible(change.what)}"


def _told(change: Change) -> str:
    what = _where(change)
    if change.unknown is not None:
        was = "not known" if change.unknown == "was" else change.was or "not there"
        now = "not known" if change.unknown == "now" else change.now or "not there"
        return f"{what} {was} → {now}"
    if change.was is None:
        return f"+ {what} {change.now}"
    if change.now is None:
        return f"- {what} (was {change.was})"
    return f"{what} {change.was} → {change.now}"


def _verdict(change: Change) -> str:
    """What an image is now, without the digest that tells two of one name apart."""
    return visible((change.now or "").partition(" (")[0])

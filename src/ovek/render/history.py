"""What was, for a terminal and as CSV: a device, an image, a finding, the days of a fleet."""

from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta

from ovek.model.age import show_age
from ovek.model.history import Day, Event, Held
from ovek.model.results.histories import (
    DeviceHistory,
    FindingHistory,
    HistoryAdded,
    ImageHistory,
    Purged,
    Trend,
)
from ovek.render.csv import row
from ovek.render.lines import STYLES, Line, Toned, count, hanging, listed, table
from ovek.render.view import View
from ovek.render.visible import visible


def added(result: HistoryAdded, view: View) -> Iterator[Line]:
    """Go through the lines: what was taken in, and what the history holds now."""
    state, new = result.store, [one for one in result.added if one.readings]
    text = f"{count(len(new), 'snapshot')} added, {len(result.added) - len(new)} already recorded"
    yield f"{text}; now {count(state.readings, 'reading')} of {count(state.devices, 'device')}."
    if state.first is not None and state.last is not None:
        yield f"From {_day(state.first)} to {_day(state.last)}, in {visible(state.where)}"
    for one in new:
        yield f"  {visible(one.file)}: {count(one.readings, 'reading')}"


def life(result: DeviceHistory, view: View) -> Iterator[Line]:
    """Go through the lines of one device's life, the newest last; `verbose` has notes, too."""
    device, readings = result.device, result.readings
    events = [one for one in result.events if view.verbose or not _is_note(one)]
    left_out = len(result.events) - len(events)
    changes = [one for one in events if not one.first]
    severe = sum(one.severe for one in changes)
    number = count(len(changes), "change") + (f" ({severe} severe)" if severe else "")
    span = f"{count(len(readings), 'reading')} from {_day(readings[0])} to {_day(readings[-1])}"
    yield from hanging("", f"{visible(device)}: {number}; {span}.", indent=0)
    day = None
    for one in events:
        now = f"{one.at:%Y-%m-%d %H:%M}" + (", at the first reading" if one.first else "")
        if now != day:
            day = now
            yield ""
            yield now
        yield from hanging(
            "  ", event(one), indent=4, style=STYLES["critical"] if one.severe else ""
        )
    if left_out:
        yield from ("", f"{left_out} more of severity note (-v shows them)")


def _is_note(one: Event) -> bool:
    return {one.was, one.now} - {None} == {"note"}


def event(one: Event) -> str:
    """One event in words."""
    member = f"member {one.member} " if one.member is not None and one.place is None else ""
    place = f" {one.member}/{one.place}" if one.member is not None and one.place else (
        f" {one.place}" if one.place else ""
    )  # fmt: skip
    front = f"{member}{one.what}{place}"
    if one.was is None:
        return f"{front}: {one.now}" if one.now is not None else front
    if one.now is None:
        return f"{front} (was {one.was})"
    return f"{front}: {one.was} → {one.now}"


def life_csv(result: DeviceHistory, view: View) -> Iterator[bytes]:
    """Go through the rows, a header first."""
    yield row(("device", "at", "what", "member", "place", "was", "now", "severe"))
    for one in result.events:
        yield row(
            (result.device, _z(one.at), one.what, one.member or "", one.place or "", one.was or "",
             one.now or "", "yes" if one.severe else "no")
        )  # fmt: skip


def image(result: ImageHistory, view: View) -> Iterator[Line]:
    """Go through the lines: who has it, who had it, who ran it, who vouches for it."""
    text, copies, ran = result.image, result.copies, result.ran
    several, seen = result.several, result.seen
    now = {one.device for one in copies if one.last is None}
    ever = {one.device for one in copies}
    if not copies and not ran:
        what = f"an image that {text} affects" if result.by_advisory else repr(text)
        yield f"No device ever had {visible(what)}."
    else:
        what, it = (f"an image that {text} affects", "one") if result.by_advisory else (text, "it")
        headline = f"{count(len(ever), 'device')} had {visible(what)}, {len(now)} of them still at "
        headline += f"the last reading; {len({one.device for one in ran})} ran {it}."
        yield from hanging("", headline, indent=0)
    for listing in result.listed:
        yield f"listed in {visible(listing.source)} since {_day(listing.since)}"
    if not result.listed and not result.by_advisory:
        yield "Not in the catalog."
    if copies:
        yield ""
        rows = [
            (
                visible(one.device),
                (f"{one.member}/" if one.device in several else "") + visible(one.place),
                Toned(one.verdict),
                _day(one.first),
                _until(one, seen),
            )
            for one in copies
        ]
        titles = ("DEVICE", "PLACE", "VERDICT", "FROM", "TO")
        yield from table(titles, rows, whole=(2, 3, 4))
    if ran:
        yield ""
        runners = [
            (
                visible(one.device) + (f" member {one.member}" if one.device in several else ""),
                _day(one.first),
                _until(one, seen),
            )
            for one in ran
        ]
        yield from table(("RAN IT", "FROM", "TO"), runners, whole=(1, 2))
    digests = {one.digest: None for one in copies if one.digest and one.verdict != "proven"}
    for digest in digests:
        holders = sorted({one.device for one in copies if one.digest == digest})
        yield from ("", "Bad copies:", f"  {digest}")
        yield from hanging("  ", listed([visible(name) for name in holders], 12), indent=2)


def _until(held: Held, seen: Mapping[str, datetime]) -> str:
    """Until when something was so: what the last reading tells may have changed since."""
    if held.last is not None:
        return _day(held.last)
    last_read = seen.get(held.device)
    return "last seen" if last_read is None else f"last seen {_day(last_read)}"


def copies_csv(result: ImageHistory, view: View) -> Iterator[bytes]:
    """Go through the rows, a header first."""
    yield row(
        ("device", "member", "place", "verdict", "release", "digest", "first", "last", "running")
    )
    for one in (*result.copies, *result.ran):
        yield row(
            (one.device, one.member, one.place, one.verdict, one.release or "", one.digest or "",
             _z(one.first), _z(one.last), "yes" if one.running else "no")
        )  # fmt: skip


def finding(result: FindingHistory, view: View) -> Iterator[Line]:
    """Go through the lines: how many are open, how long they take, who had it."""
    rule, found, now = result.rule, result.findings, result.as_of
    open_ = [one for one in found if one.last is None]
    closed = [one for one in found if one.last is not None]
    back = sum(one.times > 1 for one in found)
    if not found:
        yield f"{rule}: never found."
        return
    text = f"{rule}: {len(open_)} open, {len(closed)} closed"
    if closed:
        spent = sum(((one.closed or now) - one.first for one in closed), timedelta())
        text += f" after {show_age(spent / len(closed))} on average"
    text += f"; {back} returned" if back else ""
    yield f"{text}."
    for what in ("site", "role"):
        counts: dict[str, int] = {}
        for one in open_:
            name = (one.site if what == "site" else one.role) or "unknown"
            counts[name] = counts.get(name, 0) + 1
        if counts:
            parts = [f"{visible(name)} {number}" for name, number in sorted(counts.items())]
            yield from hanging(f"Open by {what}: ", " · ".join(parts), indent=14)
    yield ""
    rows = [
        (
            visible(one.device),
            visible(one.place or "-"),
            Toned(one.severity),
            _day(one.first),
            _day(one.closed) if one.closed is not None else "open",
            show_age((one.closed or now) - one.first),
            str(one.times),
        )
        for one in found
    ]
    titles = ("DEVICE", "PLACE", "SEVERITY", "FROM", "TO", "FOR", "TIMES")
    yield from table(titles, rows, right=(6,), whole=(2, 3, 4, 5), least=(6, 2))


def findings_csv(result: FindingHistory, view: View) -> Iterator[bytes]:
    """Go through the rows, a header first."""
    yield row(
        ("device", "site", "role", "rule", "place", "severity", "first", "last", "closed", "times")
    )
    for one in result.findings:
        yield row(
            (one.device, one.site or "", one.role or "", one.rule, one.place or "", one.severity,
             _z(one.first), _z(one.last), _z(one.closed), str(one.times))
        )  # fmt: skip


def trend(result: Trend, view: View) -> Iterator[Line]:
    """Go through the lines: how it stands against the first day, then a line a day."""
    found = result.days
    first, last = found[0], found[-1]
    devices = count(last.go + last.no_go + last.unclear, "device")
    text = f"{last.day}, {devices}: {last.go} go, {last.no_go} no-go, {last.unclear} unclear; "
    text += f"{last.proven} boot a proven image, "
    text += f"{last.on_target} of {last.with_target} run and boot their target."
    yield from hanging("", text, indent=0)
    if first is not last:
        moved = {
            "go": last.go - first.go,
            "no-go": last.no_go - first.no_go,
            "proven": last.proven - first.proven,
            "on target": last.on_target - first.on_target,
        }
        parts = [f"{name} {number:+d}" for name, number in moved.items() if number]
        change = f"Since {first.day}: {', '.join(parts)}"
        if not parts:
            change = f"No change since {first.day}"
        yield from hanging("", f"{change}.", indent=0)
    yield ""
    rows = [
        (
            one.day,
            *map(str, (one.devices, one.go, one.no_go, one.unclear, one.proven)),
            f"{one.on_target} of {one.with_target}",
        )
        for one in found
    ]
    titles = ("DAY", "DEVICES", "GO", "NO-GO", "UNCLEAR", "PROVEN", "ON TARGET")
    yield from table(titles, rows, right=(1, 2, 3, 4, 5, 6), whole=(0,))


def days_csv(result: Trend, view: View) -> Iterator[bytes]:
    """Go through the rows, a header first."""
    names = Day.__struct_fields__
    yield row(names)
    for day in result.days:
        yield row(tuple(str(getattr(day, name)) for name in names))


def purged(result: Purged, view: View) -> Iterator[Line]:
    """What was forgotten, or would be."""
    verb = "deleted" if result.done else "would be deleted"
    text = f"{count(result.readings, 'reading')} and {count(result.spans, 'span')}"
    text += f" older than {_day(result.limit)}"
    yield f"{text} {verb}." + ("" if result.done else " Nothing deleted yet: add --yes.")


def _day(at: datetime) -> str:
    return f"{at:%Y-%m-%d}"


def _z(at: datetime | None) -> str:
    return "" if at is None else at.isoformat().replace("+00:00", "Z")

"""The answer first: how many devices go, then who does not, and why, a line each."""

from collections.abc import Iterable, Iterator, Sequence

from ovek.model.answer import ANSWERS_WORST_FIRST, Answered, Tally
from ovek.model.context import Context
from ovek.render.lines import STYLES, Line, count, hanging, shortened
from ovek.render.visible import visible

MOST = 20  # devices of one answer that are named before the table


def of_fleet(tally: Tally, context: Context | None = None) -> str:
    """The first line about many devices: how many, as of when, and the three answers.

    >>> of_fleet(Tally(go=24, no_go=6, unclear=8, not_read=2))
    '38 devices: 24 go, 6 no-go, 8 unclear (2 of them not read).'
    """
    waived = f" ({tally.waived} of them only because of a waiver)" if tally.waived else ""
    unread = f" ({tally.not_read} of them not read)" if tally.not_read else ""
    answers = f"{tally.go} go{waived}, {tally.no_go} no-go, {tally.unclear} unclear{unread}"
    return f"{count(tally.devices, 'device')}{_as_of(context)}: {answers}."


def of_one(answered: Answered, context: Context | None = None) -> str:
    """The first line about one device; a time only if somebody asked about an earlier one.

    >>> of_one(Answered(device="arle-core", answer="go"))
    'arle-core: go.'
    """
    earlier = _as_of(context) if context is not None and context.knowing is not None else ""
    detail = f", {visible(answered.detail)}" if answered.detail else ""
    return f"{visible(answered.device)}{earlier}: {answered.answer}{detail}."


def first_line(devices: Sequence[Answered], context: Context | None = None) -> str:
    """The first line: about the one device that was asked about, or about many."""
    if len(devices) == 1:
        return of_one(devices[0], context)
    tally = Tally()
    for answered in devices:
        tally.add(answered)
    return of_fleet(tally, context)


def _as_of(context: Context | None) -> str:
    """As of when: the time that was asked about, else the latest reading; empty: unknown."""
    if context is None:
        return ""
    latest = max((used.last for used in context.snapshots), default=None)
    time = latest if context.knowing is None else context.as_of
    return f", as of {time:%Y-%m-%d %H:%M} UTC" if time is not None else ""


def held_back(devices: Iterable[Answered]) -> list[Answered]:
    """The answers that are no plain go, `no-go` first, each in the order of the devices."""
    held = [one for one in devices if one.answer != "go" or one.waived]
    return sorted(held, key=lambda one: ANSWERS_WORST_FIRST.index(one.answer))


def answers(
    first: str, held: Sequence[Answered], *, whole: bool = False, most: int = MOST
) -> Iterator[Line]:
    """Go through the first lines: how many go, then who is held back, and why, a line each.

    Of very many devices the first are named (`most` of each answer), unless the `whole` is asked
    for.
    """
    yield from hanging("", first, indent=0)
    held = held_back(held)
    longest = min(max((len(visible(one.device)) for one in held), default=0), 30)
    for answer in ANSWERS_WORST_FIRST:
        ours = [one for one in held if one.answer == answer]
        for one in ours if whole else ours[:most]:
            front = f"  {answer:<7}  {shortened(visible(one.device), longest):<{longest}}  "
            yield from hanging(front, one.detail, indent=longest + 13, style=STYLES[answer])
        if len(ours) > most and not whole:
            yield f"  {answer:<7}  and {len(ours) - most:,} more (-v lists them)"


def first_lines(
    devices: Sequence[Answered], context: Context, *, whole: bool = False
) -> Iterator[Line]:
    """Go through the first lines about some devices; one device takes one line."""
    yield from answers(
        first_line(devices, context), () if len(devices) == 1 else devices, whole=whole
    )

"""The answer first: how many devices go, then who does not, and why, a line each."""

from collections.abc import Iterable, Iterator, Sequence

from ovek.model.answer import ANSWERS_WORST_FIRST, Answered, Tally
from ovek.model.context import Context
from ovek.render.lines import STYLES, Line, count, hanging, shortened
from ovek.render.visible import visible

MOST = 20  # devices of one answer that are named before the table


def tonight(tally: Tally, when: str = "Tonight") -> str:
    """The first line about a fleet, the three answers whatever their number.

    >>> tonight(Tally(go=24, no_go=6, unclear=8, not_read=2))
    'Tonight: 24 go, 6 no-go, 8 unclear (2 not read).'
    """
    waived = f" ({tally.waived} by a waiver)" if tally.waived else ""
    unread = f" ({tally.not_read} not read)" if tally.not_read else ""
    return f"{when}: {tally.go} go{waived}, {tally.no_go} no-go, {tally.unclear} unclear{unread}."


def when(context: Context) -> str:
    """Which night a first line is about."""
    return "Tonight" if context.knowing is None else f"On {context.as_of:%Y-%m-%d %H:%M}"


def of_one(one: Answered, when: str = "Tonight") -> str:
    """The first line about one device; of another night it says which.

    >>> of_one(Answered(device="arle-core", answer="go"))
    'arle-core: go.'
    """
    front = "" if when == "Tonight" else f"{when}: "
    detail = f", {visible(one.detail)}" if one.detail else ""
    return f"{front}{visible(one.device)}: {one.answer}{detail}."


def first_line(found: Sequence[Answered], when: str = "Tonight") -> str:
    """The first line: about the one device that was asked about, or about many."""
    if len(found) == 1:
        return of_one(found[0], when)
    tally = Tally()
    for one in found:
        tally.add(one)
    return tonight(tally, when)


def held_back(found: Iterable[Answered]) -> list[Answered]:
    """The answers that are no plain go, `no-go` first, each in the order of the devices."""
    held = [one for one in found if one.answer != "go" or one.waived]
    return sorted(held, key=lambda one: ANSWERS_WORST_FIRST.index(one.answer))


def answers(first: str, held: Sequence[Answered], *, whole: bool = False) -> Iterator[Line]:
    """Go through the first lines: how many go, then who is held back, and why, a line each.

    Of very many devices the first are named, unless the `whole` is asked for.
    """
    yield from hanging("", first, indent=0)
    held = held_back(held)
    longest = min(max((len(visible(one.device)) for one in held), default=0), 30)
    for answer in ANSWERS_WORST_FIRST:
        ours = [one for one in held if one.answer == answer]
        for one in ours if whole else ours[:MOST]:
            front = f"  {answer:<7}  {shortened(visible(one.device), longest):<{longest}}  "
            yield from hanging(front, one.detail, indent=longest + 13, style=STYLES[answer])
        if len(ours) > MOST and not whole:
            yield f"  {answer:<7}  and {count(len(ours) - MOST, 'more device')}"


def first_lines(found: Sequence[Answered], *, whole: bool = False) -> Iterator[Line]:
    """Go through the first lines about some devices; one is told in one line."""
    yield from answers(first_line(found), () if len(found) == 1 else found, whole=whole)

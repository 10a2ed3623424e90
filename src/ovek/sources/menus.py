r"""Menus: where a device stands, told by its prompt and by the choices that it shows above.

A question may be a way through several menus; it starts where the session started and has to end
there, so that the next one does, too.

>>> choices_above(["Fan 1: 900", "", "  Main", "  1) About", "  9) Leave", ""])
('1) About', '9) Leave')
"""

import re
from collections.abc import Sequence

from msgspec import Struct

_MARKED = re.compile(r"\s*(?:[\[(][0-9A-Za-z]{1,2}[\])]|[0-9A-Za-z]{1,2}[).:\]])\s+\S.*")


class MenuPosition(Struct, frozen=True):
    """Where a device waits: what it shows as a prompt, and the choices above it."""

    prompt: str
    choices: tuple[str, ...] = ()


class Step(Struct, frozen=True):
    """One line typed: from where, what, the lines that came, and where it led; None: nowhere."""

    before: MenuPosition
    typed: str
    lines: tuple[str, ...]
    after: MenuPosition | None


def choices_above(lines: Sequence[str]) -> tuple[str, ...]:
    """The numbered choices that end an output, their blanks taken together."""
    found = list[str]()
    for line in reversed(lines):
        if not line.strip():
            if found:
                break
            continue
        if _MARKED.fullmatch(line) is None:
            break
        found.append(" ".join(line.split()))
    return tuple(reversed(found))


def steps_of(
    lines: Sequence[str], typed: Sequence[tuple[int, str, str]], *, menus: bool
) -> list[Step]:
    """Every line typed in a session: `typed` are its number, the prompt, and what was typed.

    Without menus a device stands at one place all the time.
    """
    places, outputs, previous = [], [], 0
    ends = [*(number for number, _, _ in typed[1:]), len(lines)]
    for (number, prompt, _), end in zip(typed, ends, strict=False):
        above = choices_above(lines[previous:number]) if menus else ()
        places.append(MenuPosition(prompt if menus else "", above))
        outputs.append(tuple(lines[number + 1 : end]))
        previous = number + 1
    followed = [*places[1:], *([None] if places else [])]
    return [
        Step(place, text, output, after)
        for place, (_, _, text), output, after in zip(places, typed, outputs, followed, strict=True)
    ]


def chain(steps: Sequence[Step], typed: Sequence[str], home: MenuPosition) -> list[int] | None:
    """The last steps, one leading to the next from home, in which these lines were typed."""

    def back(at: int, left: int, leads_to: MenuPosition | None) -> list[int] | None:
        """The steps up to the one at `left` of what was typed, found before `at`."""
        for here in range(at, -1, -1):
            step = steps[here]
            if step.typed == typed[left] and (leads_to is None or step.after == leads_to):
                if left == 0:
                    if step.before == home:
                        return [here]
                    continue
                if (found := back(here - 1, left - 1, step.before)) is not None:
                    return [*found, here]
            if leads_to is not None and step.before == home and left > 0:
                return None  # another visit
        return None

    return back(len(steps) - 1, len(typed) - 1, None)


def way(steps: Sequence[Step], start: MenuPosition, end: MenuPosition) -> list[str] | None:
    """The fewest lines that led from one place to another in a session; None: it never did."""
    known: dict[MenuPosition, list[str]] = {start: []}
    todo = [start]
    for here in todo:
        if here == end:
            return known[here]
        for step in steps:
            if step.before == here and step.after is not None and step.after not in known:
                known[step.after] = [*known[here], step.typed]
                todo.append(step.after)
    return None

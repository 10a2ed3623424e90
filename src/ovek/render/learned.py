"""What was learned, for a terminal."""

from collections.abc import Iterator

from rich.text import Text

from ovek.model.learned import Learned, LineOf
from ovek.render.lines import Line, count, hanging
from ovek.render.view import View
from ovek.render.visible import visible

_SHOWN = 8


def learned(told: Learned, view: View) -> Iterator[Line]:
    """Go through the lines; `verbose` names every line that is passed over."""
    yield from hanging("", _first(told), indent=0)
    if told.written is not None:
        kept = f"; the sessions are stored in {told.kept} as its tests" if told.kept else ""
        yield from hanging("", f"Wrote {told.written}{kept}.", indent=0)
        if told.choices:
            parts = "[boot] (boot behaviour) and [roles] (file types)"
            do = f"complete {parts} in {told.written}; a session cannot show them"
            yield from hanging("Next: ", f"{do}.", indent=6)
    if told.open:
        yield from ("", Text("NOT PARSED", "bold"))
        for line in told.open:
            yield from _open(line)
    if told.unsettled:
        yield from ("", Text("MISSING", "bold"))
        for one in told.unsettled:
            yield from hanging("  ", f"{one.what}; mark it with: {one.mark}", indent=4)
    yield from _sessions(told)
    if told.guesses:
        title = "SUGGESTED MARKS: accept with --take 1,2 or --take all"
        yield from ("", Text(title, "bold"))
        for number, guess in enumerate(told.guesses, 1):
            where = f"{guess.session}, line {guess.line}"
            yield from hanging(f"  {number:>2}  ", f"{guess.mark}  {where}", indent=6)
    yield from _choices(told)
    yield from ("", Text("IT ASKS", "bold"))
    for asks in told.asks:
        each = "" if asks.each == "device" else f" (for each {asks.each})"
        yield from hanging("  ", f"{asks.asked}{each} → {', '.join(asks.fields)}", indent=4)
    yield from hanging("  ", f"at the prompt {told.prompt}", indent=4)
    if told.pager is not None:
        yield from hanging("  ", f"the pager is answered with {told.pager!r}", indent=4)
    if told.taken:
        yield from ("", Text("READ WITHOUT A MARK", "bold"))
        for text in told.taken:
            yield from hanging("  ", text, indent=4)
    yield from _rest(told, view.verbose)


def _sessions(told: Learned) -> Iterator[Line]:
    """What of each session is not understood; what none tells, and what one leaves out."""
    unfit = [one for one in told.sessions if not one.whole]
    if unfit:
        yield from ("", Text("NOT PARSED COMPLETELY", "bold"))
        for one in unfit:
            lines = [count(one.strange, "line")] if one.strange else []
            yield from hanging("  ", f"{one.session}: {', '.join([*lines, *one.wrong])}", indent=4)
    lacking = [one for one in told.sessions if one.missing and one.whole]
    if lacking:
        yield from ("", Text("FACTS THAT NO SESSION SHOWS", "bold"))
        for one in lacking:
            yield from hanging("  ", f"{one.session}: {', '.join(one.missing)}", indent=4)


def _choices(told: Learned) -> Iterator[Line]:
    """What no session tells, and what follows of each answer."""
    open_ = [choice for choice in told.choices if len(choice.follows) > 1]
    if open_:
        yield from ("", Text("NOT IN ANY SESSION: see the manual of the device", "bold"))
    for choice in open_:
        yield from hanging("  ", choice.asks, indent=2)
        for value, follows in choice.follows.items():
            now = " (the sheet's value now)" if value == choice.value else ""
            yield from hanging(f'    {choice.key} = "{value}": ', f"{follows}{now}", indent=6)


def _first(told: Learned) -> str:
    marks = f"{count(told.marks, 'mark')}, {count(len(told.asks), 'question')}"
    if told.whole:
        sessions = "whole session" if len(told.sessions) == 1 else (
            f"all {len(told.sessions)} sessions"
        )  # fmt: skip
        return f"{told.sheet}: {sessions} parsed ({marks}), no fact missing."
    strange = sum(1 + line.more for line in told.open)
    left = [count(strange, "line") + " not parsed"] if strange else []
    if told.unsettled:
        left.append(f"{count(len(told.unsettled), 'fact')} missing")
    if not left and all(one.whole for one in told.sessions):
        left.append("no session shows every fact")
    elif not left:
        left.append("not every session is parsed")
    mark = _next_mark(told)
    return f"{told.sheet}: {', '.join(left)} ({marks}).{f' Next mark: {mark}' if mark else ''}"


def _next_mark(told: Learned) -> str | None:
    """The mark that settles the most."""
    if told.open:
        most = max(told.open, key=lambda line: line.more)
        return f"{most.marks[0]} in {most.session}, line {most.line}."
    return f"{told.unsettled[0].mark}." if told.unsettled else None


def _open(line: LineOf) -> Iterator[Line]:
    more = f" and {count(line.more, 'line')} like it" if line.more else ""
    yield from hanging(
        "  ", f"{line.session}, line {line.line}: {line.text.strip()!r}{more}", indent=4
    )
    yield from hanging("    mark: ", " or ".join(line.marks), indent=10)


def _rest(told: Learned, verbose: bool) -> Iterator[Line]:
    if told.passed:
        yield from ("", Text("IGNORED: lines without a mark", "bold"))
        shown = told.passed if verbose else told.passed[:_SHOWN]
        for asked, line in shown:
            yield from hanging("  ", f"{asked}: {' '.join(line.split())!r}", indent=4)
        if len(told.passed) > len(shown):
            yield f"  and {count(len(told.passed) - len(shown), 'line')} more (-v shows them)"
    if told.unasked:
        yield from ("", Text("COMMANDS NOT USED: no mark in their output", "bold"))
        yield from hanging("  ", "; ".join(visible(each) for each in told.unasked), indent=4)

"""A sheet tried on a saved session, for a terminal."""

from collections.abc import Iterator

from rich.text import Text

from ovek.model.plain_word import typed
from ovek.model.results.sheets import SheetCheck
from ovek.model.trial import SheetTrial, TriedQuestion
from ovek.render.lines import Line, count, hanging
from ovek.render.view import View
from ovek.render.visible import visible

_SHOWN = 6


def check(result: SheetCheck, view: View) -> Iterator[Line]:
    """Go through the lines: that it is right, and which kept sessions it does not understand."""
    asked = f"{result.questions} questions over {result.by}" if result.questions else "nothing"
    yield f"{result.name}: no mistakes ({result.title}; layout {result.layout}; {asked})."
    failed = [one for one in result.kept if not one.whole]
    if result.kept:
        understood = f"{len(result.kept) - len(failed)} of its {len(result.kept)} kept sessions"
        yield f"It parses {understood}: {count(result.facts, 'fact')}."
    for one in failed:
        problems = [] if one.facts else ["nothing in the session could be parsed"]
        problems += [count(one.strange, "line") + " not parsed"] if one.strange else []
        do = f"ovek sheet try {typed(one.sheet, 'FILE')} {typed(one.file, 'CAPTURE')}"
        yield f"  {one.name}: {', '.join([*problems, *one.wrong])}; {do}"


def trial(tried: SheetTrial, view: View) -> Iterator[Line]:
    """Go through the lines; `verbose` shows every row."""
    unanswered = [question for question in tried.questions if not question.answered]
    strange = sum(len(question.strange) for question in tried.questions)
    lost = sum(len(question.lost) for question in tried.questions)
    if not tried.missing and not strange and not unanswered and not lost:
        first = f"{tried.sheet}: whole session parsed, no fact missing."
    else:
        first = (
            f"{tried.sheet}: {count(len(tried.missing), 'fact')} missing, "
            f"{count(strange, 'line')} not parsed, "
            f"{count(len(unanswered), 'command')} not in the session"
        )
        if not tried.facts:
            first = (
                f"{tried.sheet}: nothing in the session could be parsed; {first.partition(': ')[2]}"
            )
        first += f", {count(lost, 'value')} lost." if lost else "."
    yield from hanging("", first, indent=0)
    for question in tried.questions:
        yield ""
        yield from _question(question, view.verbose)
    told = {line for question in tried.questions for line in question.lost}
    refused = [line for line in tried.problems if line not in told]
    if refused:
        yield from ("", Text("NOTES", "bold"))
        for line in refused:
            yield from hanging("  ", line, indent=4)
    if tried.missing:
        yield from ("", Text("MISSING FACTS", "bold"))
        for fact in tried.missing:
            yield from hanging("  ", fact, indent=4)


def _question(question: TriedQuestion, verbose: bool) -> Iterator[Line]:
    yield Text.assemble(
        (question.name, "bold"),
        f"  asked: {visible(_typed(question.asked))}  fills: {question.fills}",
    )
    if not question.answered:
        yield from hanging("  no answer:", "this command is not in the saved session", indent=13)
    if question.problem is not None:
        yield from hanging("  ignored:", question.problem, indent=13, style="yellow")
    shown = question.rows if verbose else question.rows[:_SHOWN]
    fields = question.fields or ({},) * len(shown)
    for row, filled in zip(shown, fields, strict=False):
        text = ", ".join(f"{name}={_text(value)}" for name, value in row.items() if value)
        gives = ", ".join(f"{name}={_text(value)}" for name, value in filled.items())
        yield from hanging("  row:", text or "(empty)", indent=9)
        yield from hanging("    →", gives or "nothing", indent=9)
    if len(question.rows) > len(shown):
        yield f"  and {count(len(question.rows) - len(shown), 'row')} more (-v shows them)"
    for told in question.lost:
        yield from hanging(
            "  lost:", told.removeprefix(f"{question.name}: "), indent=8, style="yellow"
        )
    for line in question.strange:
        yield from hanging("  not parsed:", repr(line), indent=18, style="yellow")


def _typed(asked: str) -> str:
    """What was typed, several lines as one."""
    return ", then ".join(asked.split("\n"))


def _text(value: object) -> str:
    return visible(", ".join(map(str, value)) if isinstance(value, list) else str(value))

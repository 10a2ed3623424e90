"""Trying a sheet on saved sessions, to see what it understands and what it leaves."""

import asyncio
from collections.abc import Iterable
from datetime import UTC, datetime

from msgspec.structs import replace

from ovek.model.fleet import FleetDevice
from ovek.model.sheet import Question, Sheet
from ovek.model.trial import SheetTrial, TriedQuestion
from ovek.sources.capture import answers_in, asking
from ovek.sources.device_session import Interview, RawAnswer, WantedDigests
from ovek.sources.problem import NoAnswerError
from ovek.sources.snapshot_builder import DraftError, understood
from ovek.sources.survey import outcome_of


def try_sheet(sheet: Sheet, sessions: Iterable[str]) -> SheetTrial:
    """Put the questions of a sheet to saved sessions."""
    now = datetime.now(UTC)
    interview = Interview("the device", sheet, WantedDigests((), {}, everything=True), now)
    asyncio.run(interview.run(asking(answers_in(sessions, interview)), asking_costs=False))
    tried = [
        _tried(interview, question, answer)
        for question in interview.reading.question
        for answer in _answers(interview, question)
    ]
    device = FleetDevice(name="the-device", sheet=sheet.name, access=())
    outcome = outcome_of(device, interview, now)
    missing = outcome.missing
    if outcome.device is None:
        missing = ("everything: nothing was parsed",)
    return SheetTrial(
        sheet=sheet.name,
        questions=tuple(tried),
        missing=missing,
        problems=(*outcome.lost, *outcome.notes),
        lost=outcome.lost,
    )


def _answers(interview: Interview, question: Question) -> list[RawAnswer | None]:
    """The answers to a question; one None where it has none."""
    found: list[RawAnswer | None] = [one for one in interview.evidence if one.name == question.name]
    return found or [None]


def _tried(interview: Interview, question: Question, answer: RawAnswer | None) -> TriedQuestion:
    if answer is None:
        return TriedQuestion(
            name=question.name, asked=question.ask, fills=question.fills, answered=False
        )
    problem, fields = None, []
    try:
        found = interview.rows_in(question, answer)
    except NoAnswerError as none:
        return TriedQuestion(
            name=question.name,
            asked=answer.asked,
            fills=question.fills,
            answered=True,
            problem=str(none),
        )
    lost: tuple[str, ...] = ()
    try:
        made = understood(
            question, answer.context, replace(found, strange=()), interview.draft.clock
        )
        fields, lost = made.rows, tuple(made.lost)
    except DraftError as error:
        problem = str(error)
    return TriedQuestion(
        name=question.name,
        asked=answer.asked,
        fills=question.fills,
        answered=True,
        rows=found.rows,
        fields=tuple(fields),
        strange=found.strange,
        problem=problem,
        lost=lost,
    )

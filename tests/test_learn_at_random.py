"""A thousand sessions of random layouts: what was learned is what is read, or learning says no."""

import asyncio
import tomllib
from datetime import UTC, datetime

import msgspec
import pytest

from languages.at_random import Made, facts_of
from ovek.files.marks import without_marks
from ovek.learn.lesson import SessionError, learn
from ovek.learn.sheet_text import head_of, learned_of, whole
from ovek.model.fleet import FleetDevice
from ovek.model.sheet import Sheet
from ovek.sources.capture import answers_in, asking
from ovek.sources.device_session import Interview, WantedDigests
from ovek.sources.survey import outcome_of


def read(sheet, text):
    """What a sheet makes of a session, as a survey would."""
    now = datetime.now(UTC)
    interview = Interview("the device", sheet, WantedDigests((), {}, everything=True), now)
    asyncio.run(interview.run(asking(answers_in([text], interview)), asking_costs=False))
    device = FleetDevice(name="the-device", sheet=sheet.name, access=())
    strange = [line for each in interview.evidence for line in strange_in(interview, each)]
    return outcome_of(device, interview, now), strange


def strange_in(interview, answer):
    question = next(q for q in interview.reading.question if q.name == answer.name)
    return interview.rows_in(question, answer).strange if answer.text else ()


@pytest.mark.parametrize("block", range(10))
def test_what_was_marked_comes_out_or_learning_says_that_it_does_not(block):
    right = 0
    for seed in range(block * 100, block * 100 + 100):
        made = Made(seed)
        try:
            lesson = learn([made.text])
        except SessionError as refused:
            assert refused.line, (seed, refused)
            assert "order:not marked" in made.traits, (seed, refused)
            continue
        sheet = tomllib.loads(whole(head_of("x", lesson), learned_of(lesson)))
        found, strange = read(msgspec.convert(sheet, Sheet), without_marks(made.text))
        said = bool(lesson.open or lesson.unsettled or found.missing or found.lost or strange)
        if facts_of(found.device) == made.facts:
            right += not said
        else:
            assert said, (seed, made.text)
            # Nobody said which list is which: that is asked, and never guessed.
            assert "order:not marked" in made.traits, (seed, made.text)
    assert right > 75, right

"""By saved terminal sessions."""

from ovek.sources.away import away
from ovek.sources.capture import Told, answers_in, asking, find_captures, read_capture
from ovek.sources.learn.marks import without_marks
from ovek.sources.ways.interface import Door


async def read(door: Door) -> None:
    """Find the answers in the sessions."""

    def found() -> Told:
        files = [*door.setup.captures] or find_captures(door.setup.site, door.device.capture)
        sessions = (without_marks(read_capture(file)) for file in files)
        return answers_in(sessions, door.interview)

    answers = await away(lambda stop: found())
    await door.interview.run(asking(answers), asking_costs=False)

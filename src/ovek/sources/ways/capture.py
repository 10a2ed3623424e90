"""By saved terminal sessions."""

from ovek.files.marks import is_marked, without_marks
from ovek.sources.away import away
from ovek.sources.capture import SessionAnswer, answers_in, asking, find_captures, read_capture
from ovek.sources.ways.interface import Door


async def read(door: Door) -> None:
    """Find the answers in the sessions.

    One that a person names may be the copy that was marked to learn from. Of those that the fleet
    file names nothing is taken out: what looks like a mark may be what the device said.
    """
    given, problems = door.setup.captures, door.interview.draft.problems

    def found() -> SessionAnswer:
        files = [*given] or find_captures(door.setup.site, door.device.capture)
        sessions = [read_capture(file) for file in files]
        if given:
            return answers_in(map(without_marks, sessions), door.interview)
        problems.extend(
            f"{file.name} contains marks for ovek sheet learn: use the session without marks"
            for file, session in zip(files, sessions, strict=True)
            if is_marked(session)
        )
        return answers_in(sessions, door.interview)

    answers = await away(lambda stop: found())
    await door.interview.run(asking(answers), asking_costs=False)

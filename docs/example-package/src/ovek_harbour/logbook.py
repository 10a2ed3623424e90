"""An access method: devices that somebody reads by hand, each answer a file in `logbook/HOST`.

`read` asks what the sheet asks, and hands over each answer; what is not there stays unknown.
"""

from ovek.model.sheet import Question
from ovek.sources.problem import NoAnswerError, ReadProblem
from ovek.sources.ways.interface import Door


async def read(door: Door) -> None:
    """Put the sheet's questions to the pages that lie there; raises ReadProblem without any."""
    folder = door.setup.site / "logbook" / (door.device.host or "")
    if not folder.is_dir():
        raise ReadProblem("opening the logbook", f"{folder.name} has no page", "Write one")

    async def ask(question: Question, typed: str, seconds: float) -> str:
        page = folder / f"{typed.replace(' ', '-')}.txt"
        if not page.is_file():
            raise NoAnswerError(f"the logbook has no page {page.name}")
        return page.read_text(encoding="utf-8", errors="replace")

    await door.interview.run(ask)

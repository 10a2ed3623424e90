"""By SSH: a terminal dialogue, or a program a question."""

from ovek.sources.ssh import programs, terminal
from ovek.sources.ways.interface import Door


async def read(door: Door) -> None:
    """Ask the questions of the sheet."""
    reading, limits = door.interview.sheet.reading, door.setup.limits
    connection = await door.connection()
    if reading.by == "exec":
        await door.interview.run(programs(connection, limits))
        return
    async with terminal(connection, reading, limits) as ask:
        await door.interview.run(ask)

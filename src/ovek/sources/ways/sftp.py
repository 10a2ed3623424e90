"""By SFTP: the folders that the sheet names as volumes."""

from ovek.sources.sftp import read_sftp
from ovek.sources.ways.interface import Door


async def read(door: Door) -> None:
    """List the files, and measure those that are wanted."""
    setup = door.setup
    connection = await door.connection()
    await read_sftp(connection, door.interview, setup.limits, setup.rate, door.partial)

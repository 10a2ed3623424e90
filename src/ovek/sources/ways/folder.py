"""By a folder: a mounted stick, or an unpacked backup."""

from ovek.sources.folder import read_folder
from ovek.sources.ways.interface import Door


async def read(door: Door) -> None:
    """Read the folder as a volume of a member."""
    device = door.device
    folder = door.setup.site / (device.folder or "")
    await read_folder(door.interview, folder, device.member, device.volume)

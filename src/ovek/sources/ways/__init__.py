"""The ways to reach a device: each a module of its name, listed in `model.fleet.WAYS`.

An installed package brings others, each a module with `async def read(door)`.
"""

from importlib import import_module
from importlib.util import find_spec

from ovek.files.packages import ACCESS, brought
from ovek.model.fleet import Way
from ovek.sources.ways.interface import Read


def way_of(name: Way) -> Read:
    """What reads a device by this way."""
    external = {one.name: one for one in brought(ACCESS)}
    if find_spec(f"{__name__}.{name}") is None and name in external:
        loaded: Read = external[name].load().read
        return loaded
    read: Read = import_module(f"{__name__}.{name}").read
    return read

"""The ways to reach a device: each a module of its name, listed in `model.fleet.WAYS`."""

from importlib import import_module

from ovek.model.fleet import Way
from ovek.sources.ways.interface import Read


def way_of(name: Way) -> Read:
    """What reads a device by this way."""
    read: Read = import_module(f"{__name__}.{name}").read
    return read

"""The boot layouts: each a module of its name, found by the list in `model.sheet.LAYOUTS`.

>>> layout_of("banks").holder
'banks'
"""

from functools import lru_cache
from importlib import import_module

from ovek.engine.layouts.interface import Layout


@lru_cache(maxsize=64)
def layout_of(name: str) -> Layout:
    """The layout of this name, as a sheet's `start.layout` tells it."""
    found: Layout = import_module(f"{__name__}.{name}").LAYOUT
    return found

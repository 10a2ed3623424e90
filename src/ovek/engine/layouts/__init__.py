"""The boot layouts: each a module of its name, found by the list in `model.sheet.LAYOUTS`.

>>> layout_named("banks").holder
'banks'
"""

from functools import lru_cache
from importlib import import_module

from ovek.engine.layouts.interface import Layout
from ovek.engine.verdicts import JudgedDevice


def layout_of(judged: JudgedDevice) -> Layout:
    """The layout of a device, as its sheet tells it."""
    return layout_named(judged.judge.sheet.boot.layout)


@lru_cache(maxsize=64)
def layout_named(name: str) -> Layout:
    """The layout of this name, as a sheet's `start.layout` tells it."""
    layout: Layout = import_module(f"{__name__}.{name}").LAYOUT
    return layout

"""How far long work is: whoever calls hands in what shows it."""

from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext

# Shows how far work on so many bytes is; what it gives is called with the bytes that were done.
Bar = Callable[[int], AbstractContextManager[Callable[[int], None]]]


def shown(bar: Bar | None, size: int) -> AbstractContextManager[Callable[[int], None]]:
    """The bar for so many bytes; one that shows nothing where none was handed in."""
    return nullcontext(_silent) if bar is None else bar(size)


def _silent(size: int) -> None:
    """Nobody looks."""

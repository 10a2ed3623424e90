"""What whoever calls hands in: what shows how far long work is, and where work is done."""

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, nullcontext
from typing import Any, Protocol

# Shows how far work on so many bytes is; what it gives is called with the bytes that were done.
Bar = Callable[[int], AbstractContextManager[Callable[[int], None]]]

# How many calls are taken at once elsewhere, and what has one made there; None: none are.
Calls = tuple[int | None, Callable[..., Any] | None]


class Runner(Protocol):
    """Where work on devices is done: see `ovek.app.runner`."""

    @property
    def elsewhere(self) -> bool:
        """Whether that is on other machines."""

    def run(
        self, devices: Any, parts: Iterator[Any], work: Any, args: tuple[Any, ...]
    ) -> Iterator[tuple[int, Any]]:
        """Go through the bytes of each part and what comes of it, in order. Raises InputError."""

    def calls(self) -> AbstractContextManager[Calls]:
        """What takes calls of functions, as long as that lasts. Raises InputError."""


def shown(bar: Bar | None, size: int) -> AbstractContextManager[Callable[[int], None]]:
    """The bar for so many bytes; one that shows nothing where none was handed in."""
    return nullcontext(_silent) if bar is None else bar(size)


def _silent(size: int) -> None:
    """Nobody looks."""

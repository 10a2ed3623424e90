"""Something was asked for that means nothing, whoever asks."""

from collections.abc import Iterable
from difflib import get_close_matches


class UsageError(ValueError):
    """What was asked for means nothing; `option` is what says so, where one thing does."""

    def __init__(self, message: str, option: str | None = None) -> None:
        super().__init__(message)
        self.option = option


def near_to(word: str, known: Iterable[str], *, cutoff: float = 0.6) -> str:
    """The hint that another word may be meant, to put behind a message; empty where none is near.

    >>> near_to("tabel", ["table", "json"])
    "; did you mean 'table'?"
    """
    near = get_close_matches(word, list(known), n=1, cutoff=cutoff)
    return f"; did you mean {near[0]!r}?" if near else ""

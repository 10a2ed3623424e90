"""What the use cases give: typed values, of which the JSON forms are made."""

from collections.abc import Iterable, Sequence
from typing import ClassVar

from ovek.model.answer import Answered, Tally
from ovek.model.context import Context
from ovek.model.result import Result
from ovek.model.unread import Unread


class OfSite(Context, Result, frozen=True, kw_only=True):
    """What is told of a site."""


class OfDevices(OfSite, frozen=True, kw_only=True):
    """What is told of devices of a site; `not_read` are those that were never read, or not lately.

    `answered` are the answers for those that were asked about.
    """

    BESIDE: ClassVar[tuple[str, ...]] = ("answered",)

    not_read: Sequence[Unread] = ()
    answered: Sequence[Answered] = ()


def tally_of(answers: Iterable[Answered]) -> Tally:
    """Count answers."""
    tally = Tally()
    for answer in answers:
        tally.add(answer)
    return tally

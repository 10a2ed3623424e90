"""What a survey did."""

from collections.abc import Sequence
from datetime import datetime

from ovek.model.results import OfSite
from ovek.model.surveyed import Surveyed


class SurveyResult(OfSite, frozen=True, kw_only=True):
    """What came of reading devices into a snapshot; `began` is when that did.

    `written` is whether there is a snapshot, `stopped` how many devices were left when somebody
    ended it.
    """

    FORMAT = "ovek.survey/1"
    LIST = "devices"
    BESIDE = ("written", "stopped")

    snapshot: str
    began: datetime
    devices: Sequence[Surveyed]
    written: bool = True
    stopped: int | None = None


class Pruned(OfSite, frozen=True, kw_only=True):
    """The snapshots that were removed, and the old ones that stay."""

    FORMAT = "ovek.pruned/1"
    LIST = "removed"

    kept: Sequence[str]
    removed: Sequence[str]

"""All that there is to show of a fleet, on a page."""

from collections.abc import Sequence

from ovek.model.answer import Answered, Tally
from ovek.model.context import Context
from ovek.model.custody import Custody
from ovek.model.finding import RuleCard
from ovek.model.history import Day
from ovek.model.report import AdvisoryUse, News, ReportDevice
from ovek.model.result import Many
from ovek.model.results import tally_of
from ovek.model.unread import Unread


class FleetReport(Context, frozen=True, kw_only=True):
    """All that there is to write of a report.

    `answered` are the answers for all that were asked about; `remembered` is what the page holds
    for the next report, packed. `sources` are the files that it was made of: name, size in bytes,
    SHA-256. `days` are none where there is no history, `news` None where there is no earlier
    report. `advisories` are those that affect some device. `written` is the page that it is written
    to, where it is.
    """

    answered: Sequence[Answered]
    devices: Many[ReportDevice]
    cards: Sequence[RuleCard]
    news: News | None
    images: Sequence[Custody]
    sources: Sequence[tuple[str, int, str]]
    not_read: Sequence[Unread]
    days: Sequence[Day]
    remembered: str
    advisories: Sequence[AdvisoryUse] = ()
    written: str | None = None

    @property
    def tally(self) -> Tally:
        """How many devices have which answer."""
        return tally_of(self.answered)

"""The audit of a fleet."""

from collections.abc import Sequence

from ovek.model.answer import Answered, Tally
from ovek.model.finding import AuditSummary, DeviceAudit, RuleCard
from ovek.model.result import Many
from ovek.model.results import OfDevices
from ovek.model.waiver import Waiver


class FleetAudit(OfDevices, frozen=True, kw_only=True):
    """The audits of devices, what they add up to, and the waivers that were of no use.

    `only` are the rules that were asked for, empty for all. Beside what JSON tells: `answered`
    are the answers that are no plain go, `one` is that of the only device that was asked about,
    `releases` is how many the devices are held against, `cards` tell of the rules. `shaped` is
    what whoever asked had made of each audit, with the `widths` of its columns in each part;
    `devices` are none then.
    """

    FORMAT = "ovek.audit/1"
    LIST = "devices"
    BESIDE = ("answered", "one", "releases", "cards", "shaped", "widths")

    devices: Many[DeviceAudit]
    summary: AuditSummary
    only: Sequence[str]
    unused_waivers: Sequence[Waiver]
    one: Answered | None
    releases: int
    cards: Sequence[RuleCard]
    shaped: Many[object] | None = None
    widths: Sequence[Sequence[int]] = ()

    @property
    def tally(self) -> Tally:
        """How many devices have which answer."""
        one = self.summary
        waived = sum(each.answer == "go" for each in self.answered)
        return Tally(
            go=one.go, no_go=one.no_go, unclear=one.unclear, not_read=one.not_read, waived=waived
        )

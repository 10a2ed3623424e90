"""What may go to make room, on each device or all over a fleet; what was done of it."""

from collections.abc import Sequence

from msgspec.structs import replace

from ovek.model.plan import CleanupPlan, CleanupTotals, Confirmed
from ovek.model.result import Many
from ovek.model.results import OfDevices, OfSite


class CleanupPlans(OfDevices, frozen=True, kw_only=True):
    """The cleanup plans of some devices."""

    FORMAT = "ovek.cleanup/1"
    LIST = "plans"
    BESIDE = ("answered", "caption")

    plans: Sequence[CleanupPlan]
    caption: str

    def by_device(self) -> dict[str, "CleanupPlans"]:
        """The plans of each device by themselves."""
        plans: dict[str, list[CleanupPlan]] = {}
        for plan in self.plans:
            plans.setdefault(plan.device, []).append(plan)
        alone = replace(self, not_read=())
        return {device: replace(alone, plans=ours) for device, ours in plans.items()}

    @property
    def enough(self) -> bool:
        """Whether each makes as much room as is wanted."""
        return all(plan.enough for plan in self.plans)


class FleetCleanup(OfDevices, frozen=True, kw_only=True):
    """The cleanup plans of very many devices, and what they add up to.

    `shaped` is what whoever asked had made of each plan, with the `widths` of its columns in each
    part; `plans` are none then.
    """

    FORMAT = "ovek.cleanup/1"
    LIST = "plans"
    BESIDE = ("answered", "shaped", "widths", "caption")

    plans: Many[CleanupPlan]
    totals: CleanupTotals
    caption: str
    shaped: Many[object] | None = None
    widths: Sequence[Sequence[int]] = ()


class CleanupConfirmed(OfSite, frozen=True, kw_only=True):
    """Cleanup plans held against a later snapshot."""

    FORMAT = "ovek.cleanup-confirmed/1"
    LIST = "plans"

    snapshot: str
    plans: Sequence[Confirmed]

    @property
    def as_planned(self) -> bool:
        """Whether all was done, nothing else, and there is room."""
        return not any(one.not_done or one.too_much or not one.enough for one in self.plans)

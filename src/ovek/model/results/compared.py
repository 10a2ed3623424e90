"""Two states of a fleet, compared; a state that is kept for that."""

from collections.abc import Sequence

from msgspec import Struct

from ovek.model.answer import Tally
from ovek.model.compare import DeviceCompare
from ovek.model.context import Context, SnapshotUsed
from ovek.model.results import OfDevices, OfSite


class CompareSummary(Struct, frozen=True, kw_only=True):
    """How many devices changed how, and of how many it is done what was expected."""

    changed: int
    same: int
    new: int
    gone: int
    done: int
    not_done: int
    worse: int


class FleetCompare(OfDevices, frozen=True, kw_only=True):
    """What changed on each of some devices; `before` are the snapshots of the older state.

    `expect` is the version that every member should run now, where one was named.
    """

    FORMAT = "ovek.compare/1"
    LIST = "devices"
    BESIDE = ("answered", "earlier")

    before: tuple[SnapshotUsed, ...]
    expect: str | None
    summary: CompareSummary
    answers: Tally
    devices: Sequence[DeviceCompare]
    earlier: Context

    @property
    def worse(self) -> bool:
        """Whether something got worse, is not what was expected, or keeps a device from going."""
        stranded = any(
            one.next_boot_after == "stranded" and one.next_boot_before not in ("stranded", None)
            for one in self.devices
        )
        no_go = any(one.answer == "no-go" for one in self.answered)
        open_ = self.expect is not None and not all(one.done for one in self.devices)
        return stranded or no_go or open_ or any(one.no_longer_proven for one in self.devices)


class KeptBaseline(OfSite, frozen=True, kw_only=True):
    """A state that was kept under a name: of how many devices; `label` says which it is."""

    FORMAT = "ovek.baseline/1"
    LIST = "snapshots"
    BESIDE = ("label",)

    name: str
    devices: int
    label: str

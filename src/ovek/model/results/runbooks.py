"""The runbooks of a fleet, and what was done of them."""

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from ovek.model.answer import Tally
from ovek.model.results import OfDevices, OfSite
from ovek.model.runbook import Followed, Misfit, Runbook, Wave, Waves


class SharedLink(Struct, frozen=True, kw_only=True):
    """A link that several devices share: how many they are, and how long their copies take."""

    name: str
    devices: int
    minutes: int


class FleetRunbooks(OfDevices, frozen=True, kw_only=True):
    """What is left to do on each of some devices, and when they reload together."""

    FORMAT = "ovek.runbook/1"
    LIST = "devices"
    BESIDE = ("answered", "links", "caption")

    devices: Sequence[Runbook]
    answers: Tally
    waves: Sequence[Wave]
    misfits: Sequence[Misfit]
    links: Sequence[SharedLink]
    caption: str

    @property
    def planned(self) -> Waves:
        """When who reloads together, and who fits into no wave."""
        return Waves(waves=tuple(self.waves), misfits=tuple(self.misfits))

    def by_device(self) -> dict[str, "FleetRunbooks"]:
        """The runbook of each device by itself."""
        alone = replace(self, waves=(), misfits=())
        return {one.device: replace(alone, devices=[one]) for one in self.devices}

    @property
    def something_left(self) -> bool:
        """Whether something is left to do, or has to be found out."""
        return any(one.steps or one.find_out or one.open for one in self.devices)


class RunbooksFollowed(OfSite, frozen=True, kw_only=True):
    """What a later snapshot shows of runbooks; `not_there` are the devices that it lacks."""

    FORMAT = "ovek.runbook-confirmed/1"
    LIST = "devices"

    devices: Sequence[Followed]
    not_there: Sequence[str]

    @property
    def as_planned(self) -> bool:
        """Whether all was done, and nothing else."""
        return not self.not_there and not any(one.not_done or one.too_much for one in self.devices)

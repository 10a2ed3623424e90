"""The boot walks of a fleet."""

from collections.abc import Sequence

from ovek.model.answer import Tally
from ovek.model.results import OfDevices
from ovek.model.walk import DeviceWalk


class FleetWalks(OfDevices, frozen=True, kw_only=True):
    """The boot walks of devices; with what-ifs what is supposed, and the walks `as_it_is`."""

    FORMAT = "ovek.bootwalk/1"
    LIST = "devices"

    devices: Sequence[DeviceWalk]
    answers: Tally
    supposed: Sequence[str] = ()
    as_it_is: Sequence[DeviceWalk] = ()

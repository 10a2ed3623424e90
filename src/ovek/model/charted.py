"""What figures are drawn of: one device's share."""

from msgspec import Struct

from ovek.model.finding import AuditedStart
from ovek.model.flash import VolumeUse
from ovek.model.ofdevice import OfDevice
from ovek.model.verdict import Verdict


class ChartedImage(Struct, frozen=True, gc=False):
    """One image of a device: the release that it is held against, else its name; its verdict."""

    name: str
    verdict: Verdict
    needed: bool


class Charted(OfDevice, frozen=True, kw_only=True):
    """What is drawn of one device; `target` is the version of its target, where one is named.

    `on_target` is whether every member runs and starts that; None is not known.
    """

    target: str | None
    on_target: bool | None
    boots: tuple[AuditedStart, ...]
    images: tuple[ChartedImage, ...]
    flash: tuple[VolumeUse, ...]

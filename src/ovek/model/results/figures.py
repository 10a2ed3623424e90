"""What figures are drawn of."""

from collections.abc import Sequence

from msgspec import Struct

from ovek.model.charted import Charted
from ovek.model.walk import DeviceWalk


class Figure(Struct, frozen=True, kw_only=True):
    """A figure; its `caption` says where it comes from."""

    caption: str


class FlashFigure(Figure, frozen=True, kw_only=True):
    """What is on each flash, to scale."""

    devices: Sequence[Charted]


class VersionsFigure(Figure, frozen=True, kw_only=True):
    """Which versions run at which site."""

    devices: Sequence[Charted]


class VerdictsFigure(Figure, frozen=True, kw_only=True):
    """What every image on every flash is worth."""

    devices: Sequence[Charted]


class WalkFigure(Figure, frozen=True, kw_only=True):
    """Boot walks of one device, each with what is supposed in words."""

    walks: Sequence[tuple[str, DeviceWalk]]

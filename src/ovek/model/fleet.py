"""The devices of a site: `ovek.fleet/1`."""

from typing import Literal

from msgspec import Struct

from ovek.model.snapshot import Name

FORMAT = "ovek.fleet/1"


class FleetDevice(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One device of the fleet. `site` is where it stands, `role` what it does there."""

    name: Name
    sheet: Name
    site: str | None = None
    role: str | None = None


class Fleet(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """All devices of a site."""

    format: Literal["ovek.fleet/1"] = "ovek.fleet/1"
    name: str
    device: tuple[FleetDevice, ...] = ()

    def __post_init__(self) -> None:
        seen = set[str]()
        for device in self.device:
            if device.name in seen:
                raise ValueError(f"the device {device.name!r} is listed twice; list it once")
            seen.add(device.name)

"""Which device a result is of: the keys that every result about a device has."""

from datetime import datetime
from typing import Any

from msgspec import Struct

from ovek.model.snapshot import Device


class OfDevice(Struct, frozen=True, kw_only=True):
    """A device, where it stands, what it does there, what it is, and when it was read.

    None is not known; `site` is the place where it stands.
    """

    device: str
    site: str | None = None
    role: str | None = None
    sheet: str | None = None
    model: str | None = None
    taken_at: datetime | None = None


def of_device(device: Device) -> dict[str, Any]:
    """What those keys are for a device as it was read."""
    return {
        "device": device.device,
        "site": device.site,
        "role": device.role,
        "sheet": device.sheet,
        "model": device.hardware.model,
        "taken_at": device.taken_at,
    }

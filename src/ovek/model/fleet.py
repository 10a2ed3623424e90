"""The devices of a site and how each is reached: `ovek.fleet/1`."""

from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import Meta, Struct

from ovek.model.snapshot import Name

FORMAT = "ovek.fleet/1"

# Every way to reach a device, and the key of the fleet file that it needs. What each does is the
# module of its name in `ovek.sources.ways`.
WAYS: dict[str, str] = {"ssh": "host", "sftp": "host", "capture": "capture", "folder": "folder"}
if TYPE_CHECKING:
    Way = str
else:
    Way = Literal[tuple(WAYS)]


class FleetDevice(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One device of the fleet. `site` is where it stands, `role` what it does there.

    `ways` are taken in their order, each adding what the ones before left open. `capture` are
    globs of saved terminal sessions; `folder` is a mounted stick or unpacked backup that is read
    as the `volume` of the `member`. Paths are relative to the site.
    """

    name: Name
    sheet: Name
    site: str | None = None
    role: str | None = None
    ways: tuple[Way, ...] = ()
    host: str | None = None
    port: Annotated[int, Meta(ge=1, le=65535)] = 22
    user: str | None = None
    capture: tuple[Name, ...] = ()
    folder: str | None = None
    volume: Name = "stick"
    member: Name = "1"

    def __post_init__(self) -> None:
        for way, key in WAYS.items():
            if way in self.ways and not getattr(self, key):
                raise ValueError(f"the device {self.name!r} is read by {way} but has no {key}")


class Fleet(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """All devices of a site. `lists` are CSV files that add devices, or facts of devices here."""

    format: Literal["ovek.fleet/1"] = "ovek.fleet/1"
    name: str
    lists: tuple[Name, ...] = ()
    device: tuple[FleetDevice, ...] = ()

    def __post_init__(self) -> None:
        seen = set[str]()
        for device in self.device:
            if device.name in seen:
                raise ValueError(f"the device {device.name!r} is listed twice; list it once")
            seen.add(device.name)

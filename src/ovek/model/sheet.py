"""A sheet describes one kind of device: `ovek.sheet/1`."""

import re
from typing import Annotated, Literal

from msgspec import Meta, Struct

from ovek.model.snapshot import BootMode, Name

FORMAT = "ovek.sheet/1"

Layout = Literal["files", "banks", "paired"]
Fallback = Literal["first-found", "other-bank", "none"]
OnBadImage = Literal["next", "halt"]
Role = Literal[
    "system-image",
    "package",
    "set-file",
    "part-image",
    "configuration",
    "licence",
    "key",
    "crash-file",
    "log",
    "leftover",
    "unknown",
]
Globs = tuple[Name, ...]


class Start(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How this kind of device starts.

    `mode` is the boot mode of a device that has no setting for it. `default_volume` is where the
    loader looks by itself; None: the first volume.
    """

    layout: Layout
    fallback: Fallback
    on_bad_image: OnBadImage
    mode: BootMode | None = None
    default_volume: str | None = None

    def __post_init__(self) -> None:
        if self.layout == "files" and self.fallback == "other-bank":
            raise ValueError("fallback other-bank needs the layout banks or paired")
        if self.layout != "files" and self.fallback == "first-found":
            raise ValueError("fallback first-found needs the layout files")


class Images(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """How image names are built: regular expressions with the fields family, variant, version."""

    names: tuple[Name, ...] = ()

    def __post_init__(self) -> None:
        for name in self.names:
            _compiled(name, {"family", "variant", "version"})


class Versions(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """A version scheme where the usual order is wrong: named fields, compared in turn."""

    scheme: str | None = None

    def __post_init__(self) -> None:
        if self.scheme is not None and not _compiled(self.scheme, None).groupindex:
            raise ValueError(f"the scheme {self.scheme!r} has no named field to compare")

    @property
    def pattern(self) -> re.Pattern[str] | None:
        """The scheme, compiled; None where the usual order holds."""
        return None if self.scheme is None else re.compile(self.scheme)


class Capacity(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Room that the device needs or loses. `cluster` in bytes counts where the volume has none.

    `unpacked` is what an image takes besides itself while it is installed, as a multiple of its
    size; it counts where the release does not say so in bytes.
    """

    cluster: Annotated[int, Meta(ge=1)] | None = None
    unpacked: Annotated[float, Meta(ge=0, le=100)] | None = None


class Sheet(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One kind of device. `roles` maps a role to globs; the first role that fits wins."""

    format: Literal["ovek.sheet/1"]
    name: Name
    title: str
    vendor: str
    models: Globs
    start: Start
    images: Images = Images()
    roles: dict[Role, Globs] = {}
    versions: Versions = Versions()
    capacity: Capacity = Capacity()


def _compiled(text: str, fields: set[str] | None) -> re.Pattern[str]:
    try:
        pattern = re.compile(text)
    except (re.error, RecursionError, OverflowError) as error:
        raise ValueError(f"{text!r} is not a regular expression: {error}") from None
    for name in pattern.groupindex:
        if fields is not None and name not in fields:
            raise ValueError(f"{text!r} has the field {name!r}; known: {', '.join(sorted(fields))}")
    return pattern

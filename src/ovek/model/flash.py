"""What a volume holds, by what it is for, to scale."""

from typing import Literal, get_args

from msgspec import Struct

from ovek.model.sheet import Role

Content = Literal[
    "running or next",
    "system image",
    "package",
    "component image",
    "archive",
    "configuration, licence, key",
    "leftover, log, crash file",
    "unknown",
    "other",
]
CONTENTS: tuple[Content, ...] = get_args(Content)
"""In the order in which they are shown; `other` is for something else, or is not listed."""


_CONTENT: dict[Role, Content] = {
    "system-image": "system image",
    "set-file": "system image",
    "package": "package",
    "component-image": "component image",
    "archive": "archive",
    "configuration": "configuration, licence, key",
    "licence": "configuration, licence, key",
    "key": "configuration, licence, key",
    "crash-file": "leftover, log, crash file",
    "log": "leftover, log, crash file",
    "leftover": "leftover, log, crash file",
    "unknown": "unknown",
}


def content_of(role: Role) -> Content:
    """What a file is counted as, by its role.

    >>> content_of("crash-file")
    'leftover, log, crash file'
    """
    return _CONTENT.get(role, "other")


class Share(Struct, frozen=True, gc=False):
    """So many bytes of a volume are of this content."""

    content: Content
    size: int


class VolumeUse(Struct, frozen=True, kw_only=True, gc=False):
    """One volume: its size and free bytes, and what it holds by content; None is not known.

    `volume` has the member in front where there are several. `needs` are the bytes that the image
    of the target takes there yet; 0 where it is there, None where none is wanted on this volume.
    """

    volume: str
    capacity: int | None
    free: int | None
    holds: tuple[Share, ...]
    needs: int | None = None

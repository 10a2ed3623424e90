"""A site that was started."""

from collections.abc import Sequence

from msgspec import Struct


class StartedSite(Struct, frozen=True, kw_only=True):
    """A site that was started: its folder, and how many devices it lists.

    `unknown` are the sheets that are to be learned yet, `session` a saved session that is in it,
    `asks` is whether some device is asked, so that its host key has to be trusted.
    """

    folder: str
    devices: int
    unknown: Sequence[str]
    session: str | None
    asks: bool

"""What a survey says of each device (`ovek.survey/1`)."""

from typing import Literal

from msgspec import Struct

ReadResult = Literal["read", "partly read", "not read"]
WORST_READ_FIRST: tuple[ReadResult, ...] = ("not read", "partly read", "read")


class Surveyed(Struct, frozen=True, kw_only=True):
    """One device of a survey: its result, what went wrong, and what to do about it.

    `missing` are facts that its snapshot line does not tell, `lost` values that could not be, each
    with the line that told it, `notes` what was met on the way. `digest_rate` is how fast it
    worked out digests, in bytes a second, where it did. `site`, `role` and `sheet` are the fleet
    file's.
    """

    device: str
    result: ReadResult
    problem: str | None
    do: str | None
    missing: tuple[str, ...]
    lost: tuple[str, ...]
    notes: tuple[str, ...]
    tries: int
    seconds: float
    digest_rate: int | None = None
    site: str | None = None
    role: str | None = None
    sheet: str | None = None

"""How a result is looked at: what a person asked for that changes no fact."""

from typing import Literal

from msgspec import Struct

from ovek.model.finding import Severity, reaches


class View(Struct, frozen=True, kw_only=True):
    """How much of a result is shown, and put together how.

    `verbose` is all of it; `group_by` puts findings together by device, rule or image, or counts
    them (`overview`); `rows` is
    what a table of values has a row for. Findings from `fail_on` up count as failed. `plain` is
    for a terminal that shows ASCII only.
    """

    verbose: bool = False
    group_by: str = "device"
    rows: str = "findings"
    fail_on: Severity | Literal["never"] = "critical"
    plain: bool = False

    def fails(self, severity: Severity) -> bool:
        """Whether a finding of a severity counts as failed."""
        return reaches(severity, self.fail_on)

"""An audit as JSON Lines: a device a line, as in `ovek.audit/1`, so that a fleet streams."""

from collections.abc import Iterator

from ovek.render.forms import AuditResult
from ovek.render.json import line_of


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write a line for each device, then one for each of which nothing is known."""
    for line in result.lines():
        yield line + b"\n"
    for one in result.not_read:
        if one.last_read is None:
            yield line_of(one)

"""A form of a result: `ovek audit --format names` writes each device with its answer."""

from collections.abc import Iterator

from ovek.model.results.audit import FleetAudit
from ovek.render.view import View


def names(result: FleetAudit, view: View) -> Iterator[bytes]:
    """Go through the lines."""
    for audit in result.devices:
        yield f"{audit.device}\t{audit.answer}\n".encode()

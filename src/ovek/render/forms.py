"""The forms in which an audit is written, beside its table: the one list.

A form is the module of its name here in `render`, with a function `write_audit(result)` that goes
through the bytes. The names are those of `--format`.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from importlib import import_module

from msgspec import Struct

from ovek.model.finding import AuditSummary, DeviceAudit, RuleCard, Severity
from ovek.model.unread import Unread
from ovek.model.waiver import Waiver

FORMS = ("json", "csv", "markdown", "junit")


class AuditResult(Struct, frozen=True, kw_only=True):
    """All that there is to write of an audit.

    `audits` can be gone through again and again, `lines` are the same as JSON. `about` tells where
    the facts come from, `not_read` the devices that were not read, `unused` the waivers that were
    of no use, `fails` which severities fail.
    """

    audits: Iterable[DeviceAudit]
    lines: Callable[[], Iterable[bytes]]
    summary: AuditSummary
    as_of: datetime
    group_by: str
    not_read: Sequence[Unread]
    unused: Sequence[Waiver]
    about: Sequence[str]
    cards: Sequence[RuleCard]
    fails: Callable[[Severity], bool]


def written(form: str, result: AuditResult) -> Iterator[bytes]:
    """Go through an audit as it is written in a form."""
    pieces: Iterator[bytes] = import_module(f"ovek.render.{form}").write_audit(result)
    return pieces

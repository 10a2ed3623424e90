"""The forms in which an audit is written, beside its table: the one list.

A form is the module of its name here in `render`, with a function `write_audit(result)` that goes
through the bytes. The names are those of `--format`.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from importlib import import_module

from msgspec import Struct

from ovek.model.answer import Answered, Tally
from ovek.model.context import Context
from ovek.model.finding import AuditSummary, DeviceAudit, RuleCard, Severity
from ovek.model.unread import Unread
from ovek.model.waiver import Waiver

FORMS = ("json", "jsonl", "csv", "markdown", "junit")


class AuditResult(Struct, frozen=True, kw_only=True):
    """All that there is to write of an audit.

    `audits` can be gone through again and again, `lines` are the same as JSON. `held` are the
    answers that are no plain go, `one` is that of the only device that was asked about, `only` the
    rules that were asked for, `rows` what a table of values has a row for. `about` tells of the
    catalog and of the proofs, `not_read` the devices that were not read, `unused` the waivers that
    were of no use, `fails` which severities fail.
    """

    audits: Iterable[DeviceAudit]
    lines: Callable[[], Iterable[bytes]]
    summary: AuditSummary
    held: Sequence[Answered]
    one: Answered | None
    only: Sequence[str]
    context: Context
    group_by: str
    rows: str
    not_read: Sequence[Unread]
    unused: Sequence[Waiver]
    about: Sequence[str]
    cards: Sequence[RuleCard]
    verbose: bool
    fails: Callable[[Severity], bool]

    @property
    def tally(self) -> Tally:
        """How many devices have which answer."""
        one = self.summary
        waived = sum(each.answer == "go" for each in self.held)
        return Tally(
            go=one.go, no_go=one.no_go, unclear=one.unclear, not_read=one.not_read, waived=waived
        )


def written(form: str, result: AuditResult) -> Iterator[bytes]:
    """Go through an audit as it is written in a form."""
    pieces: Iterator[bytes] = import_module(f"ovek.render.{form}").write_audit(result)
    return pieces

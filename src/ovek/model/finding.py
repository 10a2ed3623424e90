"""What an audit says: findings, and one device's share of the answer (`ovek.audit/1`)."""

from collections.abc import Iterable
from datetime import datetime
from operator import attrgetter
from typing import Literal

from msgspec import Struct, field

from ovek.model.answer import Answer
from ovek.model.digest import Algorithm
from ovek.model.do import Do
from ovek.model.ofdevice import OfDevice
from ovek.model.verdict import Verdict
from ovek.model.walk import NextBoot

AffectedUse = Literal["running", "next boot", "target", "fallback"]
Severity = Literal["critical", "warning", "note"]
SEVEREST_FIRST: tuple[Severity, ...] = ("critical", "warning", "note")


def reaches(severity: Severity | None, threshold: str) -> bool:
    """Whether a severity is at or above a threshold; `never` is above all.

    >>> reaches("warning", "note"), reaches("warning", "critical"), reaches("critical", "never")
    (True, False, False)
    """
    if severity is None or threshold == "never":
        return False
    return SEVEREST_FIRST.index(severity) <= SEVEREST_FIRST.index(threshold)


class Finding(Struct, frozen=True, kw_only=True):
    """One thing a rule has to say: where, what was seen, what to do.

    `fixed_after` is the step of the device's plan after which it is gone; None where no step ends
    it. `words` say to a person what to do. `advisory` is the id of the advisory that it is
    about, `affects` what that affects.
    """

    rule: str
    severity: Severity
    place: str | None
    seen: str
    words: str
    fixed_after: int | None = None
    waived: str | None = None
    advisory: str | None = None
    affects: tuple[AffectedUse, ...] = ()


def uses_of(findings: Iterable[Finding]) -> set[tuple[str, str]]:
    """Which advisories affect a device, and what of it, by its findings that are not waived."""
    return {
        (finding.advisory, use)
        for finding in findings
        if finding.advisory is not None and finding.waived is None
        for use in finding.affects
    }


class RuleCard(Struct, frozen=True, kw_only=True):
    """What is told of a rule: what it looks for, why that matters, and what to do about it.

    `speaks_for` are the rules that stay silent where this one tells the whole trouble.
    """

    slug: str
    group: str
    severity: Severity
    looks_for: str
    reason: str
    remedy: str
    speaks_for: tuple[str, ...]


class AuditedImage(Struct, frozen=True, kw_only=True, gc=False):
    """One image and its verdict; `release` is the published file name it was held against.

    `digest_at` is when its digests were measured, where it has any. `needed` is whether a member
    runs it, starts from it or is told to.
    """

    place: str
    verdict: Verdict
    release: str | None = None
    by: Algorithm | None = None
    digest_at: datetime | None = None
    needed: bool = False


class AuditedStart(Struct, frozen=True, kw_only=True, gc=False):
    """What one member runs now and starts next; None is not known, or that it will not start."""

    member: str
    running: str | None
    place: str | None
    version: str | None


class Space(Struct, frozen=True, kw_only=True, gc=False):
    """Free bytes of one volume."""

    volume: str
    free: int | None
    capacity: int | None


class DeviceAudit(OfDevice, frozen=True, kw_only=True):
    """The audit of one device: one entry of `devices` in `ovek.audit/1`.

    `answer` is what a change board asks, `reason` why in a few words and `why` in a sentence; both
    are empty for a plain go. `not_read` is why the last survey that tried it could not read it:
    what is told of it then is what was known before. `target` is the version that policy wants,
    `on_target` whether every member runs and starts it; None is not known, or that none is wanted.
    `steps` are those of its plan, as `ovek runbook` numbers them.
    """

    answer: Answer
    target: str | None = None
    on_target: bool | None = None
    reason: str = ""
    why: str = ""
    not_read: str | None = None
    next_boot: NextBoot
    running: str | None
    boots: tuple[AuditedStart, ...]
    images: tuple[AuditedImage, ...]
    space: tuple[Space, ...]
    findings: tuple[Finding, ...]
    steps: tuple[Do, ...] = ()


class AuditSummary(Struct, kw_only=True):
    """How many devices have which answer and reload verdict, and how many findings which severity.

    A device that was not read counts as that, whatever was known of it before. `oldest_proof` is
    when the oldest digest was measured that proves an image, and `oldest_proven` what that is.
    """

    devices: int = 0
    go: int = 0
    no_go: int = field(default=0, name="no-go")
    unclear: int = 0
    not_read: int = 0
    proven: int = 0
    unproven: int = 0
    stranded: int = 0
    unknown: int = 0
    critical: int = 0
    warning: int = 0
    note: int = 0
    waived: int = 0
    oldest_proof: datetime | None = None
    oldest_proven: str | None = None

    def join(self, other: "AuditSummary") -> None:
        """Count in what another summary counted."""
        for name, more in zip(_COUNTED, _counts(other), strict=True):
            if more:
                setattr(self, name, getattr(self, name) + more)
        self._older(other.oldest_proof, other.oldest_proven)

    def _older(self, at: datetime | None, what: str | None) -> None:
        if at is not None and (self.oldest_proof is None or at < self.oldest_proof):
            self.oldest_proof, self.oldest_proven = at, what

    def add(self, audit: DeviceAudit) -> None:
        """Count one device in."""
        self.devices += 1
        answer = audit.answer.replace("-", "_")
        setattr(self, answer, getattr(self, answer) + 1)
        reload = audit.next_boot if audit.not_read is None else "not_read"
        setattr(self, reload, getattr(self, reload) + 1)
        for image in audit.images:
            if image.digest_at is not None and image.verdict == "proven":
                self._older(image.digest_at, f"{audit.device} {image.place}")
        for finding in audit.findings:
            name = finding.severity if finding.waived is None else "waived"
            setattr(self, name, getattr(self, name) + 1)

    def add_never(self) -> None:
        """Count in a device of which nothing is known."""
        self.devices += 1
        self.not_read += 1
        self.unclear += 1


_COUNTED = tuple(
    name for name in AuditSummary.__struct_fields__ if name not in ("oldest_proof", "oldest_proven")
)
_counts = attrgetter(*_COUNTED)

"""What an audit says: findings, and one device's share of the answer (`ovek.audit/1`)."""

from typing import Literal

from msgspec import Struct

from ovek.model.digest import Algorithm
from ovek.model.verdict import Verdict
from ovek.model.walk import Reload

Severity = Literal["critical", "warning", "note"]
SEVEREST_FIRST: tuple[Severity, ...] = ("critical", "warning", "note")


class Finding(Struct, frozen=True, kw_only=True):
    """One thing a rule has to say: where, what was seen, what to do."""

    rule: str
    severity: Severity
    place: str | None
    saw: str
    do: str
    waived: str | None = None


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
    """One image and its verdict; `release` is the published file name it was held against."""

    place: str
    verdict: Verdict
    release: str | None = None
    by: Algorithm | None = None


class AuditedStart(Struct, frozen=True, kw_only=True, gc=False):
    """What one member runs now and starts next; None is not known, or that it will not start."""

    member: str
    runs: str | None
    place: str | None
    version: str | None


class Space(Struct, frozen=True, kw_only=True, gc=False):
    """Free bytes of one volume."""

    volume: str
    free: int | None
    capacity: int | None


class DeviceAudit(Struct, frozen=True, kw_only=True):
    """The audit of one device: one entry of `devices` in `ovek.audit/1`."""

    device: str
    reload: Reload
    runs: str | None
    starts: tuple[AuditedStart, ...]
    images: tuple[AuditedImage, ...]
    space: tuple[Space, ...]
    findings: tuple[Finding, ...]


class AuditSummary(Struct, kw_only=True):
    """How many devices have which reload verdict, and how many findings which severity."""

    devices: int = 0
    ready: int = 0
    unproven: int = 0
    stranded: int = 0
    unknown: int = 0
    critical: int = 0
    warning: int = 0
    note: int = 0
    waived: int = 0

    def join(self, other: "AuditSummary") -> None:
        """Count in what another summary counted."""
        for name in self.__struct_fields__:
            setattr(self, name, getattr(self, name) + getattr(other, name))

    def add(self, audit: DeviceAudit) -> None:
        """Count one device in."""
        self.devices += 1
        setattr(self, audit.reload, getattr(self, audit.reload) + 1)
        for finding in audit.findings:
            name = finding.severity if finding.waived is None else "waived"
            setattr(self, name, getattr(self, name) + 1)

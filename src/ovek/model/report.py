"""A report: what there is to say of every device on one page, and what a later one needs of it."""

from datetime import datetime

from msgspec import Struct

from ovek.model.answer import Answer
from ovek.model.digest import Algorithm
from ovek.model.finding import AuditedImage, AuditedStart, Finding
from ovek.model.flash import VolumeUse
from ovek.model.ofdevice import OfDevice
from ovek.model.runbook import Runbook
from ovek.model.snapshot import Evidence
from ovek.model.walk import DeviceWalk, NextBoot

FORMAT = "ovek.report/1"


class ReportImage(AuditedImage, frozen=True, kw_only=True, gc=False):
    """One image of an audit, with all of its digests. `size` is in bytes; None is not known."""

    why: str
    size: int | None
    digests: tuple[tuple[Algorithm, str], ...]


class ReportDevice(OfDevice, frozen=True, kw_only=True):
    """All that a report tells of one device; `target` is its target, where one is named."""

    answer: Answer
    reason: str
    why: str
    not_read: str | None
    next_boot: NextBoot
    target: str | None
    on_target: bool | None
    boots: tuple[AuditedStart, ...]
    walk: DeviceWalk
    images: tuple[ReportImage, ...]
    flash: tuple[VolumeUse, ...]
    findings: tuple[Finding, ...]
    runbook: Runbook
    evidence: tuple[Evidence, ...]


class ImageState(Struct, frozen=True):
    """What a report remembers of a device: its answer, what it runs, and what was found."""

    answer: Answer
    running: str
    found: tuple[str, ...]


class Remembered(Struct, frozen=True, kw_only=True):
    """What a report remembers for the next one (`ovek.report/1`)."""

    format: str
    as_of: datetime
    site: str
    devices: dict[str, ImageState]


class AdvisoryUse(Struct, frozen=True, kw_only=True):
    """A security advisory, and the devices of which an image is affected, by what it is there."""

    id: str
    title: str
    score: float | None
    devices: dict[str, tuple[str, ...]]


class News(Struct, frozen=True, kw_only=True):
    """What is another since an earlier report, as `(device, was, is)`; else `(device, what)`."""

    since: datetime
    answers: tuple[tuple[str, str, str], ...]
    versions: tuple[tuple[str, str, str], ...]
    opened: tuple[tuple[str, str], ...]
    closed: tuple[tuple[str, str], ...]
    new: tuple[str, ...]
    gone: tuple[str, ...]

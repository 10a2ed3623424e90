"""The audit of one device: verdicts, the boot walk, then every rule."""

from ovek.engine.bootwalk import walk_device
from ovek.engine.rules import RULES, Said, Subject, banks, boot, images, space, subject_of, upkeep
from ovek.engine.verdicts import Judge, judge_device
from ovek.model.finding import (
    SEVEREST_FIRST,
    AuditedImage,
    AuditedStart,
    DeviceAudit,
    Finding,
    Severity,
    Space,
)
from ovek.model.policy import Policy
from ovek.model.snapshot import Device

__all__ = ["audit_device", "banks", "boot", "images", "space", "upkeep"]


def audit_device(device: Device, judge: Judge, policy: Policy) -> DeviceAudit:
    """Audit one device; findings come severest first, then in the order of the rules."""
    judged = judge_device(device, judge)
    walk = walk_device(judged)
    subject = subject_of(judged, walk, policy)
    findings = [
        _finding(rule.slug, said.severity or rule.severity, said, subject)
        for rule in RULES.values()
        for said in rule.check(subject)
    ]
    findings.sort(key=lambda finding: SEVEREST_FIRST.index(finding.severity))
    return DeviceAudit(
        device=device.device,
        reload=walk.reload,
        runs=device.running.version,
        starts=_starts(subject),
        images=_images(subject),
        space=_space(subject),
        findings=tuple(findings),
    )


def _finding(slug: str, severity: Severity, said: Said, subject: Subject) -> Finding:
    several = len(subject.members) > 1
    place = None if said.place is None else str(said.place.on(said.member if several else None))
    saw = said.saw
    if place is None and several and said.member is not None:
        saw = f"member {said.member}: {saw}"
    return Finding(rule=slug, severity=severity, place=place, saw=saw, do=said.do)


def _starts(subject: Subject) -> tuple[AuditedStart, ...]:
    running = subject.judged.device.running.version
    return tuple(
        AuditedStart(
            member=member.id,
            runs=member.one.member.running_version or running,
            place=member.walk.starts.place if member.walk.starts else None,
            version=member.walk.starts.version if member.walk.starts else None,
        )
        for member in subject.members
    )


def _images(subject: Subject) -> tuple[AuditedImage, ...]:
    several = len(subject.members) > 1
    found = []
    for member in subject.members:
        front = member.id if several else None
        by_themselves = (image for image in member.one.banks.values() if not image.parts)
        for image in (*member.one.images.values(), *by_themselves):
            judgement = image.judgement
            found.append(
                AuditedImage(
                    place=str(image.place.on(front)),
                    verdict=judgement.verdict,
                    release=judgement.release.file if judgement.release is not None else None,
                    by=judgement.by,
                )
            )
    return tuple(found)


def _space(subject: Subject) -> tuple[Space, ...]:
    several = len(subject.members) > 1
    found = []
    for member in subject.members:
        volume = space.image_volume(subject, member.one.member)
        if volume is not None:
            name = f"{member.id}/{volume.name}:" if several else f"{volume.name}:"
            found.append(Space(volume=name, free=volume.free, capacity=volume.capacity))
    return tuple(found)

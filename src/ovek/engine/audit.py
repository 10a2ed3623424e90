"""The audit of one device: verdicts, the boot walk, then every rule."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from graphlib import TopologicalSorter

from ovek.engine.bootwalk import walk_device
from ovek.engine.layouts.writing import image_volume
from ovek.engine.rules import Rule, Said, Subject, subject_of
from ovek.engine.rules.every import RULES
from ovek.engine.verdicts import Judge, judge_device
from ovek.engine.waivers import waive
from ovek.engine.wanted import Wants
from ovek.model.finding import (
    SEVEREST_FIRST,
    AuditedImage,
    AuditedStart,
    DeviceAudit,
    Finding,
    RuleCard,
    Severity,
    Space,
)
from ovek.model.fleet import Expected
from ovek.model.place import Place
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device
from ovek.model.waiver import Waiver


def _most_telling_first() -> list[Rule]:
    """The rules so that each comes before those it speaks for, else as they are listed."""
    graph: dict[str, set[str]] = {slug: set() for slug in RULES}
    for each in RULES.values():
        for quiet in each.speaks_for:
            graph[quiet].add(each.slug)
    return [RULES[slug] for slug in TopologicalSorter(graph).static_order()]


_ORDER = _most_telling_first()
_PLACE_IN_LIST = {slug: at for at, slug in enumerate(RULES)}


def rule_cards() -> list[RuleCard]:
    """What there is to tell of every rule, in the order in which they are listed."""
    return [
        RuleCard(
            slug=each.slug,
            group=each.group,
            severity=each.severity,
            looks_for=" ".join((each.check.__doc__ or "").split()),
            reason=each.reason,
            remedy=each.remedy,
            speaks_for=tuple(slug for slug in RULES if slug in each.speaks_for),
        )
        for each in RULES.values()
    ]


def audit_device(
    device: Device,
    judge: Judge,
    wants: Wants,
    *,
    now: datetime,
    shelf: ShelfFacts | None = None,
    waivers: Iterable[Waiver] = (),
    used: set[Waiver] | None = None,
    expected: Expected | None = None,
    not_read: str | None = None,
) -> DeviceAudit:
    """Audit one device; findings come severest first, then in the order of the rules.

    `now` is when the audit is made, against which the snapshot's age counts. The waivers that were
    of use are added to `used`. `expected` are the members that the fleet file tells of, `not_read`
    is why the last survey could not read it. Raises ContradictionError where two wants contradict
    each other.
    """
    judged = judge_device(device, judge)
    walk = walk_device(judged)
    age = (now - device.taken_at).total_seconds()
    wanted = wants.of(judged)
    subject = subject_of(judged, walk, wants.policy, wanted, age, shelf, expected)
    findings = list(_findings(subject))
    findings.sort(key=_severest_first)
    marked, of_use = waive(findings, device.device, waivers, now.date())
    if used is not None:
        used |= of_use
    return DeviceAudit(
        device=device.device,
        taken_at=device.taken_at,
        not_read=not_read,
        reload=walk.reload,
        runs=device.running.version,
        starts=_starts(subject),
        images=_images(subject),
        space=_space(subject),
        findings=marked,
    )


def _severest_first(finding: Finding) -> tuple[int, int, str, str]:
    severity = SEVEREST_FIRST.index(finding.severity)
    return severity, _PLACE_IN_LIST[finding.rule], finding.place or "", finding.saw


def _findings(subject: Subject) -> Iterator[Finding]:
    """Ask every rule; one that another has spoken for about a member is not heard on it."""
    changed = subject.policy.severity
    alone = len(subject.members) == 1
    quiet = set[tuple[str | None, str]]()
    for rule in _ORDER:
        asked = changed.get(rule.slug) if changed else None
        if asked == "off":
            continue
        for said in rule.check(subject):
            member = None if alone else said.member
            if quiet and ((member, rule.slug) in quiet or (None, rule.slug) in quiet):
                continue
            if said.whole:
                quiet.update((member, slug) for slug in rule.speaks_for)
            severity = asked or said.severity or rule.severity
            yield _finding(rule, severity, said, subject)


def _finding(rule: Rule, severity: Severity, said: Said, subject: Subject) -> Finding:
    several = len(subject.members) > 1
    place = None if said.place is None else _placed(said.place, said.member, several)
    saw = said.saw
    if place is None and several and said.member is not None:
        saw = f"member {said.member}: {saw}"
    return Finding(
        rule=rule.slug, severity=severity, place=place, saw=saw, do=said.do or rule.remedy
    )


def _placed(place: Place, member: str | None, several: bool) -> str:
    """A place with its member in front where there are several, or where it is no member's."""
    owner = place.member if place.member is not None else member
    return str(place.on(owner if several or owner != member else None))


def _starts(subject: Subject) -> tuple[AuditedStart, ...]:
    return tuple(
        AuditedStart(
            member=member.id,
            runs=member.runs,
            place=member.walk.starts.place if member.walk.starts else None,
            version=member.starts,
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
            judgement, file = image.judgement, image.file
            found.append(
                AuditedImage(
                    place=str(image.place.on(front)),
                    verdict=judgement.verdict,
                    release=judgement.release.file if judgement.release is not None else None,
                    by=judgement.by,
                    measured_at=file.digests_at if file is not None else None,
                )
            )
    return tuple(found)


def _space(subject: Subject) -> tuple[Space, ...]:
    several = len(subject.members) > 1
    found = []
    for member in subject.members:
        volume = image_volume(subject.judged.judge.sheet, member.one.member)
        if volume is not None:
            name = f"{member.id}/{volume.name}:" if several else f"{volume.name}:"
            found.append(Space(volume=name, free=volume.free, capacity=volume.capacity))
    return tuple(found)

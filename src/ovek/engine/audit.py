"""The audit of one device: verdicts, the boot walk, then every rule."""

from collections.abc import Iterator
from datetime import datetime

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.answer import Meant, answered
from ovek.engine.bootwalk import reads_config, walk_device
from ovek.engine.changes import NO_RATES, Rates
from ovek.engine.compare import on_target
from ovek.engine.layouts.writing import image_volume
from ovek.engine.plan import Asked, Plan, plan
from ovek.engine.plan.plan_text import PlanText, logs_stay, usual_words
from ovek.engine.rules import MemberSubject, Stops, Subject, subject_of
from ovek.engine.rules.every import RULES
from ovek.engine.run_rules import RuleFindings, run_rules, uncovered
from ovek.engine.runs import runs_of
from ovek.engine.shapes import Shapes, shape_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import JudgedDevice, standing_images
from ovek.engine.waivers import waive
from ovek.engine.wanted import Wants, way_to
from ovek.model.answer import Answered
from ovek.model.bound import Bound
from ovek.model.finding import (
    SEVEREST_FIRST,
    AuditedImage,
    AuditedStart,
    DeviceAudit,
    Finding,
    RuleCard,
    Space,
)
from ovek.model.fleet import Expected
from ovek.model.ofdevice import of_device
from ovek.model.place import Place
from ovek.model.plan import Unlock
from ovek.model.shelf import ShelfFacts
from ovek.model.waiver import Waiver


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


class Terms(Struct, frozen=True, kw_only=True):
    """What a device is audited by, besides what is known of it.

    `now` is when the audit is made, against which the snapshot's age counts. `expected` are the
    members that the fleet file tells of, `not_read` is why the last survey could not read it.
    `plans` is whether a plan is made, by which findings say after which step they are gone;
    `may_drop` is what a person unlocked for it by name, `rates` by which its steps are timed.
    """

    now: datetime
    shelf: ShelfFacts | None = None
    waivers: tuple[Waiver, ...] = ()
    expected: Expected | None = None
    not_read: str | None = None
    plans: bool = True
    may_drop: frozenset[Unlock] = frozenset()
    rates: Rates = NO_RATES


def audit_judged(
    judged: JudgedDevice,
    wants: Wants,
    terms: Terms,
    used: set[Waiver] | None = None,
    made: Plan | None = None,
) -> DeviceAudit:
    """Audit one device whose images are judged already. Raises ContradictionError."""
    return audit_within(judged, wants, terms, used, made)[0]


def audit_within(
    judged: JudgedDevice,
    wants: Wants,
    terms: Terms,
    used: set[Waiver] | None = None,
    made: Plan | None = None,
    shapes: Shapes | None = None,
) -> tuple[DeviceAudit, tuple[Bound, ...]]:
    """The same, and within which bounds of its times it stays as it is.

    `made` is the plan of the device, where it was made before for the same waivers. `shapes` is
    what was found on devices before that were audited by the same terms.
    It does not tell by which day a waiver ends. Raises ContradictionError.
    """
    device, walk = judged.device, walk_device(judged)
    times, running = times_of(device, terms.now), runs_of(judged)
    wanted, key = wants.with_key(judged, running)
    subject = subject_of(
        judged, walk, wants.policy, wanted, times, terms.shelf, terms.expected, running
    )
    shape = shape_of(subject, key, terms.waivers) if shapes is not None else None
    found = shapes.find(shape, subject) if shapes is not None and shape is not None else None
    text = None
    if found is None:
        of_rules, left = list(run_rules(subject)), False
        found = uncovered(of_rules, subject)
        if terms.plans and found:
            asked = Asked(waivers=terms.waivers, may_drop=terms.may_drop)
            planned = made or plan(subject, asked)
            left = bool(planned.changes or planned.barred)
            if left:
                logs_stay(subject)
            text = PlanText(subject, planned, wants, terms.rates)
        if shapes is not None and shape is not None and not left:
            shapes.keep(shape, subject, of_rules, planned=text is not None)
    findings = [finding_of(each, subject, text) for each in found]
    findings.sort(key=_severest_first)
    marked, of_use = waive(findings, device.device, terms.waivers, terms.now.date())
    if used is not None:
        used |= of_use
    answer = answered(walk, marked, terms.not_read, list(_meant(subject)))
    audit = DeviceAudit(
        **of_device(device),
        not_read=terms.not_read,
        answer=answer.answer,
        reason=answer.why,
        why=answer.detail,
        next_boot=walk.next_boot,
        target=wanted.target,
        on_target=on_target(judged, walk, wanted.target),
        running=_runs(subject),
        boots=_starts(subject),
        images=_images(subject),
        space=_space(subject),
        findings=marked,
        steps=text.dos if text is not None else (),
    )
    return audit, times.bounds


def _meant(subject: Subject) -> Iterator[Meant]:
    """How the next start of each member stands to what it runs and to what is wanted."""
    wanted = subject.wanted
    for member in subject.members:
        order = subject.order(member.boots, member.running)
        goal = subject.order(member.boots, wanted.goal_version) == 0
        yield Meant(
            member=member.id,
            running=None if order is None else order == 0,
            wanted=goal or _is_hop(subject, member),
            target=wanted.target,
            config=reads_config(subject.judged, member.one),
        )


def _is_hop(subject: Subject, member: MemberSubject) -> bool:
    """Whether a member starts the first install on the way to what is wanted."""
    goal = subject.wanted.goal_of(member.id)
    starting = member.boot_image.judgement.release if member.boot_image is not None else None
    if goal is None or starting is None or subject.order(member.boots, member.running) == 0:
        return False
    hops = way_to(subject.judged, goal, subject.wanted, member.id).hops or ()
    first = next((hop.release for hop in hops if hop.loads == "image"), None)
    return first is not None and first.same_bytes(starting)


def answer_in(audit: DeviceAudit) -> Answered:
    """The answer as an audit tells it."""
    severe = [one for one in audit.findings if one.severity == "critical"]
    return Answered(
        device=audit.device,
        answer=audit.answer,
        why=audit.reason,
        detail=audit.why,
        waived=sum(one.waived is not None for one in severe),
        read=audit.not_read is None,
        next_boot=audit.next_boot,
    )


def answer_of(
    judged: JudgedDevice, wants: Wants, terms: Terms, shapes: Shapes | None = None
) -> Answered:
    """The answer alone; `shapes` as in `audit_within`, without plans.

    Raises ContradictionError where two wants contradict each other.
    """
    terms = replace(terms, plans=False)
    return answer_in(audit_within(judged, wants, terms, shapes=shapes)[0])


# What a finding stops, the worst first.
_STOPPED: dict[Stops | None, int] = {
    None: 0, "boot": 0, "proof": 1, "target": 2, "settings": 3, "fallback": 4, "nothing": 5,
}  # fmt: skip


def _severest_first(finding: Finding) -> tuple[int, int, int, str, str]:
    severity, rule = SEVEREST_FIRST.index(finding.severity), RULES[finding.rule]
    return (
        severity,
        _STOPPED[rule.stops],
        rule.number,
        finding.place or "",
        finding.seen,
    )


def finding_of(findings: RuleFindings, subject: Subject, text: PlanText | None = None) -> Finding:
    """What was found as a finding, with the step after which it is gone where there is a plan."""
    said, several = findings.said, len(subject.members) > 1
    place = None if said.place is None else _placed(said.place, said.member, several)
    seen = said.seen
    if place is None and several and said.member is not None:
        seen = f"member {said.member}: {seen}"
    after, words = text.of(findings) if text is not None else (None, usual_words(findings))
    return Finding(
        rule=findings.rule.slug,
        severity=findings.severity,
        place=place,
        seen=seen,
        words=words,
        fixed_after=after,
        advisory=said.advisory,
        affects=said.affects,
    )


def _placed(place: Place, member: str | None, several: bool) -> str:
    """A place with its member in front where there are several, or where it is no member's."""
    owner = place.member if place.member is not None else member
    return str(place.on(owner if several or owner != member else None))


def _runs(subject: Subject) -> str | None:
    """The version that a device runs: as it tells, else that of its members where it is one."""
    version = subject.judged.device.running.version
    versions = {member.running for member in subject.members}
    return version if version is not None or len(versions) != 1 else versions.pop()


def _starts(subject: Subject) -> tuple[AuditedStart, ...]:
    return tuple(
        AuditedStart(
            member=member.id,
            running=member.running,
            place=member.walk.boots.place if member.walk.boots else None,
            version=member.boots,
        )
        for member in subject.members
    )


def _images(subject: Subject) -> tuple[AuditedImage, ...]:
    needed = {member.id: member.needed for member in subject.members}
    return tuple(
        AuditedImage(
            place=str(one.shown),
            verdict=one.judgement.verdict,
            release=one.release,
            by=one.judgement.by,
            digest_at=one.image.file.digests_at if one.image.file is not None else None,
            needed=one.image.place in needed[one.member],
        )
        for one in standing_images(subject.judged)
    )


def _space(subject: Subject) -> tuple[Space, ...]:
    several = len(subject.members) > 1
    found = []
    for member in subject.members:
        volume = image_volume(subject.judged.judge.sheet, member.one.member)
        if volume is not None:
            name = f"{member.id}/{volume.name}:" if several else f"{volume.name}:"
            found.append(Space(volume=name, free=volume.free, capacity=volume.capacity))
    return tuple(found)

"""Rules on security advisories: what runs, boots next, is wanted or is the fallback, and affected.

A rule says it once for each advisory and member. What is not matched says nothing; `not affected`
and `fixed` say nothing, and what is under investigation is a note.
"""

from collections.abc import Iterator
from typing import NamedTuple

from ovek.engine.fallback import WantedFallbacks, fallbacks
from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.model.advisory import Concern
from ovek.model.finding import AffectedUse, Severity
from ovek.model.policy import Policy
from ovek.model.verdict import Image, KnownRelease

_WORDS: dict[str, Severity] = {
    "critical": "critical", "high": "warning", "important": "warning", "medium": "warning",
    "moderate": "warning", "low": "note", "none": "note",
}  # fmt: skip
_SAYING = ("affected", "under investigation")
_SHOWN = 3  # vulnerabilities that are named


def severity_of(concern: Concern, policy: Policy) -> Severity:
    """How severe it is: by its score and policy, else by its publisher's word, else a warning."""
    if concern.standing == "under investigation":
        return "note"
    if concern.score is not None:
        if concern.score >= policy.advisory_critical:
            return "critical"
        return "warning" if concern.score >= policy.advisory_warning else "note"
    return _WORDS.get((concern.severity or "").casefold(), "warning")


class _AboutImage(NamedTuple):
    """What is said of one thing; not `sure` where it may be another file of that version."""

    concerns: tuple[Concern, ...]
    sure: bool = True


def _concerns(subject: Subject, image: Image | None, version: str | None) -> _AboutImage:
    """What is said of an image, by its release or its bytes; else of the files of its version.

    Where these differ, what is said of any of them may be said of it.
    """
    releases = subject.judged.judge.releases
    if image is not None:
        release, verdict = image.judgement.release, image.judgement.verdict
        if release is not None and verdict in ("proven", "matched", "unverified"):
            return _AboutImage(_of(subject, release))
        digests = image.file.digests if image.file is not None else None
        by_bytes = releases.advisories.of_digests(digests)
        if by_bytes or verdict in ("altered", "truncated", "disputed"):
            return _AboutImage(by_bytes)
    if version is None:
        return _AboutImage(())
    same = [
        one
        for one in releases.for_model(subject.judged.device.hardware.model)
        if one.version == version and one.kind in (None, "system-image")
    ]
    answers = list(dict.fromkeys(_of(subject, release) for release in same))
    concerns = dict.fromkeys(concern for answer in answers for concern in answer)
    return _AboutImage(tuple(concerns), len(answers) < 2)


def _of(subject: Subject, release: KnownRelease) -> tuple[Concern, ...]:
    releases = subject.judged.judge.releases
    return releases.advisories.of_release(release, releases.releases)


def _said(
    subject: Subject,
    member: str | None,
    known: _AboutImage,
    what: str,
    affects: tuple[AffectedUse, ...],
) -> Iterator[Said]:
    """Say what each advisory says of one thing; under investigation it affects nothing yet."""
    by_advisory: dict[str, list[Concern]] = {}
    for concern in known.concerns:
        if concern.standing in _SAYING:
            by_advisory.setdefault(concern.advisory, []).append(concern)
    order = ("critical", "warning", "note")
    for advisory, group in sorted(by_advisory.items()):
        group.sort(
            key=lambda one: (order.index(severity_of(one, subject.policy)), one.vulnerability)
        )
        worst = group[0]
        named = ", ".join(_named(concern) for concern in group[:_SHOWN])
        more = f" and {len(group) - _SHOWN} more" if len(group) > _SHOWN else ""
        under = worst.standing == "under investigation"
        how = "under investigation by" if under else "affected by"
        if not known.sure:
            how = f"which file of that version it is, is unknown: it may be {how}"
        by = "its digest" if worst.matched_by == "hash" else f"the product name {worst.product!r}"
        yield Said(
            member=member,
            place=None,
            seen=f"{what}, {how} {advisory}: {worst.title} ({named}{more}); matched by {by}",
            do=_do(worst, advisory),
            severity=severity_of(worst, subject.policy) if known.sure else "note",
            advisory=advisory,
            affects=() if under else affects,
        )


def _named(concern: Concern) -> str:
    if concern.score is None:
        return concern.vulnerability
    return f"{concern.vulnerability}, CVSS {concern.score:.1f}"


def _do(concern: Concern, advisory: str) -> str:
    read = f"read ovek advisory show {advisory}"
    if concern.fixed:
        return f"Install {' or '.join(concern.fixed)}, where it is fixed; {read}"
    if concern.remedy is not None:
        remedy = " ".join(concern.remedy.split()).rstrip(".")
        return f"Its publisher says: {remedy}; {read}"
    return f"{read[:1].upper()}{read[1:]}, and ask its publisher for a fixed release"


def _alone(subject: Subject, member: MemberSubject) -> str | None:
    return None if len(subject.members) == 1 else member.id


def _is_asked(subject: Subject) -> bool:
    return bool(subject.judged.judge.releases.advisories)


@rule(
    "running-affected",
    "warning",
    "A device that runs an affected release can be attacked until it runs another one.",
    "Install a release in which it is fixed: ovek advisory show ID",
    stops="nothing",
)
def running_affected(subject: Subject) -> Iterator[Said]:
    """The running release is affected by a security advisory."""
    for member in subject.members if _is_asked(subject) else ():
        concerns = _concerns(subject, member.running_image, member.running)
        what = f"{member.running or 'the running image'} is running"
        affects: tuple[AffectedUse, ...] = ("running",)
        if member.running is not None and member.running == member.boots:
            what += " and the next boot"
            affects = ("running", "next boot")
        yield from _said(subject, _alone(subject, member), concerns, what, affects)


@rule(
    "next-boot-affected",
    "warning",
    "The reload would start a release that is affected.",
    "Boot a release in which it is fixed: ovek advisory show ID",
    stops="nothing",
)
def next_boot_affected(subject: Subject) -> Iterator[Said]:
    """The next boot is another release than the running one, and is affected by an advisory."""
    for member in subject.members if _is_asked(subject) else ():
        if member.boots is None or member.boots == member.running:
            continue
        concerns = _concerns(subject, member.boot_image, member.boots)
        what = f"{member.boots} is the next boot"
        yield from _said(subject, _alone(subject, member), concerns, what, ("next boot",))


@rule(
    "target-affected",
    "warning",
    "Policy sends devices to a release that is affected.",
    "Choose another target in policy.toml: ovek advisory show ID",
    stops="nothing",
)
def target_affected(subject: Subject) -> Iterator[Said]:
    """The target that policy wants is affected by an advisory, and does not run yet."""
    if not _is_asked(subject):
        return
    target = subject.wanted.target
    if target is None or all(member.running == target for member in subject.members):
        return
    releases = {release.file: release for release in subject.wanted.releases.values()}
    seen = {concern for release in releases.values() for concern in _of(subject, release)}
    ordered = sorted(seen, key=lambda concern: (concern.advisory, concern.vulnerability))
    known = _AboutImage(tuple(ordered))
    yield from _said(subject, None, known, f"{target} is the target", ("target",))


@rule(
    "fallback-affected",
    "note",
    "After a failed upgrade the device would run a release that is affected.",
    "Keep a fallback in which it is fixed: ovek advisory show ID",
    stops="nothing",
)
def fallback_affected(subject: Subject) -> Iterator[Said]:
    """The fallback is affected by an advisory, and neither runs nor boots next."""
    for member in subject.members if _is_asked(subject) else ():
        kept = {place.on(None) for place in member.running_on.places if member.running_on.sure}
        if member.walk.boots is not None and member.walk.boots.at is not None:
            kept.add(member.walk.boots.at.on(None))
        wanted = WantedFallbacks(keep=subject.policy.keep, release=None)
        for place in fallbacks(subject.judged, member.one, kept, wanted):
            image = subject.judged.image(place.on(member.id))
            if image is None or image.version in (member.running, member.boots):
                continue
            concerns = _concerns(subject, image, image.version)
            what = f"{image.version or place} is the fallback"
            yield from _said(subject, _alone(subject, member), concerns, what, ("fallback",))

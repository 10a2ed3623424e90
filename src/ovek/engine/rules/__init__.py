"""What an audit checks. A rule is one small function with its slug, severity and reason beside it.

A rule looks at one device and yields a `Said` for each thing it has to say. The severity beside
the rule is the usual one; a rule raises or lowers it with the consequence. No rule passes because
a fact is missing, and no trouble is told twice: see `Subject.told`.
"""

from collections.abc import Callable, Iterator

from msgspec import Struct

from ovek.engine.bootwalk import cited_candidates
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.finding import Severity
from ovek.model.place import Place
from ovek.model.policy import Policy
from ovek.model.verdict import Image
from ovek.model.walk import BROKEN, Candidate, CandidateOrigin, DeviceWalk, MemberWalk

# Where a walk's candidates come from settings that are no list of entries.
SET_ORIGINS: frozenset[CandidateOrigin] = frozenset({"default-bank", "trial", "committed"})


class Said(Struct, frozen=True, kw_only=True):
    """One thing a rule says of a member: where, what was seen, what to do.

    `place` is as the member names it; None is the member as a whole.
    """

    member: str | None
    place: Place | None
    saw: str
    do: str
    severity: Severity | None = None


class MemberSubject(Struct, frozen=True, kw_only=True):
    """One member, its walk, every candidate that its boot settings name, and its images.

    `unproven` are the images without a proof: files, and banks that hold their image themselves.
    """

    one: JudgedMember
    walk: MemberWalk
    cited: tuple[Candidate, ...]
    unproven: tuple[Image, ...]

    @property
    def id(self) -> str:
        """The member's id."""
        return self.one.member.id


class Subject(Struct, frozen=True, kw_only=True):
    """All that a rule may look at."""

    judged: JudgedDevice
    walk: DeviceWalk
    policy: Policy
    members: tuple[MemberSubject, ...]

    def told(self, member: MemberSubject, place: Place) -> bool:
        """Whether a boot rule speaks of the image at this place already."""
        texts = {str(place), str(place.on(member.id))}
        texts |= {str(whole) for whole, image in member.one.sets.items() if place in image.parts}
        stranded = member.walk.outcome == "stranded"
        tried = (each for each in member.walk.tried if stranded or each.origin in SET_ORIGINS)
        return any(
            each.result in BROKEN and each.place in texts for each in (*member.cited, *tried)
        )


Check = Callable[[Subject], Iterator[Said]]


class Rule(Struct, frozen=True, kw_only=True):
    """One rule: its slug, usual severity, why it matters, and the function that looks."""

    slug: str
    severity: Severity
    reason: str
    check: Check


RULES: dict[str, Rule] = {}


def rule(slug: str, severity: Severity, reason: str) -> Callable[[Check], Check]:
    """Enter a function into the list of rules."""

    def enter(check: Check) -> Check:
        RULES[slug] = Rule(slug=slug, severity=severity, reason=reason, check=check)
        return check

    return enter


def subject_of(judged: JudgedDevice, walk: DeviceWalk, policy: Policy) -> Subject:
    """Put together what the rules look at."""
    members = tuple(
        MemberSubject(
            one=one,
            walk=each,
            cited=tuple(cited_candidates(judged, one, each)),
            unproven=tuple(
                image
                for image in (*one.images.values(), *one.banks.values())
                if image.judgement.verdict != "proven" and not (image.place.is_bank and image.parts)
            ),
        )
        for one, each in zip(judged.members or (), walk.members, strict=True)
    )
    return Subject(judged=judged, walk=walk, policy=policy, members=members)

"""What an audit checks. A rule is one small function with its slug, severity, reason and remedy.

A rule looks at one device and yields a `Said` for each thing it has to say. The severity beside
the rule is the usual one; a rule raises or lowers it with the consequence. No rule passes because
a fact is missing.

No trouble is told twice. A rule names the rules that it *speaks for*: once it has told a trouble
whole, those stay silent about the same member. Rules are asked in the order in which they stand
here, so that the most telling one speaks first.
"""

from collections.abc import Callable, Iterator

from msgspec import Struct

from ovek.engine.bootwalk import cited_candidates
from ovek.engine.verdicts import JudgedDevice, JudgedMember, find_image, fits
from ovek.engine.wanted import Wanted
from ovek.model.finding import Severity
from ovek.model.place import Place, parse_place
from ovek.model.policy import Policy
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Hardware
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare
from ovek.model.walk import BROKEN, Candidate, CandidateOrigin, DeviceWalk, MemberWalk

# Where a walk's candidates come from settings that are no list of entries.
SET_ORIGINS: frozenset[CandidateOrigin] = frozenset({"default-bank", "trial", "committed"})


class Said(Struct, frozen=True, kw_only=True, gc=False):
    """One thing a rule says of a member: where, what was seen, what to do.

    `place` is as the member names it; None is the member as a whole, and no member the device.
    `do` None is the rule's usual remedy. `whole` is whether it tells the whole trouble, so that
    the rules it speaks for stay silent.
    """

    member: str | None
    place: Place | None
    saw: str
    do: str | None = None
    severity: Severity | None = None
    whole: bool = True


class MemberSubject(Struct, frozen=True, kw_only=True):
    """One member, its walk, every candidate that its boot settings name, and its images.

    `unproven` are the images without a proof, `proven` those with one: files, and banks that hold
    their image themselves. `odd` are the proven ones that some rule may have a word on. `runs` and
    `starts` are versions, `running` and `starting` the images that run and start; None: not known.
    """

    one: JudgedMember
    walk: MemberWalk
    cited: tuple[Candidate, ...]
    unproven: tuple[Image, ...]
    proven: tuple[Image, ...]
    odd: tuple[Image, ...]
    runs: str | None
    starts: str | None
    running: Image | None
    starting: Image | None

    @property
    def id(self) -> str:
        """The member's id."""
        return self.one.member.id

    @property
    def stranded(self) -> bool:
        """Whether nothing starts this member."""
        return self.walk.outcome == "stranded"


class Subject(Struct, frozen=True, kw_only=True):
    """All that a rule may look at."""

    judged: JudgedDevice
    walk: DeviceWalk
    policy: Policy
    wanted: Wanted
    members: tuple[MemberSubject, ...]
    age: float
    shelf: ShelfFacts | None

    def order(self, one: str | None, other: str | None) -> int | None:
        """Compare two versions as the sheet orders them; None where either is not known."""
        if one is None or other is None:
            return None
        if one == other:
            return 0
        return compare(one, other, self.judged.judge.sheet.versions.pattern)

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
    """One rule: slug, usual severity, why it matters, the usual remedy, and what looks.

    `group` is the part of the audit that it belongs to, `speaks_for` the rules that stay silent
    about a member once it has told a trouble whole.
    """

    slug: str
    group: str
    severity: Severity
    reason: str
    remedy: str
    speaks_for: frozenset[str]
    check: Check


RULES: dict[str, Rule] = {}


def rule(
    slug: str, severity: Severity, reason: str, remedy: str, *speaks_for: str
) -> Callable[[Check], Check]:
    """Enter a function into the list of rules."""

    def enter(check: Check) -> Check:
        RULES[slug] = Rule(
            slug=slug,
            group=check.__module__.rpartition(".")[2],
            severity=severity,
            reason=reason,
            remedy=remedy,
            speaks_for=frozenset(speaks_for),
            check=check,
        )
        return check

    return enter


def subject_of(
    judged: JudgedDevice,
    walk: DeviceWalk,
    policy: Policy,
    wanted: Wanted,
    age: float = 0.0,
    shelf: ShelfFacts | None = None,
) -> Subject:
    """Put together what the rules look at; `age` is that of the snapshot, in seconds."""
    hardware, members = judged.device.hardware, []
    for one, each in zip(judged.members or (), walk.members, strict=True):
        proven, unproven, odd = [], [], []
        for image in (*one.images.values(), *one.banks.values()):
            if image.place.is_bank and image.parts:
                continue
            judgement = image.judgement
            if judgement.verdict != "proven":
                unproven.append(image)
            else:
                proven.append(image)
                if judgement.release is not None and _odd(image, judgement.release, hardware):
                    odd.append(image)
        running = _running(judged, one)
        starting = image_at(each.starts.place, judged, one) if each.starts is not None else None
        members.append(
            MemberSubject(
                one=one,
                walk=each,
                cited=tuple(cited_candidates(judged, one, each)),
                unproven=tuple(unproven),
                proven=tuple(proven),
                odd=tuple(odd),
                runs=one.member.running_version or judged.device.running.version,
                starts=each.starts.version if each.starts is not None else None,
                running=running,
                starting=starting,
            )
        )
    return Subject(
        judged=judged,
        walk=walk,
        policy=policy,
        wanted=wanted,
        members=tuple(members),
        age=age,
        shelf=shelf,
    )


def _odd(image: Image, release: KnownRelease, hardware: Hardware) -> bool:
    """Whether a proven image is withdrawn, for other hardware, or has another name."""
    name = image.file.path.rpartition("/")[2] if image.file is not None else release.file
    return release.file != name or release.status == "withdrawn" or fits(release, hardware) is False


def _running(judged: JudgedDevice, one: JudgedMember) -> Image | None:
    """The image that a member runs, where the device tells its place or bank."""
    running = judged.device.running
    if one.member.running_version not in (None, running.version):
        return None
    if running.bank is not None:
        return one.banks.get(running.bank)
    return None if running.place is None else image_at(running.place, judged, one)


def image_at(text: str, judged: JudgedDevice, one: JudgedMember) -> Image | None:
    """The image, set or bank at a place as a member names it; None for a server's."""
    if "://" in text:
        return None
    place = parse_place(text)
    if place.member not in (None, one.member.id):
        other = judged.member(place.member)
        if other is None:
            return None
        one = other
    if place.is_bank:
        return one.banks.get(place.path)
    spelled, image = find_image(place.on(None), one.member, one.images)
    return one.sets.get(spelled) or image

"""What an audit checks. A rule is one small function with its slug, severity, reason and remedy.

A rule looks at one device and yields a `Said` for each thing it has to say. The severity beside
the rule is the usual one; a rule raises or lowers it with the consequence. No rule passes because
a fact is missing.

No trouble is told twice. A rule names the rules that it *speaks for*: once it has told a trouble
whole, those stay silent about the same member. Rules are asked in the order in which they stand
here, so that the most telling one speaks first.
"""

from collections.abc import Callable, Iterator
from datetime import datetime
from functools import cached_property
from typing import Literal

from msgspec import Struct

from ovek.engine.bootwalk import cited_candidates
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.interface import Layout
from ovek.engine.runs import Runs, runs_of
from ovek.engine.times import Times
from ovek.engine.verdicts import JudgedDevice, JudgedMember, images_of
from ovek.engine.wanted import Wanted
from ovek.model.finding import AffectedUse, Severity
from ovek.model.fleet import Expected
from ovek.model.place import Place
from ovek.model.plain_word import typed
from ovek.model.policy import Policy
from ovek.model.shelf import ShelfFacts
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare
from ovek.model.walk import Candidate, CandidateOrigin, DeviceWalk, MemberWalk

# Where a walk's candidates come from settings that are no list of entries.
SET_ORIGINS: frozenset[CandidateOrigin] = frozenset({"default-bank", "trial", "committed"})


# What to do about an image that only an unsigned list lists, where policy requires a signature.
SIGNED_LIST = "Import the publisher's signed list: ovek catalog import LIST --signature FILE"


def is_unsigned(image: Image) -> bool:
    """Whether an image has a published digest, but not the signature that policy requires."""
    release = image.judgement.release
    published = release is not None and release.trust != "own"
    return image.judgement.verdict == "matched" and published


class Said(Struct, frozen=True, kw_only=True, gc=False):
    """One thing a rule says of a member: where, what was seen, what to do.

    `place` is as the member names it; None is the member as a whole, and no member the device.
    `do` None is the rule's usual remedy. `also` are more places that it speaks of, `free` the bytes
    that are to be free. `whole` is whether it tells the whole trouble, so that the rules it speaks
    for stay silent. `advisory` is the id of the advisory that it is about, `affects` what that
    affects.
    """

    member: str | None
    place: Place | None
    seen: str
    do: str | None = None
    also: tuple[Place, ...] = ()
    free: int | None = None
    severity: Severity | None = None
    whole: bool = True
    advisory: str | None = None
    affects: tuple[AffectedUse, ...] = ()


class MemberSubject(Struct, frozen=True, kw_only=True):
    """One member, its walk, every candidate that its boot settings name, and its images.

    `unproven` are the images without a proof, `proven` those with one: files, and banks that hold
    their image themselves, by place. `odd` are the proven ones that some rule may have a word on.
    `running_on` is what it runs, and how surely. `running` and `boots` are versions,
    `running_image` and `boot_image` the images of these; None: unknown.
    """

    one: JudgedMember
    walk: MemberWalk
    cited: tuple[Candidate, ...]
    unproven: tuple[Image, ...]
    proven: tuple[Image, ...]
    odd: tuple[Image, ...]
    running_on: Runs
    running: str | None
    boots: str | None
    running_image: Image | None
    boot_image: Image | None

    @property
    def id(self) -> str:
        """The member's id."""
        return self.one.member.id

    @property
    def wholes(self) -> tuple[Image, ...]:
        """The sets and banks that are made of files, by place."""
        banks = [image for image in self.one.banks.values() if image.parts]
        return tuple(sorted((*self.one.sets.values(), *banks), key=_by_place))

    @property
    def needed(self) -> set[Place]:
        """The places that it runs from, starts from or is told to, with what they are made of."""
        there = [each.at for each in self.cited] + [*self.running_on.places]
        boots = self.walk.boots
        there.append(boots.at if boots is not None else None)
        places = {at.on(None) for at in there if at is not None and at.member in (None, self.id)}
        parts = [whole.parts for whole in self.wholes if whole.place in places]
        return places.union(*parts)

    def starts_on(self, image: Image) -> bool:
        """Whether the next start is from an image of this member, or what it is part of."""
        boots = self.walk.boots
        if boots is None or boots.at is None or boots.at.member != self.id:
            return False
        if boots.at.on(None) == image.place:
            return True
        return any(
            image.place in whole.parts and whole.place == boots.at.on(None) for whole in self.wholes
        )

    @property
    def stranded(self) -> bool:
        """Whether nothing starts this member."""
        return self.walk.outcome == "stranded"


class Subject(Struct, frozen=True, kw_only=True, dict=True):
    """All that a rule may look at.

    Of `times` it asks how old things are, and of nothing else: what it asked tells until when the
    answer holds. `running` is what each member runs, in the order of the device's members.
    """

    judged: JudgedDevice
    walk: DeviceWalk
    policy: Policy
    wanted: Wanted
    members: tuple[MemberSubject, ...]
    running: tuple[Runs, ...]
    times: Times
    shelf: ShelfFacts | None
    expected: Expected | None = None

    @property
    def up(self) -> bool:
        """Whether the device runs; one that was read at its boot loader does not."""
        return self.judged.device.at != "boot-loader"

    @property
    def layout(self) -> Layout:
        """How this kind of device finds its image."""
        return layout_of(self.judged)

    @cached_property
    def last_written(self) -> datetime | None:
        """When a file of the device was last written; None where no file tells."""
        written = [
            file.modified
            for member in self.members
            for volume in member.one.member.volumes or ()
            for file in volume.files or ()
            if file.modified is not None
        ]
        return max(written, default=None)

    def order(self, one: str | None, other: str | None) -> int | None:
        """Compare two versions of system images as the sheet orders them; None: not known."""
        if one is None or other is None:
            return None
        if one == other:
            return 0
        return compare(one, other, self.judged.judge.sheet.versions.pattern)

    def component_order(self, one: str | None, other: str | None) -> int | None:
        """Compare two versions of a part, by the sheet's own scheme for those or the plain one."""
        if one is None or other is None:
            return None
        return compare(one, other, self.judged.judge.sheet.versions.components.pattern)

    def spread(self, image: Image | None) -> str:
        """What is added of an altered image whose bytes the shelf has too, and none as published.

        Either it was wrong before it was copied, or what was published is: custody tells.
        """
        judgement = image.judgement if image is not None else None
        release = judgement.release if judgement is not None else None
        if image is None or image.file is None or self.shelf is None or release is None:
            return ""
        ours = {digest for _, digest in image.file.digests or ()}
        published = {digest for values in release.digests.values() for digest in values}
        if not ours & self.shelf.held or ours & published or published & self.shelf.proven:
            return ""
        return (
            f"; {self.shelf.named} has the same bytes: it was wrong before it was copied, or the "
            f"published digest may be wrong: ovek custody {typed(release.file, 'FILE')}"
        )


def _by_place(image: Image) -> tuple[str, str]:
    return image.place.volume, image.place.path


Stops = Literal["boot", "proof", "target", "settings", "fallback", "nothing"]
"""What a finding stops, the worst first."""

GivesWay = Literal["named", "stranded"]
"""Where a rule stays silent about a place: a boot rule names it, or a member is stranded by it."""

Reads = Literal["files", "space", "times", "name"]
"""What a rule looks at beyond the outline of a device: files that nothing looks for, free space and
sizes of volumes, when something was, and what the device is called."""

Check = Callable[[Subject], Iterator[Said]]


class Rule(Struct, frozen=True, kw_only=True):
    """One rule: slug, usual severity, why it matters, the usual remedy, and what looks.

    `group` is the part of the audit that it belongs to, `speaks_for` the rules that stay silent
    about a member once it has told a trouble whole. `gives_way` is where it stays silent about a
    place itself: where a boot rule `named` it as broken, or only where its member is `stranded`.
    `stops` is what it stops, by which findings of one severity are ordered. `reads` is what it
    looks at beyond the outline of a device, on which all others say the same (`shapes`).
    """

    slug: str
    group: str
    severity: Severity
    reason: str
    remedy: str
    speaks_for: frozenset[str]
    check: Check
    stops: Stops | None = None
    gives_way: GivesWay | None = None
    reads: frozenset[Reads] = frozenset()
    number: int = 0


RULES: dict[str, Rule] = {}


def rule(
    slug: str,
    severity: Severity,
    reason: str,
    remedy: str,
    *speaks_for: str,
    stops: Stops | None = None,
    gives_way: GivesWay | None = None,
    reads: tuple[Reads, ...] = (),
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
            stops=stops,
            gives_way=gives_way,
            reads=frozenset(reads),
            number=len(RULES),
        )
        return check

    return enter


def subject_of(
    judged: JudgedDevice,
    walk: DeviceWalk,
    policy: Policy,
    wanted: Wanted,
    times: Times,
    shelf: ShelfFacts | None = None,
    expected: Expected | None = None,
    running: tuple[Runs, ...] | None = None,
) -> Subject:
    """Put together what the rules look at; `running` as `runs_of` gives it, where that is known."""
    running = runs_of(judged) if running is None else running
    ours = zip(judged.members or (), walk.members, running, strict=True)
    members = [_member(judged, one, each, runs) for one, each, runs in ours]
    # Which member comes first in a snapshot makes no difference to what is said.
    members.sort(key=lambda member: (len(member.id), member.id))
    return Subject(
        judged=judged,
        walk=walk,
        policy=policy,
        wanted=wanted,
        members=tuple(members),
        running=running,
        times=times,
        shelf=shelf,
        expected=expected,
    )


def _member(
    judged: JudgedDevice, member: JudgedMember, walk: MemberWalk, running: Runs
) -> MemberSubject:
    proven, unproven, odd = [], [], []
    for image in sorted(images_of(member), key=_by_place):
        judgement = image.judgement
        if judgement.verdict != "proven":
            unproven.append(image)
        else:
            proven.append(image)
            if judgement.release is not None and _odd(image, judgement.release):
                odd.append(image)
    boots = walk.boots
    return MemberSubject(
        one=member,
        walk=walk,
        cited=tuple(cited_candidates(judged, member, walk)),
        unproven=tuple(unproven),
        proven=tuple(proven),
        odd=tuple(odd),
        running_on=running,
        running=running.version,
        boots=boots.version if boots is not None else None,
        running_image=running.image,
        boot_image=judged.image(boots.at) if boots is not None and boots.at is not None else None,
    )


def _odd(image: Image, release: KnownRelease) -> bool:
    """Whether a proven image is withdrawn, for other hardware, or has another name."""
    file = image.file
    name = file.path.rpartition("/")[2] if file is not None else release.file
    if file is not None and file.path_cut and release.file.casefold().startswith(name.casefold()):
        name = release.file
    return release.file != name or release.status == "withdrawn" or image.suits is False

"""What each file of the shelf is: verdict, release, the hardware it fits, and who uses it.

A name is understood where it differs from a published one in case, a copy suffix (`name (1).img`,
`name - Copy.img`, `Copy of name.img`, `name.img.bak`) or a missing extension. An archive's own
digest counts, and those of the files inside: publishers list either. An archive that is proven
proves the images in it. A sound structure proves nothing; a broken one counts against the file
unless a digest proves it.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex, inside
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import ANY_DIGEST, JudgedDevice, ProofRule, judge_file
from ovek.model.catalog import Contained
from ovek.model.digest import STRONGEST_FIRST, Algorithm, Digests
from ovek.model.naming import Named, Naming
from ovek.model.shelf import ShelfFile, ShelfMember, ShelfVerdict
from ovek.model.signature import REFUSED, TITLES, SignatureCheck
from ovek.model.verdict import Judgement, KnownRelease
from ovek.model.walk import DeviceWalk

_COPY = (
    re.compile(r"(?P<front>.*?)\s*\(\d+\)(?P<back>\.[^.]*)?", re.DOTALL),
    re.compile(r"(?P<front>.*?) - Copy(?: \(\d+\))?(?P<back>\.[^.]*)?", re.DOTALL),
    re.compile(r"Copy(?: \(\d+\))? of (?P<front>.*?)(?P<back>)", re.DOTALL),
    re.compile(r"(?P<front>.*)(?P<back>)\.(?:bak|old|orig|copy|\d)", re.DOTALL),
)


def judge_shelf(
    files: Iterable[ShelfFile],
    releases: ReleaseIndex,
    namings: Iterable[Naming],
    used_by: "UsedBy",
    proof: ProofRule = ANY_DIGEST,
) -> Iterator[ShelfVerdict]:
    """Judge every file, then what is inside it; `used_by` knows which devices use it.

    `proof` is what policy takes for a proof.
    """
    judge = _Judge(releases, list(namings), proof)
    for file in files:
        name = file.path.rpartition("/")[2]
        if file.problem is not None:
            yield _unread(file)
            continue
        whole = judge.of(name, file.size, file.digests)
        members = [
            (member, judge.of(member.path.rpartition("/")[2], member.size, member.digests))
            for member in file.members
        ]
        if whole is not None and whole.verdict == "proven":
            members = [(each, _proven_by(whole, each, judgement)) for each, judgement in members]
        better = any(one is not None and one.verdict == "proven" for _, one in members)
        if whole is not None and whole.verdict == "unlisted" and better:
            whole = None  # an archive of published files is no image itself
        inside: tuple[Contained, ...] = ()
        if whole is not None and whole.verdict == "proven":
            inside = tuple(judge.images_in(members, whole.by))
        found = _verdict(file, whole, used_by, judge.named_otherwise(name, whole), inside)
        yield _by_word(found) if file.by_word else found
        for member, judgement in members:
            if judgement is not None:
                path = f"{file.path}!{member.path}"
                named = judge.named_otherwise(member.path.rpartition("/")[2], judgement)
                alone = ShelfFile(path=path, size=member.size, digests=member.digests)
                yield _verdict(alone, judgement, used_by, named)


def signed(verdict: ShelfVerdict, check: SignatureCheck) -> ShelfVerdict:
    """A verdict with the signature beside the file; where the two disagree, `why` says it.

    A signature proves nothing here, and makes nothing worse proven: the digest decides.
    """
    why = verdict.why
    if not check.good:
        agrees = verdict.verdict == "proven" and check.state in REFUSED
        why += "; its digest is the published one" if agrees else ""
        why += f"; {TITLES[check.state]} in {check.file}: {check.why}"
    elif verdict.verdict in ("altered", "truncated", "disputed"):
        why += f"; but it is {check.shown}: the published digest or the file's name may be wrong"
    return replace(verdict, why=why, signature=check)


class _Judge(NamedTuple):
    """What files of the shelf are held against."""

    releases: ReleaseIndex
    namings: list[Naming]
    proof: ProofRule

    def of(self, name: str, size: int | None, digests: Digests) -> Judgement | None:
        """The judgement of a file; None where it is no image."""
        known = _named(name, self.releases)
        looks = any(naming.of(name, case_blind=True).image for naming in self.namings)
        found = judge_file(name, size, digests, looks, known, self.releases)
        return None if found is None else self.proof.accepted(found, digests, self.releases)

    def images_in(
        self, members: Iterable[tuple[ShelfMember, Judgement | None]], by: Algorithm | None
    ) -> Iterator[Contained]:
        """The images in an archive that `by` proves: one, or the packages of one set.

        What it holds is proven no better than itself, so that no stronger digest is told.
        Several system images are a choice, of which a device takes one: nothing is told of those.
        """
        found = [
            (_contained(member, by), named.role)
            for member, judgement in members
            if judgement is not None and judgement.verdict == "proven"
            for named in self._named(member.path.rpartition("/")[2])
        ]
        if len(found) == 1 or all(role == "package" for _, role in found):
            yield from (contained for contained, _ in found)

    def _named(self, name: str) -> list[Named]:
        told = (naming.of(name, case_blind=True) for naming in self.namings)
        return [named for named in told if named.image][:1]

    def named_otherwise(self, name: str, judgement: Judgement | None) -> str | None:
        """The release that a file's name says, where it holds another; else None."""
        if judgement is None or judgement.verdict not in ("proven", "matched"):
            return None
        known = _named(name, self.releases)
        release = judgement.release
        if not known or release is None or any(release.same_bytes(each) for each in known):
            return None
        return known[0].file


def _named(name: str, releases: ReleaseIndex) -> list[KnownRelease]:
    """The releases that a name may mean, the closest reading first."""
    for reading in _readings(name):
        if found := releases.named(reading, case_blind=True):
            return found
    bare = name.casefold()
    return [one for one in releases.releases if one.file.casefold().rpartition(".")[0] == bare]


def _contained(member: ShelfMember, by: Algorithm | None) -> Contained:
    weaker = STRONGEST_FIRST[STRONGEST_FIRST.index(by) if by is not None else 0 :]
    digests = Digests(**{name: digest for name, digest in member.digests if name in weaker})
    return Contained(path=member.path, size=member.size, digests=digests)


def _proven_by(
    archive: Judgement, member: ShelfMember, judgement: Judgement | None
) -> Judgement | None:
    """What an archive that is proven says of an image in it that nothing speaks against."""
    if archive.release is None or judgement is None:
        return judgement
    if judgement.verdict not in ("unlisted", "unverified", "matched"):
        return judgement
    why = f"it is inside a proven archive: {archive.why}"
    release = inside(archive.release, _contained(member, archive.by))
    return Judgement(verdict="proven", why=why, release=release, by=archive.by)


def _readings(name: str) -> Iterator[str]:
    yield name
    for pattern in _COPY:
        if match := pattern.fullmatch(name):
            yield f"{match['front']}{match['back'] or ''}"


def _by_word(verdict: ShelfVerdict) -> ShelfVerdict:
    """A verdict whose digests the server worked out itself."""
    return replace(verdict, why=f"{verdict.why}, as reported by the server", by_word=True)


def _unread(file: ShelfFile) -> ShelfVerdict:
    return ShelfVerdict(
        path=file.path,
        size=file.size,
        verdict=None,
        why=file.problem or "",
        release=None,
        by=None,
        hardware=(),
        used_by=(),
        structure=None,
        problem=file.problem,
        digests=file.digests,
    )


def _verdict(
    file: ShelfFile,
    judgement: Judgement | None,
    used_by: "UsedBy",
    named: str | None,
    contains: tuple[Contained, ...] = (),
) -> ShelfVerdict:
    path, structure = file.path, file.structure
    release = judgement.release if judgement is not None else None
    proven = judgement is not None and judgement.verdict == "proven"
    why = judgement.why if judgement is not None else "it is not a known image"
    name = path.rpartition("!")[2].rpartition("/")[2]
    if named is not None and release is not None:
        why += f": it contains {release.file}, but has the name of {named}"
    elif proven and release is not None and name != release.file and "!" not in path:
        why += f", under another name ({name})"
    if structure is not None and not structure.sound and not proven:
        why += f"; internal damage at byte {structure.offset} ({structure.kind}: {structure.why})"
    elif file.note is not None:
        why += f"; {file.note}"
    return ShelfVerdict(
        path=path,
        size=file.size,
        verdict=judgement.verdict if judgement is not None else None,
        why=why,
        release=release.file if release is not None else None,
        by=judgement.by if judgement is not None else None,
        hardware=release.hardware or () if release is not None else (),
        used_by=used_by.of(file.digests, release.file if release is not None and proven else None),
        structure=structure,
        problem=None,
        digests=file.digests,
        version=release.version if release is not None else None,
        named=named,
        contains=contains,
    )


class Use(NamedTuple):
    """One image that a device runs or starts next: the release it is proven to be, its digests."""

    device: str
    release: str | None
    digests: Digests


def uses(judged: JudgedDevice, walk: DeviceWalk) -> Iterator[Use]:
    """Go through what a device runs, where that is sure, or starts next."""
    used = {place for running in runs_of(judged) if running.sure for place in running.places}
    used |= {member.boots.at for member in walk.members if member.boots and member.boots.at}
    for place in sorted(used, key=str):
        image, one = judged.image(place), judged.member(place.member or "")
        if image is None or one is None:
            continue
        bank = one.member.bank(place.path) if place.is_bank else None
        digests = bank.digests if bank is not None else image.file and image.file.digests
        proven = image.judgement.verdict == "proven" and image.judgement.release
        yield Use(judged.device.device, proven.file if proven else None, digests or Digests())


class UsedBy:
    """Which devices use a file of the shelf: by the release that it is proven to be, or its bytes.

    Copies have the same bytes where they share a digest and differ in none.
    """

    def __init__(self, found: Iterable[Use] = ()) -> None:
        self.algorithms: set[Algorithm] = set()
        self._by_release: dict[str, list[Use]] = {}
        self._by_digest: dict[tuple[Algorithm, str], list[Use]] = {}
        for use in found:
            if use.release is not None:
                self._by_release.setdefault(use.release, []).append(use)
            for fact in use.digests:
                self.algorithms.add(fact[0])
                self._by_digest.setdefault(fact, []).append(use)

    def of(self, digests: Digests, release: str | None) -> tuple[str, ...]:
        """The names of the devices that use a copy, in the order in which they were met."""
        known = dict(digests)
        same = [
            use
            for fact in digests
            for use in self._by_digest.get(fact, ())
            if all(known.get(name, digest) == digest for name, digest in use.digests)
        ]
        proven = self._by_release.get(release, []) if release is not None else []
        return tuple(dict.fromkeys(use.device for use in (*proven, *same)))

"""What is known about one image, and what the next start makes of it."""

from datetime import date
from fnmatch import fnmatchcase
from typing import Literal

from msgspec import Struct

from ovek.model.catalog import Contained, Needs, Origin, ReleaseKind, Taken, Trust
from ovek.model.digest import Algorithm, Digests
from ovek.model.place import Place
from ovek.model.sheet import Role
from ovek.model.signature import SignatureCheck
from ovek.model.snapshot import File

Verdict = Literal["altered", "truncated", "disputed", "unlisted", "unverified", "matched", "proven"]

WORST_FIRST: tuple[Verdict, ...] = (
    "altered",
    "truncated",
    "disputed",
    "unlisted",
    "unverified",
    "matched",
    "proven",
)


class SourceList(Struct, frozen=True, kw_only=True):
    """A list that tells of a release, and how it is signed."""

    file: str
    taken: Taken
    signature: SignatureCheck | None = None

    @property
    def good(self) -> bool:
        """Whether it has a good signature."""
        return self.signature is not None and self.signature.good


class KnownRelease(Struct, frozen=True, kw_only=True, eq=False):
    """One release, with what all its sources say of it.

    `digests` and `sizes` hold every value that some source gives; where an algorithm has two, the
    sources disagree and it is named in `disputed`. `within` is the release that contains
    this file; `contains` is then all that it contains. `by_hardware` are the needs of rows that
    tell of some hardware only, `with_by_hardware` the files that go with it there. `family` is a
    number that releases of the same bytes share. `trust` is `own` where only your own records
    have it, `since` the day of the first import that told of it. `lists` are the lists
    that tell of it, the best signed first; `signed` are the digests that a list with a good
    signature gives, and `signed_contents` whether such a list tells what it contains.
    """

    file: str
    publisher: str | None
    digests: dict[Algorithm, frozenset[str]]
    sizes: frozenset[int]
    disputed: frozenset[Algorithm]
    doubtful: bool
    version: str | None
    variant: str | None
    kind: ReleaseKind | None
    hardware: tuple[str, ...] | None
    revisions: tuple[str, ...] | None
    status: str | None
    track: str | None
    published: date | None
    needs: Needs
    carries: dict[str, str]
    reached_from: tuple[str, ...] | None
    contains: tuple[Contained, ...]
    within: str | None
    note: str | None
    unpacked: int | None
    origins: tuple[Origin, ...]
    by_hardware: tuple[tuple[tuple[str, ...], Needs], ...] = ()
    with_: tuple[str, ...] = ()
    with_by_hardware: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...] = ()
    minutes: int | None = None
    trust: Trust = "publisher"
    since: date | None = None
    family: int | None = None
    lists: tuple[SourceList, ...] = ()
    signed: frozenset[str] = frozenset()
    signed_contents: bool = False

    def same_bytes(self, other: "KnownRelease | None") -> bool:
        """Whether another release is this one, or the same bytes under another name."""
        if other is None or other is self:
            return other is self
        if self.family is not None and other.family is not None:
            return other.family == self.family
        common = [name for name in self.digests if name in other.digests]
        return bool(common) and all(self.digests[name] & other.digests[name] for name in common)

    def has(self, digests: Digests) -> bool:
        """Whether a digest is a published one of this release."""
        return any(digest in self.digests.get(name, ()) for name, digest in digests)

    def with_of(self, model: str | None) -> tuple[str, ...]:
        """The files that are installed together with it on hardware of a model."""
        for globs, files in self.with_by_hardware if model is not None else ():
            if any(fnmatchcase(model or "", glob) for glob in globs):
                return files
        return self.with_

    def needs_of(self, model: str | None) -> Needs:
        """What it needs on hardware of a model: what the rows for that tell, else what all do."""
        for globs, needs in self.by_hardware if model is not None else ():
            if any(fnmatchcase(model or "", glob) for glob in globs):
                return needs
        return self.needs


class Judgement(Struct, frozen=True, kw_only=True, gc=False):
    """The verdict of one image, and why.

    `by` is the algorithm that decided; `forged` says that a weaker digest agrees with the release
    while a stronger one does not. `release` is the release it was held against, if any.
    """

    verdict: Verdict
    why: str
    release: KnownRelease | None = None
    by: Algorithm | None = None
    forged: bool = False


class Image(Struct, frozen=True, kw_only=True, gc=False):
    """One image of a member: a file, a set or a bank, with its verdict.

    `place` has no member. `file` is None for a bank; `parts` are the packages of a set, or the
    files of a bank. `suits` is whether all of it is for this member's hardware (None: not known),
    `foreign` a release in it that is not.
    """

    place: Place
    role: Role
    judgement: Judgement
    file: File | None = None
    version: str | None = None
    parts: tuple[Place, ...] = ()
    suits: bool | None = True
    foreign: KnownRelease | None = None

    @property
    def starts_members(self) -> bool:
        """Whether a member can be started from what it is: a system image, a set or a bank."""
        return self.role in ("system-image", "set-file")

"""What all sources together say of each release, and which digests belong to one set of bytes.

1. Entries with one file name are one release, told by several sources; two publishers that both
   give their names may use one file name for two releases. Rows that name one file for several
   hardware are one release for all of them; the needs are those of the first row that fits.
2. Where two sources give different digests for one algorithm, that algorithm is disputed: both
   are kept, neither is taken.
3. Any other fact is taken from the first source that knows it, by the name of its file. In what
   order the sources or their entries come makes no difference.
4. Digests that any source gives for one set of bytes belong together, over all names and sources:
   releases that share a digest are one *family*. Where no digest is disputed, they are the same
   bytes: what one name tells of hardware, kind and withdrawal holds under each.
5. A file that a release contains is published with it.
6. A list that somebody took of their own copies publishes nothing: its digests say only that two
   files are the same (`own`). A list with a bad signature says nothing at all (`refused`).
7. A digest that a list with a good signature gives is signed, whatever the file is called.
"""

from bisect import bisect_left
from collections.abc import Callable, Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any, TypeVar

import msgspec
from msgspec import Struct

from ovek.engine.advisories import NO_ADVISORIES, AdvisoryIndex
from ovek.model.catalog import Contained, Needs, Published, Release
from ovek.model.digest import STRONGEST_FIRST, Algorithm, Digests
from ovek.model.naming import Naming
from ovek.model.signature import BEST_FIRST
from ovek.model.verdict import KnownRelease, SourceList
from ovek.model.version import LONGEST

T = TypeVar("T")


class Family(Struct, frozen=True, eq=False):
    """All digests that belong to one set of bytes; `disputed` are those with several values.

    `members` are the releases that these bytes are known as.
    """

    digests: dict[Algorithm, frozenset[str]]
    disputed: frozenset[Algorithm]
    members: tuple[KnownRelease, ...]


class ReleaseIndex:
    """Every known release, found by file name (also case-blind), digest or version.

    `releases` are in the order of their file names, whatever order they came in. `by_revision` and
    `by_variant` are whether any is for some hardware revisions, or of a variant. `ways` are routes
    that were worked out, `searched` what was found for members alike, by `needs`. `ours` are
    those that only lists of somebody's own copies tell of. `advisories` are those of the site.
    `refused` are the entries of lists whose signature is bad, by file name (folded) and by digest;
    `has_signatures` is whether any list has a signature.
    """

    def __init__(
        self, published: Iterable[Published], advisories: AdvisoryIndex = NO_ADVISORIES
    ) -> None:
        self.advisories = advisories
        self.by_name: dict[str, list[KnownRelease]] = {}
        self.by_folded: dict[str, list[KnownRelease]] = {}
        self.by_digest: dict[str | None, list[KnownRelease]] = {}
        self.by_version: dict[str, list[KnownRelease]] = {}
        entries = list(published)
        self.refused: dict[str, list[Published]] = {}
        for entry in entries:
            if entry.refused:
                values = (digest for _, digest in entry.release.digests)
                for key in (entry.release.file.casefold(), *values):
                    self.refused.setdefault(key, []).append(entry)
        self.has_signatures = any(entry.signature is not None for entry in entries)
        published = [entry for entry in entries if not entry.refused] if self.refused else entries
        ours = [entry for entry in published if entry.trust == "own"]
        self.own: dict[str, KnownRelease] = {}
        self.own_by_folded: dict[str, list[KnownRelease]] = {}
        self.ours = _sorted(ours)
        for release in self.ours:
            self.own_by_folded.setdefault(release.file.casefold(), []).append(release)
            for digests in release.digests.values():
                for digest in digests:
                    self.own.setdefault(digest, release)
        releases = _sorted(entry for entry in published if entry.trust != "own")
        contained = [inside(each, one) for each in releases for one in each.contains]
        related = _related([*releases, *contained])
        self.releases = [related.get(each, each) for each in releases]
        self._signed_by: dict[str, set[str | None]] = {}
        for release in self.releases:
            self._enter(release)
            if release.version is not None:
                self.by_version.setdefault(release.version, []).append(release)
        for release in contained:
            self._enter(related.get(release, release))
        self._families = _families(self.by_digest)
        self._for_model: dict[str | None, list[KnownRelease]] = {}
        self._recommended: dict[str | None, list[KnownRelease]] = {}
        self.by_revision = any(release.revisions for release in self.releases)
        self.by_variant = any(release.variant for release in self.releases)

    def is_signed(self, digest: str, publisher: str | None) -> bool:
        """Whether a list with a good signature gives a digest, under whatever name.

        It has to be one of this publisher, where that is known.
        """
        publishers = self._signed_by.get(digest)
        return publishers is not None and (publisher is None or publisher in publishers)

    def has_signed(self, release: KnownRelease) -> bool:
        """Whether a list with a good signature gives a digest of a release."""
        return bool(self._signed_by) and any(
            self.is_signed(digest, release.publisher)
            for digests in release.digests.values()
            for digest in digests
        )

    def _enter(self, release: KnownRelease) -> None:
        for digest in release.signed:
            self._signed_by.setdefault(digest, set()).add(release.publisher)
        self.by_name.setdefault(release.file, []).append(release)
        self.by_folded.setdefault(release.file.casefold(), []).append(release)
        for digests in release.digests.values():
            for digest in digests:
                self.by_digest.setdefault(digest, []).append(release)

    def named(self, name: str, *, case_blind: bool) -> list[KnownRelease]:
        """The releases published under a file name."""
        if case_blind:
            return self.by_folded.get(name.casefold(), [])
        return self.by_name.get(name, [])

    def for_model(self, model: str | None) -> list[KnownRelease]:
        """The releases that are for a model, or for any; all where it is not known."""
        known = self._for_model.get(model)
        if known is None:
            if len(self._for_model) > 1_000:
                self._for_model.clear()
            # Many releases are for the same few models: each list of globs is asked once.
            answers = {
                globs: model is None or any(fnmatchcase(model, glob) for glob in globs or ("*",))
                for globs in {release.hardware for release in self.releases}
            }
            known = [release for release in self.releases if answers[release.hardware]]
            self._for_model[model] = known
        return known

    def recommended(self, model: str | None) -> list[KnownRelease]:
        """The recommended system images that are told to be for a model."""
        known = self._recommended.get(model)
        if known is None:
            if len(self._recommended) > 1_000:
                self._recommended.clear()
            known = self._recommended[model] = [
                one
                for one in self.for_model(model)
                if one.status == "recommended"
                and one.hardware is not None
                and one.kind in (None, "system-image")
                and one.version is not None
            ]
        return known

    def without_version(self, models: Iterable[str | None]) -> list[KnownRelease]:
        """The system images that are recommended for one of these models, and have no version."""
        return [
            one
            for one in dict.fromkeys(each for model in models for each in self.for_model(model))
            if one.status == "recommended" and one.hardware is not None and one.version is None
            and one.kind in (None, "system-image")
        ]  # fmt: skip

    @cached_property
    def _in_order(self) -> dict[bool, list[str]]:
        """The published names in order: as they are, and folded."""
        return {False: sorted(self.by_name), True: sorted(self.by_folded)}

    def beginning(self, start: str, *, case_blind: bool) -> list[KnownRelease]:
        """The releases whose file names begin so, as a listing that cuts names shows them."""
        start = start.casefold() if case_blind else start
        names, found = self._in_order[case_blind], list[KnownRelease]()
        by_name: Mapping[str, list[KnownRelease]] = self.by_folded if case_blind else self.by_name
        for name in names[bisect_left(names, start) :]:
            if not name.startswith(start):
                break
            found += by_name[name]
        return found

    def family(self, release: KnownRelease) -> Family:
        """The digests that belong with those of a release.

        >>> from ovek.model.catalog import Digests, Origin, Published, Release
        >>> md5, sha1 = "1" * 32, "2" * 40
        >>> both = Release(file="a.img", digests=Digests(md5=md5, sha1=sha1))
        >>> weak = Release(file="b.img", digests=Digests(md5=md5))
        >>> index = ReleaseIndex(Published(each, Origin("list", 1)) for each in (both, weak))
        >>> sorted(index.family(index.by_name["b.img"][0]).digests)
        ['md5', 'sha1']
        """
        known = self._families.get(release)
        return known or Family(release.digests, release.disputed, (release,))

    def once_each(self, releases: Iterable[KnownRelease]) -> list[KnownRelease]:
        """Releases without those that are the bytes of one before."""
        different = list[KnownRelease]()
        by_key: dict[str | int, list[KnownRelease]] = {}  # by digest and family: what they share
        for release in releases:
            keys: set[str | int] = set().union(*release.digests.values())
            if release.family is not None:
                keys.add(release.family)
            near = (other for key in keys for other in by_key.get(key, ()))
            if not any(release.same_bytes(other) for other in near):
                different.append(release)
                for key in keys:
                    by_key.setdefault(key, []).append(release)
        return different

    def proves_alone(
        self, release: KnownRelease, algorithm: Algorithm, digests: Digests | None
    ) -> bool:
        """Whether a release proves a file by one digest, with no other that could speak against it.

        Most images of a fleet are proven so; the long way comes to the same.
        """
        if release.disputed or release.doubtful or release in self._families:
            return False
        alone = True
        for name, _ in digests or ():  # a plain loop: this is asked for every image of a fleet
            alone = alone and (name == algorithm or name not in release.digests)
        return alone


def _sorted(published: Iterable[Published]) -> list[KnownRelease]:
    """The releases that entries tell of, in the order of their file names."""
    return sorted(
        (_merged(entries) for entries in _grouped(published)),
        key=lambda release: (release.file, release.publisher or ""),
    )


def _families(by_digest: dict[str | None, list[KnownRelease]]) -> dict[KnownRelease, Family]:
    """The family of each release that shares a digest with another."""
    leader: dict[KnownRelease, KnownRelease] = {}

    def lead(release: KnownRelease) -> KnownRelease:
        while (above := leader.setdefault(release, release)) is not release:
            leader[release] = leader[above]
            release = leader[release]
        return release

    for sharing in by_digest.values():
        for other in sharing[1:]:
            leader[lead(other)] = lead(sharing[0])
    members: dict[KnownRelease, list[KnownRelease]] = {}
    for release in list(leader):
        members.setdefault(lead(release), []).append(release)
    families = {}
    for related in members.values():
        digests = {
            name: frozenset[str]().union(*(one.digests.get(name, ()) for one in related))
            for name in STRONGEST_FIRST
            if any(name in one.digests for one in related)
        }
        disputed = frozenset(name for name, values in digests.items() if len(values) > 1)
        families.update(dict.fromkeys(related, Family(digests, disputed, tuple(related))))
    return families


def _related(releases: Sequence[KnownRelease]) -> dict[KnownRelease, KnownRelease]:
    """Releases of the same bytes, each with what all names of those bytes say together.

    They are for the hardware of all of them; a system image under one name is one under each; what
    is withdrawn under one name is withdrawn. Where sources disagree on a digest, nothing is joined.
    """
    by_digest: dict[str | None, list[KnownRelease]] = {}
    for release in releases:
        for digests in release.digests.values():
            for digest in digests:
                by_digest.setdefault(digest, []).append(release)
    numbers: dict[Family, int] = {}
    joined: dict[KnownRelease, KnownRelease] = {}
    for release, family in _families(by_digest).items():
        if family.disputed:
            continue
        number = numbers.setdefault(family, len(numbers))
        kinds = [each.kind for each in family.members if each.kind is not None]
        statuses = {each.status for each in family.members}
        joined[release] = msgspec.structs.replace(
            release,
            family=number,
            hardware=_union(each.hardware for each in family.members),
            revisions=_union(each.revisions for each in family.members),
            kind="system-image"
            if "system-image" in kinds
            else release.kind or min(kinds, default=None),
            sizes=release.sizes or frozenset().union(*(each.sizes for each in family.members)),
            status="withdrawn" if "withdrawn" in statuses else release.status,
        )
    return joined


def _union(several: Iterable[tuple[str, ...] | None]) -> tuple[str, ...] | None:
    """The globs of all, each once, sorted; None where one of them tells none."""
    union = dict[str, None]()
    for globs in several:
        if globs is None:
            return None
        union.update(dict.fromkeys(globs))
    return tuple(sorted(union))


def _grouped(published: Iterable[Published]) -> list[list[Published]]:
    """Put together the entries that tell of one release."""
    by_file: dict[str, dict[str | None, list[Published]]] = {}
    for entry in published:
        by_publisher = by_file.setdefault(entry.release.file, {})
        by_publisher.setdefault(entry.publisher, []).append(entry)
    groups = []
    for by_publisher in by_file.values():
        unsigned = by_publisher.pop(None, [])
        groups += [entries + unsigned for entries in by_publisher.values()] or [unsigned]
    return [sorted(entries, key=_told_first) for entries in groups]


def _told_first(entry: Published) -> tuple[str, bytes, int]:
    """The order in which sources are asked: by their file, then by what they say."""
    return entry.origin.file, msgspec.json.encode(entry.release), entry.origin.line


def _merged(entries: list[Published]) -> KnownRelease:
    releases = [entry.release for entry in entries]
    digests: dict[Algorithm, set[str]] = {}
    for release in releases:
        for algorithm, digest in release.digests:
            digests.setdefault(algorithm, set()).add(digest)
    disputed = frozenset(name for name, values in digests.items() if len(values) > 1)

    def first(name: str) -> Any:
        if len(releases) == 1:  # most are told by one source
            return getattr(releases[0], name)
        values = (getattr(release, name) for release in releases)
        return next((value for value in values if value is not None), None)

    version: str | None = first("version")
    signed = frozenset(each for one in entries if one.signed for _, each in one.release.digests)
    return KnownRelease(
        file=releases[0].file,
        publisher=next((entry.publisher for entry in entries if entry.publisher), None),
        digests={name: frozenset(digests[name]) for name in STRONGEST_FIRST if name in digests},
        sizes=frozenset(release.size for release in releases if release.size is not None),
        disputed=disputed,
        doubtful=any(release.digest_doubtful for release in releases),
        version=version if version is not None and len(version) <= LONGEST else None,
        variant=first("variant"),
        kind=first("kind"),
        hardware=_all_fits(releases),
        revisions=first("revisions"),
        status=first("status"),
        track=first("track"),
        published=first("published"),
        needs=first("needs") or Needs(),
        by_hardware=_by_hardware(entries, lambda row: row.needs or Needs()),
        with_by_hardware=_by_hardware(entries, lambda row: row.with_ or ()),
        with_=first("with_") or (),
        minutes=first("minutes"),
        trust=entries[0].trust,
        since=min((r.told_by.when for r in releases if r.told_by is not None), default=None),
        carries=first("carries") or {},
        reached_from=first("from_"),
        contains=first("contains") or (),
        lists=_lists_of(entries),
        signed=signed,
        signed_contents=bool(signed) and _has_signed_contents(entries, signed),
        within=None,
        note=first("note"),
        unpacked=next((r.needs.unpacked for r in releases if r.needs and r.needs.unpacked), None),
        origins=tuple(sorted((e.origin for e in entries), key=lambda o: (o.file, o.line))),
    )


def _lists_of(entries: list[Published]) -> tuple[SourceList, ...]:
    """The lists that tell of a release, each once; the best signed first."""
    lists = {
        SourceList(file=one.origin.file, taken=one.taken, signature=one.signature)
        for one in entries
    }
    if len(lists) == 1:
        return tuple(lists)
    order = {state: number for number, state in enumerate(BEST_FIRST)}
    return tuple(
        sorted(
            lists,
            key=lambda one: (
                order[one.signature.state] if one.signature is not None else len(order),
                one.file,
                one.taken,
            ),
        )
    )


def _has_signed_contents(entries: list[Published], signed: frozenset[str]) -> bool:
    """Whether what a release contains is told by a list with a good signature.

    What was found in an archive is, where all digests of the archive are signed.
    """
    telling = next((one for one in entries if one.release.contains is not None), None)
    if telling is None:
        return False
    digests = {digest for _, digest in telling.release.digests}
    return telling.signed or (telling.taken == "opened" and bool(digests) and digests <= signed)


def _all_fits(releases: list[Release]) -> tuple[str, ...] | None:
    """The hardware of all rows; None where no row tells of any."""
    parts = [release.hardware for release in releases if release.hardware is not None]
    return tuple(dict.fromkeys(glob for globs in parts for glob in globs)) if parts else None


def _by_hardware(
    entries: list[Published], fact: Callable[[Release], T]
) -> tuple[tuple[tuple[str, ...], T], ...]:
    """A fact of each row that tells of some hardware, where rows differ in it.

    They come as they stand in their source, since the first that fits counts.
    """
    if len(entries) == 1:
        return ()
    rows: dict[tuple[str, ...], T] = {}
    for entry in sorted(entries, key=lambda one: (one.origin.file, one.origin.line)):
        if entry.release.hardware is not None:
            rows.setdefault(entry.release.hardware, fact(entry.release))
    return tuple(rows.items()) if len({repr(told) for told in rows.values()}) > 1 else ()


def brought(release: KnownRelease, naming: Naming) -> KnownRelease:
    """What is put on flash of a release: the one image inside, where it is an archive.

    A device that takes the archive itself calls it an image by its name.
    """
    if len(release.contains) != 1 or naming.of(release.file, case_blind=True).image:
        return release
    (image,) = release.contains
    if not naming.of(image.name, case_blind=True).image:
        return release
    return msgspec.structs.replace(
        inside(release, image), kind=release.kind, needs=release.needs, carries=release.carries
    )


def inside(release: KnownRelease, contained: Contained) -> KnownRelease:
    """A file that a release contains, as a release of its own.

    One of several is a package; one alone is what its name says.
    """
    return msgspec.structs.replace(
        release,
        file=contained.name,
        digests={name: frozenset({digest}) for name, digest in contained.digests},
        sizes=frozenset() if contained.size is None else frozenset({contained.size}),
        disputed=frozenset(),
        kind="package" if len(release.contains) > 1 else None,
        needs=Needs(),
        carries={},
        within=release.file,
        unpacked=None,
        family=None,
        signed=frozenset(each for _, each in contained.digests)
        if release.signed_contents
        else frozenset(),
    )

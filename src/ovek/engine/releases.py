"""What all sources together say of each release.

1. Entries with one file name are one release, told by several sources; two publishers that both
   give their names may use one file name for two releases.
2. Where two sources give different digests for one algorithm, that algorithm is disputed: both
   are kept, neither is taken.
3. Any other fact is taken from the first source that knows it.
"""

from collections.abc import Iterable
from typing import Any

from ovek.model.catalog import Needs, Published
from ovek.model.digest import STRONGEST_FIRST, Algorithm
from ovek.model.verdict import KnownRelease


class ReleaseIndex:
    """Every known release, found by file name (also case-blind), digest or version."""

    def __init__(self, published: Iterable[Published]) -> None:
        self.by_name: dict[str, list[KnownRelease]] = {}
        self.by_folded: dict[str, list[KnownRelease]] = {}
        self.by_digest: dict[str | None, list[KnownRelease]] = {}
        self.by_version: dict[str, list[KnownRelease]] = {}
        self.releases = [_merged(entries) for entries in _grouped(published)]
        for release in self.releases:
            self.by_name.setdefault(release.file, []).append(release)
            self.by_folded.setdefault(release.file.casefold(), []).append(release)
            if release.version is not None:
                self.by_version.setdefault(release.version, []).append(release)
            for digests in release.digests.values():
                for digest in digests:
                    self.by_digest.setdefault(digest, []).append(release)

    def named(self, name: str, *, case_blind: bool) -> list[KnownRelease]:
        """The releases published under a file name."""
        if case_blind:
            return self.by_folded.get(name.casefold(), [])
        return self.by_name.get(name, [])


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
    return groups


def _merged(entries: list[Published]) -> KnownRelease:
    releases = [entry.release for entry in entries]
    digests: dict[Algorithm, set[str]] = {}
    for release in releases:
        for algorithm, digest in release.digests:
            digests.setdefault(algorithm, set()).add(digest)
    disputed = frozenset(name for name, values in digests.items() if len(values) > 1)

    def first(name: str) -> Any:
        values = (getattr(release, name) for release in releases)
        return next((value for value in values if value is not None), None)

    return KnownRelease(
        file=releases[0].file,
        publisher=next((entry.publisher for entry in entries if entry.publisher), None),
        digests={name: frozenset(digests[name]) for name in STRONGEST_FIRST if name in digests},
        sizes=frozenset(release.size for release in releases if release.size is not None),
        disputed=disputed,
        doubtful=any(release.digest_doubtful for release in releases),
        version=first("version"),
        variant=first("variant"),
        kind=first("kind"),
        fits=first("fits"),
        revisions=first("revisions"),
        status=first("status"),
        track=first("track"),
        published=first("published"),
        needs=first("needs") or Needs(),
        carries=first("carries") or {},
        reached_from=first("from_"),
        note=first("note"),
        unpacked=next((r.needs.unpacked for r in releases if r.needs and r.needs.unpacked), None),
        origins=tuple(entry.origin for entry in entries),
    )

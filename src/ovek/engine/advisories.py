"""Which releases an advisory is about, and what it says of them.

1. A product is a release where one of its hashes is a digest of it. What is said of that product
   counts before all that is matched by names.
2. Else where the publisher is the same (of an advisory that names none, any), and the product's
   name is the file, the variant or a hardware model of the release, or what `products.toml` says;
   and its version, or range of versions (`vers`), has that of the release.
3. Of several such products one with an exact version counts before a range, and that before all
   versions. Of two that say different things, the worse counts.
4. A version that cannot be ordered is in no range: what could not be matched is said.
"""

import re
from collections.abc import Iterable, Mapping
from fnmatch import fnmatchcase

from msgspec import Struct

from ovek.model.advisory import (
    Advisory,
    AdvisoryProduct,
    AffectedImages,
    AffectedVersion,
    Concern,
    MatchedBy,
    ProductAlias,
    Standing,
    Vulnerability,
)
from ovek.model.digest import Digests
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare

WORST_FIRST: tuple[Standing, ...] = ("affected", "under investigation", "fixed", "not affected")
_SPECIFIER = re.compile(r"(<=|>=|<|>|!=|=)?\s*([^\s,|]+)")
_Found = tuple[Advisory, AdvisoryProduct, MatchedBy, int]
_Means = tuple[Advisory, AdvisoryProduct, MatchedBy]


class _Bound(Struct, frozen=True):
    sign: str
    version: str


def in_range(version: str, versions: str) -> bool | None:
    """Whether a version is in a range, `vers:SCHEME/>=1|<2` or `>=1, <2`; None: unknown.

    >>> in_range("7.4.1", "vers:generic/>=7.2|<7.4.2"), in_range("7.4.2", "<7.4.2")
    (True, False)
    >>> in_range("7.4.2", "vers:generic/7.4.1|7.4.2"), in_range("x", ">=7") is None
    (True, True)
    """
    text = versions.strip()
    if text.casefold().startswith("vers:"):
        text = text.partition("/")[2]
    if text.strip() == "*":
        return True
    bounds = [_Bound(sign or "=", name) for sign, name in _SPECIFIER.findall(text)]
    if not bounds:
        return None
    orders = {bound.version: compare(version, bound.version) for bound in bounds}
    if any(bound.sign == "!=" and orders[bound.version] == 0 for bound in bounds):
        return False
    if any(bound.sign in ("=", "<=", ">=") and orders[bound.version] == 0 for bound in bounds):
        return True
    sided = [bound for bound in bounds if bound.sign not in ("=", "!=")]
    if any(orders[bound.version] is None for bound in sided):
        return None
    return _between(sided, orders)


def _between(bounds: list[_Bound], orders: Mapping[str, int | None]) -> bool:
    """Whether a version lies between a lower bound and the upper one behind it, or beyond one."""

    def above(bound: _Bound) -> bool:
        return bound.sign[0] == ">" and orders[bound.version] == 1

    def below(bound: _Bound) -> bool:
        return bound.sign[0] == "<" and orders[bound.version] == -1

    for number, bound in enumerate(bounds):
        before = bounds[number - 1] if number else None
        behind = bounds[number + 1] if number + 1 < len(bounds) else None
        if below(bound) and (before is None or before.sign[0] == "<" or above(before)):
            return True
        if above(bound) and behind is None:
            return True
    return False


class AdvisoryIndex:
    """All advisories, looked up by the bytes of a file or by a release."""

    def __init__(
        self, advisories: Iterable[Advisory] = (), aliases: Iterable[ProductAlias] = ()
    ) -> None:
        self.advisories, self._aliases = tuple(advisories), tuple(aliases)
        self._by_digest: dict[str, list[tuple[Advisory, AdvisoryProduct]]] = {}
        self._by_name: dict[str, list[tuple[Advisory, AdvisoryProduct]]] = {}
        for advisory in self.advisories:
            for product in advisory.products:
                for _, digest in product.hashes:
                    self._by_digest.setdefault(digest, []).append((advisory, product))
                self._by_name.setdefault(product.name.casefold(), []).append((advisory, product))
        self._known: dict[KnownRelease, tuple[Concern, ...]] = {}
        self._for_globs: dict[tuple[str, ...], list[str]] = {}

    def __bool__(self) -> bool:
        return bool(self.advisories)

    def of_release(
        self, release: KnownRelease, others: Iterable[KnownRelease] = ()
    ) -> tuple[Concern, ...]:
        """What is said of a release; `others` are those that may have it fixed."""
        if not self.advisories:
            return ()
        known = self._known.get(release)
        if known is None:
            digests = [digest for values in release.digests.values() for digest in values]
            matches = [*self._by_hash(digests), *self._by_names(release)]
            known = _concerns(matches, release, list(others), self)
            self._known[release] = known
        return known

    def of_digests(self, digests: Digests | None) -> tuple[Concern, ...]:
        """What is said of a file by its bytes alone."""
        if not self._by_digest or digests is None:
            return ()
        matches = self._by_hash(digest for _, digest in digests)
        return _concerns(matches, None, [], self) if matches else ()

    def products_of(self, release: KnownRelease) -> list[_Means]:
        """The products that a release is, whatever is said of them."""
        digests = [digest for values in release.digests.values() for digest in values]
        return [match[:3] for match in (*self._by_hash(digests), *self._by_names(release))]

    def _by_hash(self, digests: Iterable[str]) -> list[_Found]:
        return [
            (advisory, product, "hash", 3)
            for digest in digests
            for advisory, product in self._by_digest.get(digest, ())
        ]

    def _by_names(self, release: KnownRelease) -> list[_Found]:
        matches: list[_Found] = []
        for name in self._names_of(release):
            for advisory, product in self._by_name[name]:
                publisher = product.publisher
                same = (
                    publisher is None
                    or publisher.casefold() == (release.publisher or "").casefold()
                )
                if not same and not self._is_alias(product, release):
                    continue
                how = _version_of(product, release.version)
                if how is not None:
                    matches.append((advisory, product, "name", how))
        return matches

    def _names_of(self, release: KnownRelease) -> list[str]:
        """The names of products that a release may be."""
        names = {release.file.casefold(), (release.variant or "").casefold()} & self._by_name.keys()
        globs = [glob.casefold() for glob in release.hardware or ()]
        globs += [
            alias.name.casefold()
            for alias in self._aliases
            if fnmatchcase(release.file.casefold(), alias.files.casefold())
        ]
        return sorted(names.union(self._meant_by(tuple(globs))))

    def _meant_by(self, globs: tuple[str, ...]) -> list[str]:
        """The names of products that globs mean; many releases have the same few."""
        known = self._for_globs.get(globs)
        if known is None:
            known = self._for_globs[globs] = [
                name for name in self._by_name if any(fnmatchcase(name, glob) for glob in globs)
            ]
        return known

    def _is_alias(self, product: AdvisoryProduct, release: KnownRelease) -> bool:
        return any(
            fnmatchcase(product.name.casefold(), alias.name.casefold())
            and fnmatchcase(release.file.casefold(), alias.files.casefold())
            and (alias.publisher is None or alias.publisher == product.publisher)
            for alias in self._aliases
        )


NO_ADVISORIES = AdvisoryIndex()


def affected_images(
    advisory: Advisory, index: AdvisoryIndex, releases: Iterable[KnownRelease]
) -> AffectedImages:
    """The images that an advisory of an index says are affected, of these releases or of none."""
    affected = [
        release
        for release in releases
        if any(
            concern.advisory == advisory.id and concern.standing == "affected"
            for concern in index.of_release(release)
        )
    ]
    ids = {
        product for one in advisory.vulnerabilities for product in one.standings.get("affected", ())
    }
    digests = {digest for one in advisory.products if one.id in ids for _, digest in one.hashes}
    for release in affected:
        digests.update(*release.digests.values())
    return AffectedImages(
        advisory=advisory.id,
        files=frozenset(release.file.casefold() for release in affected),
        digests=frozenset(digests),
        versions=frozenset(
            AffectedVersion(release.version, release.hardware)
            for release in affected
            if release.version is not None
        ),
    )


def _version_of(product: AdvisoryProduct, version: str | None) -> int | None:
    """How exactly a product means a version: 2 just it, 1 a range, 0 all; None: not at all."""
    if product.version is not None:
        same = version is not None and product.version.casefold() == version.casefold()
        return 2 if same else None
    if product.versions is not None:
        return 1 if version is not None and in_range(version, product.versions) else None
    return 0


def _concerns(
    matches: list[_Found], release: KnownRelease | None, others: list[KnownRelease],
    index: AdvisoryIndex,
) -> tuple[Concern, ...]:  # fmt: skip
    """What the products that were matches say, each vulnerability once."""
    by_advisory: dict[str, list[_Found]] = {}
    for match in matches:
        by_advisory.setdefault(match[0].id, []).append(match)
    concerns = []
    for products in by_advisory.values():
        advisory = products[0][0]
        for vulnerability in advisory.vulnerabilities:
            standing_of = _standing(vulnerability, products)
            if standing_of is not None:
                standing, (_, product, by, _) = standing_of
                concerns.append(
                    Concern(
                        advisory=advisory.id,
                        title=vulnerability.title or advisory.title,
                        vulnerability=vulnerability.name,
                        standing=standing,
                        score=vulnerability.score,
                        severity=advisory.severity,
                        matched_by=by,
                        product=product.name,
                        fixed=_fixed(advisory, vulnerability, release, others, index),
                        remedy=_remedy(vulnerability, product.id),
                    )
                )
    return tuple(concerns)


def _standing(
    vulnerability: Vulnerability, products: list[_Found]
) -> tuple[Standing, _Found] | None:
    """How a release stands: by the product that means it most exactly, of two the worse."""
    best: tuple[int, int] | None = None
    chosen: tuple[Standing, _Found] | None = None
    for match in products:
        for rank, standing in enumerate(WORST_FIRST):
            if match[1].id in vulnerability.standings.get(standing, ()):
                key = (-match[3], rank)
                if best is None or key < best:
                    best, chosen = key, (standing, match)
                break
    return chosen


def _fixed(
    advisory: Advisory, vulnerability: Vulnerability, release: KnownRelease | None,
    others: list[KnownRelease], index: AdvisoryIndex,
) -> tuple[str, ...]:  # fmt: skip
    """The versions of other releases for the same hardware in which it is fixed."""
    ids = set(vulnerability.standings.get("fixed", ()))
    if release is None or not ids:
        return ()
    versions = []
    for other in others:
        if other.version is None or other is release or other.hardware != release.hardware:
            continue
        if any(
            matches is advisory and product.id in ids
            for matches, product, _ in index.products_of(other)
        ):
            versions.append(other.version)
    return tuple(dict.fromkeys(versions))


def _remedy(vulnerability: Vulnerability, product: str) -> str | None:
    """What is to be done about a product: a fix of its publisher first, then a workaround."""
    order = ("vendor_fix", "mitigation", "workaround")
    fitting = [one for one in vulnerability.remedies if not one.products or product in one.products]
    fitting.sort(key=lambda one: order.index(one.category) if one.category in order else 9)
    return fitting[0].details if fitting else None

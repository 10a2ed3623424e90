"""Security advisories and VEX statements as CSAF has them: products, severity, what to do."""

from collections.abc import Iterable
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Annotated, Literal

from msgspec import Meta, Struct

from ovek.model.digest import Algorithm, Digests
from ovek.model.snapshot import Name

ALIASES_FORMAT = "ovek.products/1"

Standing = Literal["affected", "under investigation", "not affected", "fixed"]


class AdvisoryProduct(Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One product of an advisory: its id there, who makes it, its name, and which versions.

    `version` is one version, `versions` a range as the advisory writes it; neither is all. `hashes`
    are digests of its files.
    """

    id: str
    name: str
    publisher: str | None = None
    version: str | None = None
    versions: str | None = None
    hashes: tuple[tuple[Algorithm, str], ...] = ()


class Remedy(Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What an advisory says to do about some products (none named: all)."""

    category: str
    details: str
    products: tuple[str, ...] = ()


class Vulnerability(Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One vulnerability: its name, how each product stands, its score, and remedies.

    `score` is the highest CVSS base score, None where there is none.
    """

    name: str
    title: str | None = None
    score: float | None = None
    standings: dict[Standing, tuple[str, ...]] = {}
    remedies: tuple[Remedy, ...] = ()


class Advisory(Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One advisory. `severity` is what its publisher says of all of it, in its own words."""

    id: str
    title: str
    publisher: str
    version: str
    status: str
    category: str
    csaf: Literal["2.0", "2.1"]
    released: datetime
    severity: str | None = None
    products: tuple[AdvisoryProduct, ...] = ()
    vulnerabilities: tuple[Vulnerability, ...] = ()


class ProductAlias(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """What the catalog calls a product: `name` is as advisories write it (a glob).

    `files` are the releases that are meant, by a glob of their file names; `publisher` is the one
    of the advisory, where the name alone may mean several.
    """

    name: Name
    files: Name
    publisher: Name | None = None


class ProductAliases(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """`advisories/products.toml`."""

    format: Literal["ovek.products/1"] = "ovek.products/1"
    product: tuple[ProductAlias, ...] = ()


MatchedBy = Literal["hash", "name"]
Score = Annotated[float, Meta(ge=0, le=10)]


class Concern(Struct, frozen=True, kw_only=True):
    """What one vulnerability of an advisory says of a release, and by what that was matched."""

    advisory: str
    title: str
    vulnerability: str
    standing: Standing
    score: float | None
    severity: str | None
    matched_by: MatchedBy
    product: str
    fixed: tuple[str, ...]
    remedy: str | None


class AffectedVersion(Struct, frozen=True):
    """A version of an affected release, and the globs of hardware that it is for; None: any."""

    version: str
    hardware: tuple[str, ...] | None


class AffectedImages(Struct, frozen=True, kw_only=True):
    """The images that an advisory says are affected: releases by file name, bytes, versions.

    File names are folded; those that are only under investigation are left out.
    """

    advisory: str
    files: frozenset[str]
    digests: frozenset[str]
    versions: frozenset[AffectedVersion]

    def has(self, digests: Digests | None, releases: Iterable[str]) -> bool:
        """Whether an image is one, by its bytes or by a release that it is taken for."""
        if any(digest in self.digests for _, digest in digests or ()):
            return True
        return any(file.casefold() in self.files for file in releases)

    def runs(self, version: str, model: str | None) -> bool:
        """Whether what runs on hardware of a model (None: unknown) may be one, by its version."""
        return any(
            one.version == version
            and (
                model is None
                or one.hardware is None
                or any(fnmatchcase(model, glob) for glob in one.hardware)
            )
            for one in self.versions
        )

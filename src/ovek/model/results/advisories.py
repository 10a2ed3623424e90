"""What is told of security advisories."""

from collections.abc import Sequence
from datetime import datetime
from typing import Literal

from msgspec import Struct

from ovek.model.advisory import MatchedBy, Standing
from ovek.model.results import OfSite


class MatchedRelease(Struct, frozen=True, kw_only=True):
    """A release that an advisory is about: how it stands to each vulnerability, and by what."""

    file: str
    version: str | None
    publisher: str | None
    matched_by: MatchedBy
    product: str
    standings: dict[str, Standing]


class AdvisoryFacts(Struct, frozen=True, kw_only=True):
    """One advisory: what it is, which releases it is about, and which products none matches.

    `score` is the highest CVSS base score, `remedies` are what it says to do.
    """

    id: str
    title: str
    publisher: str
    version: str
    status: str
    category: str
    csaf: str
    released: datetime
    severity: str | None
    score: float | None
    vulnerabilities: dict[str, str]
    releases: Sequence[MatchedRelease]
    unmatched: Sequence[str]
    remedies: Sequence[str]


class AdvisoryList(OfSite, frozen=True, kw_only=True):
    """The advisories of a site, or one of them (`whole`)."""

    FORMAT = "ovek.advisories/1"
    LIST = "advisories"
    BESIDE = ("whole",)

    advisories: Sequence[AdvisoryFacts]
    whole: bool = False


class ImportedAdvisory(Struct, frozen=True, kw_only=True):
    """One document that was imported, or would be: where it came from, and what became of it.

    `file` is where it lies in the site; None where it was not taken.
    """

    source: str
    advisory: AdvisoryFacts
    outcome: Literal["new", "updated", "same", "older"]
    file: str | None


class ImportedAdvisories(OfSite, frozen=True, kw_only=True):
    """Documents that were imported; with `look` only what would be."""

    FORMAT = "ovek.advisory-import/1"
    LIST = "imported"

    imported: Sequence[ImportedAdvisory]
    look: bool

"""What the catalog tells."""

from collections.abc import Sequence

from msgspec import Struct

from ovek.model.catalog import Published
from ovek.model.choice import CatalogMistake, Pick
from ovek.model.fit import Route
from ovek.model.results import OfSite
from ovek.model.signature import SignatureCheck
from ovek.model.verdict import KnownRelease


class Releases(OfSite, frozen=True, kw_only=True):
    """Releases, as all sources together tell of them."""

    FORMAT = "ovek.releases/1"
    LIST = "releases"

    releases: Sequence[KnownRelease]


class WholeReleases(Releases, frozen=True, kw_only=True):
    """Releases of which all is asked."""


class CatalogCheck(OfSite, frozen=True, kw_only=True):
    """What is wrong in the catalog; `number` is how many releases it has."""

    FORMAT = "ovek.catalog-check/1"
    LIST = "mistakes"
    BESIDE = ("number",)

    mistakes: Sequence[CatalogMistake]
    number: int


class UpgradePath(OfSite, frozen=True, kw_only=True):
    """The way from one version to another."""

    FORMAT = "ovek.path/1"
    LIST = "hops"
    INLINE = "route"

    route: Route


class PickedFor(OfSite, frozen=True, kw_only=True):
    """Which release is the one for a device."""

    FORMAT = "ovek.pick/1"
    LIST = "others"
    INLINE = "pick"

    pick: Pick


class Understood(Struct, frozen=True, kw_only=True):
    """What an import made of one file: its kind, what its columns mean, and its releases.

    `signature` is what its signature came to; None: it has none.
    """

    file: str
    kind: str
    columns: str
    entries: Sequence[Published]
    signature: SignatureCheck | None = None

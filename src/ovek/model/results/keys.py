"""What is told of the keys of a site."""

from collections.abc import Sequence
from datetime import date, datetime

from msgspec import Struct

from ovek.model.results import OfSite
from ovek.model.signature import SignatureForm


class KeyFacts(Struct, frozen=True, kw_only=True):
    """One key: whose it is, and whether what it signs now counts."""

    file: str  # in the site folder
    publisher: str  # to whom it belongs
    form: SignatureForm
    fingerprint: str  # whole
    first: date | None  # the first day of which a signature counts, by keys.toml
    last: date | None  # the last one
    expires: datetime | None  # by the key itself; None: never, or not known
    signs_for: tuple[str, ...]  # globs of publishers
    counts: bool
    why: str  # why it does not


class KeyList(OfSite, frozen=True, kw_only=True):
    """The keys of a site, as the file `listed_in` lists them."""

    FORMAT = "ovek.signing-keys/1"
    LIST = "keys"
    BESIDE = ("listed_in",)

    keys: Sequence[KeyFacts]
    listed_in: str

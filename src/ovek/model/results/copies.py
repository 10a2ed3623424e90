"""Where copies of images are, and where they went wrong."""

from collections.abc import Sequence

from ovek.model.custody import Custody
from ovek.model.results import OfDevices
from ovek.model.where import Holding


class Located(OfDevices, frozen=True, kw_only=True):
    """The copies of what was sought: of an image, or of all that an advisory says is affected."""

    FORMAT = "ovek.where/1"
    LIST = "copies"

    sought: str
    copies: Sequence[Holding]
    by_advisory: bool = False


class FleetCustody(OfDevices, frozen=True, kw_only=True):
    """Each image followed from who published it to every flash."""

    FORMAT = "ovek.custody/1"
    LIST = "images"

    images: Sequence[Custody]

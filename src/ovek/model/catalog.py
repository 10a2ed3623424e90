"""What publishers released: `ovek.catalog/1`, and where each release was read."""

from datetime import date
from typing import Annotated, Literal

from msgspec import Meta, Struct

from ovek.model.digest import Digests
from ovek.model.signature import REFUSED, SignatureCheck
from ovek.model.snapshot import Bytes

FORMAT = "ovek.catalog/1"

Status = Literal["recommended", "current", "old", "withdrawn"]
Track = Literal["maintenance", "feature"]
ReleaseKind = Literal["system-image", "package", "set-file", "component-image"]
Trust = Literal["publisher", "own"]
# How a list came into the catalog; `opened`: from a proven archive on the shelf.
Taken = Literal["imported", "pasted", "standing", "opened"]
FileName = Annotated[str, Meta(min_length=1, pattern=r"^[^/]+$")]


class Needs(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True):
    """What a release needs: bytes of memory, of volume and once unpacked; components by
    version."""

    memory: Bytes | None = None
    volume: Bytes | None = None
    unpacked: Bytes | None = None
    components: dict[str, str] | None = None


class Contained(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True):
    """One file that a release contains: its path in it, its size in bytes, its digests."""

    path: Annotated[str, Meta(min_length=1)]
    size: Bytes | None = None
    digests: Digests = Digests()

    @property
    def name(self) -> str:
        """The file's own name."""
        return self.path.rpartition("/")[2]


class ToldBy(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """Where an imported release was read: the file, its line from 1, and the day of the import."""

    file: str
    line: int
    when: date


class Release(
    Struct,
    frozen=True,
    forbid_unknown_fields=True,
    omit_defaults=True,
    kw_only=True,
    rename={"from_": "from", "with_": "with"},
):
    """One published file. None is not known; `from_` None means reachable from any version.

    `with_` are the files that are loaded together with it, `minutes` how long that takes.
    """

    file: FileName
    size: Bytes | None = None
    digests: Digests = Digests()
    version: str | None = None
    variant: str | None = None
    kind: ReleaseKind | None = None
    hardware: tuple[str, ...] | None = None
    revisions: tuple[str, ...] | None = None
    status: Status | None = None
    track: Track | None = None
    published: date | None = None
    needs: Needs | None = None
    carries: dict[str, str] | None = None
    from_: tuple[str, ...] | None = None
    contains: tuple[Contained, ...] | None = None
    with_: tuple[FileName, ...] | None = None
    minutes: Annotated[int, Meta(ge=0, le=100_000)] | None = None
    digest_doubtful: bool = False
    note: str | None = None
    told_by: ToldBy | None = None


class Origin(Struct, frozen=True):
    """The file and line (from 1) that a fact was read from."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


class Published(Struct, frozen=True):
    """One release as one source tells it; of `own` trust it is a list of somebody's own copies.

    `signature` is what the signature of that source came to; None: it has none.
    """

    release: Release
    origin: Origin
    publisher: str | None = None
    trust: Trust = "publisher"
    taken: Taken = "standing"
    signature: SignatureCheck | None = None

    @property
    def refused(self) -> bool:
        """Whether the signature of its list is bad, so that nothing in the list counts."""
        return self.signature is not None and self.signature.state in REFUSED

    @property
    def signed(self) -> bool:
        """Whether its list has a good signature."""
        return self.signature is not None and self.signature.good

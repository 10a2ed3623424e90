"""What a site says of releases beside what was imported: `ovek.annotations/1`."""

from typing import Literal

from msgspec import Struct

from ovek.model.catalog import FileName, Status, Track
from ovek.model.snapshot import Bytes, Name

FORMAT = "ovek.annotations/1"
# The keys of an annotation, and the fields of a release that they fill.
ANNOTATED = {"hardware": "hardware", "version": "version", "variant": "variant", "status": "status",
         "track": "track", "size": "size"}  # fmt: skip


class Annotation(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """What is said of the files that a glob names; what is None is not said.

    `hardware` are globs of models, `size` is in bytes.
    """

    files: FileName
    hardware: tuple[Name, ...] | None = None
    version: Name | None = None
    variant: Name | None = None
    status: Status | None = None
    track: Track | None = None
    size: Bytes | None = None

    def __post_init__(self) -> None:
        if all(getattr(self, key) is None for key in ANNOTATED):
            raise ValueError(
                f"the annotation of {self.files!r} sets nothing; give any of: "
                f"{', '.join(ANNOTATED)}"
            )


class Annotations(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The annotations of a site, in the order of its file: a later one counts before an earlier."""

    format: Literal["ovek.annotations/1"] = "ovek.annotations/1"
    annotation: tuple[Annotation, ...] = ()

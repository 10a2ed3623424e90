"""Answers out of the catalog: mistakes in it, ways from one version to another, what fits."""

from msgspec import Struct

from ovek.model.catalog import Origin
from ovek.model.fit import Route
from ovek.model.verdict import KnownRelease


class CatalogMistake(Struct, frozen=True, kw_only=True):
    """One thing that is wrong in the catalog: which kind, where, what was seen, what to do."""

    kind: str
    file: str
    origins: tuple[Origin, ...]
    seen: str
    do: str


class Picked(Struct, frozen=True, kw_only=True):
    """One release held against a device: `against` are the reasons that speak against it."""

    release: KnownRelease
    against: tuple[str, ...]


class Pick(Struct, frozen=True, kw_only=True):
    """Which release is the one for a device (None: none is), why the others are not, and parts.

    `unsure` is what is not known of whether the chosen one fits. `by_member` are the releases of
    members that need different files of one version; empty where one file is for all.
    """

    device: str
    chosen: KnownRelease | None
    others: tuple[Picked, ...]
    parts: tuple[KnownRelease, ...]
    path: Route | None
    unsure: tuple[str, ...] = ()
    by_member: dict[str, KnownRelease] = {}

    @property
    def all_chosen(self) -> tuple[KnownRelease, ...]:
        """The releases that are for some member."""
        return tuple(dict.fromkeys([*filter(None, (self.chosen,)), *self.by_member.values()]))

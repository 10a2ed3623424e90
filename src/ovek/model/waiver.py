"""Findings that a person has accepted, with a reason and an end: `ovek.waivers/1`."""

from datetime import date
from typing import Literal

from msgspec import Struct

from ovek.model.snapshot import Name

FORMAT = "ovek.waivers/1"


class Waiver(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """One accepted finding: the rule, the devices and places (globs), who, why, until when.

    `until` is the last day on which it holds. No `place` is any place.
    """

    rule: Name
    device: Name
    by: Name
    why: Name
    until: date
    place: Name | None = None


class Waivers(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The waivers of a site, in the order of its file."""

    format: Literal["ovek.waivers/1"] = "ovek.waivers/1"
    waiver: tuple[Waiver, ...] = ()

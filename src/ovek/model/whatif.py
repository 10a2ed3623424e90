"""What is taken to be so, beside what is."""

from msgspec import Struct


class WhatIf(Struct, frozen=True, kw_only=True):
    """What is taken to be so, as it was typed."""

    missing: tuple[str, ...] = ()
    bad: tuple[str, ...] = ()
    saved: bool = False

    def words(self) -> list[str]:
        """What is taken to be so, in words."""
        parts = [f"{place} is missing" for place in self.missing]
        parts += [f"{place} is bad" for place in self.bad]
        return parts + (["the live boot settings are saved"] if self.saved else [])

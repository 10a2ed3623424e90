"""What is taken to be so, beside what is."""

from msgspec import Struct


class WhatIf(Struct, frozen=True, kw_only=True):
    """What is taken to be so, as it was typed."""

    missing: tuple[str, ...] = ()
    bad: tuple[str, ...] = ()
    saved: bool = False

    def told(self) -> list[str]:
        """What is taken to be so, in words."""
        told = [f"{place} is missing" for place in self.missing]
        told += [f"{place} is bad" for place in self.bad]
        return told + (["the live boot settings are saved"] if self.saved else [])

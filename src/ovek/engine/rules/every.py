"""Every rule there is, in the order in which they are listed."""

from ovek.engine.rules import (
    RULES,
    banks,
    boot,
    images,
    members,
    parts,
    releases,
    space,
    upkeep,
)

__all__ = [
    "RULES",
    "banks",
    "boot",
    "images",
    "members",
    "parts",
    "releases",
    "space",
    "upkeep",
]

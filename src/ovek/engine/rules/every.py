"""Every rule there is, in the order in which they are listed."""

from importlib import import_module

from ovek.engine.rules import RULES

for _group in (
    "boot",
    "banks",
    "images",
    "members",
    "components",
    "releases",
    "advisories",
    "signatures",
    "space",
    "upkeep",
):
    import_module(f"ovek.engine.rules.{_group}")

__all__ = ["RULES"]

"""What options are where nobody typed them."""

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import Struct

from ovek.model.result import Result

Origin = Literal["environment", "site", "user", "default"]


class OptionSetting(Struct, frozen=True, kw_only=True):
    """What one option of a command is, and where that is from.

    `command` are its words, null for all commands that have the option. `place` is the variable, or
    the file and the key in it; empty for what Ovek itself says.
    """

    command: str | None
    option: str
    value: Any
    origin: Origin
    place: str = ""


class Settings(Result, frozen=True, kw_only=True):
    """The options that somebody set; with `whole` all others, too.

    `looked_in` are the files that were looked at, whether they are there or not.
    """

    FORMAT = "ovek.settings/1"
    LIST = "settings"
    BESIDE = ("whole",)

    settings: Sequence[OptionSetting]
    looked_in: Sequence[str]
    whole: bool = False

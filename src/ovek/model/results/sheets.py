"""What is told of sheets, rules and policy."""

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from ovek.model.fields import Field, Fills
from ovek.model.finding import RuleCard
from ovek.model.fleet import Fleet
from ovek.model.policy import Policy
from ovek.model.result import Result
from ovek.model.results import OfSite
from ovek.model.waiver import Waiver

WaiverMark = Literal["expired", "unused"]


class Rules(Result, frozen=True, kw_only=True):
    """The rules of the audit; `whole` is whether all about each was asked for."""

    FORMAT = "ovek.rules/1"
    LIST = "rules"
    BESIDE = ("whole",)

    rules: Sequence[RuleCard]
    whole: bool = False


class MarkedWaiver(Waiver, frozen=True, kw_only=True):
    """A waiver, and what is wrong with it: it is over, or no device has what it is for."""

    mark: WaiverMark | None = None


class PolicyCheck(OfSite, frozen=True, kw_only=True):
    """A sound policy with its defaults, and the waivers."""

    FORMAT = "ovek.policy-check/1"
    LIST = "waivers"
    BESIDE = ("fleet",)

    policy: Policy
    waivers: Sequence[MarkedWaiver]
    fleet: Fleet


class SheetField(Field, frozen=True):
    """A field of a thing that a sheet can fill."""

    thing: Fills
    field: str


class SheetFields(Result, frozen=True, kw_only=True):
    """The fields that a sheet can fill, and what each line of its wording may name."""

    FORMAT = "ovek.sheet-fields/1"
    LIST = "fields"

    fields: Sequence[SheetField]
    wording: dict[str, tuple[str, ...]]


class SheetCheck(Struct, frozen=True, kw_only=True):
    """A sheet that is right: what it is, and how it does on the sessions that are kept with it."""

    name: str
    title: str
    layout: str
    questions: int
    by: str
    kept: Sequence["KeptSession"]
    facts: int


class KeptSession(Struct, frozen=True, kw_only=True):
    """A session that is kept with a sheet: what of it is not understood."""

    file: str
    name: str
    whole: bool
    facts: int
    strange: int
    wrong: Sequence[str]
    sheet: str

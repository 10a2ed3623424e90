"""What is remembered of devices over time (`ovek.history/1`)."""

from datetime import datetime
from typing import Annotated, Any, Literal, NamedTuple, get_args

from msgspec import Meta, Struct

FactKind = Literal[
    "version", "starts", "image", "boot", "bank", "finding", "answer", "proven", "target", "site",
    "role", "model", "unknown", "set", "running",
]  # fmt: skip
FACT_KINDS: tuple[FactKind, ...] = get_args(FactKind)


class Fact(NamedTuple):
    """One thing that was so on a device when it was read.

    `member` is empty for what is the device's. `key` tells what it is about (a place, a setting, a
    rule with its place), `value` what it is; both are JSON where they have parts.
    """

    kind: FactKind
    member: str
    key: str
    value: str


class Span(Struct, frozen=True, kw_only=True):
    """A fact from the first reading that told it to the last; `last` None: it is so still.

    `ended` is the reading after that, the first one that does not tell it.
    """

    fact: Fact
    first: datetime
    last: datetime | None
    ended: datetime | None = None


class ImageFact(Struct, frozen=True, kw_only=True):
    """The value of an image: what it was held against, its size, time, and one digest."""

    verdict: str
    release: str | None = None
    version: str | None = None
    size: int | None = None
    modified: str | None = None
    algorithm: str | None = None
    digest: str | None = None


# What the value of a fact is in JSON, where it has parts: of a bank its version, state, digest, …
FACT_VALUES: dict[FactKind, Any] = {
    "image": ImageFact,
    "set": ImageFact,
    "running": ImageFact,
    "bank": Annotated[list[str | None], Meta(min_length=3)],
}


class Event(Struct, frozen=True, kw_only=True):
    """One line of a device's life: when it was first seen so, and what was before.

    `severe` is whether it is one that nobody wants: a digest that changed by itself, a critical
    finding. `was` None: it was not there; `now` None: it is gone. `first` is whether it tells how
    the device was when it was first read.
    """

    at: datetime
    what: str
    member: str | None = None
    place: str | None = None
    was: str | None = None
    now: str | None = None
    severe: bool = False
    first: bool = False


class Held(Struct, frozen=True, kw_only=True):
    """One copy of an image on a device: from when to when.

    `last` is when it was last seen, where a later reading no longer tells it; None: the last
    reading of the device tells it. `gone` is when it was first seen to be gone, or to be something
    else. `running` is whether it is the one that ran.
    """

    device: str
    member: str
    place: str
    verdict: str
    release: str | None
    digest: str | None
    first: datetime
    last: datetime | None
    gone: datetime | None = None
    running: bool = False


class ListedSince(Struct, frozen=True, kw_only=True):
    """Since when a source of the catalog vouches for an image's digest."""

    source: str
    since: datetime


class Opened(Struct, frozen=True, kw_only=True):
    """One finding on one device: since when, and how often it came.

    `last` is when it was last seen, `closed` the first reading without it; both None: it is open.
    """

    device: str
    site: str | None
    role: str | None
    rule: str
    place: str | None
    severity: str
    first: datetime
    last: datetime | None
    closed: datetime | None = None
    times: int = 1


class Day(Struct, frozen=True, kw_only=True):
    """One day of a fleet: how its devices stood at its end; `not_read` are among the unclear."""

    day: str
    devices: int
    go: int
    no_go: int
    unclear: int
    proven: int
    on_target: int
    with_target: int
    not_read: int = 0


class OpenOn(Struct, frozen=True, kw_only=True):
    """How many findings nobody had waived were open at the end of a day, by severity."""

    day: str
    critical: int
    warning: int
    note: int


class StoreState(Struct, frozen=True, kw_only=True):
    """What a store holds: how many snapshots, readings and devices, from when to when."""

    where: str
    snapshots: int
    readings: int
    devices: int
    first: datetime | None
    last: datetime | None

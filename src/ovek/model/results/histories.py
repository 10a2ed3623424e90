"""What is remembered."""

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime

from msgspec import Struct

from ovek.model.history import Day, Event, Held, ListedSince, Opened, OpenOn, StoreState
from ovek.model.results import OfSite


class Taken(Struct, frozen=True, kw_only=True):
    """A snapshot that was taken in, and how many of its readings were new."""

    file: str
    readings: int


class HistoryAdded(OfSite, frozen=True, kw_only=True):
    """The snapshots that were taken in, and what the history holds now."""

    FORMAT = "ovek.history/1"
    LIST = "added"

    added: Sequence[Taken]
    store: StoreState


class DeviceHistory(OfSite, frozen=True, kw_only=True):
    """When a device was read, and its life."""

    FORMAT = "ovek.history/1"
    LIST = "events"

    device: str
    readings: Sequence[datetime]
    events: Sequence[Event]


class ImageHistory(OfSite, frozen=True, kw_only=True):
    """The copies of an image, who ran it, and since when the catalog has it.

    Or those of all images that an advisory affects.

    Beside what JSON tells: `several` are the devices with several members, `seen` is when each
    was read last.
    """

    FORMAT = "ovek.history/1"
    LIST = "copies"
    BESIDE = ("several", "seen")

    image: str
    copies: Sequence[Held]
    ran: Sequence[Held]
    listed: Sequence[ListedSince]
    by_advisory: bool
    several: Collection[str]
    seen: Mapping[str, datetime]


class FindingHistory(OfSite, frozen=True, kw_only=True):
    """Where a rule's finding is or was, and since when."""

    FORMAT = "ovek.history/1"
    LIST = "findings"

    rule: str
    findings: Sequence[Opened]


class Trend(OfSite, frozen=True, kw_only=True):
    """How a fleet stood each day; `opened` is what was open at the end of each."""

    FORMAT = "ovek.history/1"
    LIST = "days"
    BESIDE = ("opened", "caption")

    days: Sequence[Day]
    opened: Sequence[OpenOn]
    caption: str


class Purged(Struct, frozen=True, kw_only=True):
    """How many readings and spans ended before a time; `done` is whether they are forgotten."""

    readings: int
    spans: int
    limit: datetime
    done: bool

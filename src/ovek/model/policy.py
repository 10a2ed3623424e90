"""What is wanted of a network's devices: `ovek.policy/1`."""

import re
from datetime import timedelta
from difflib import get_close_matches
from functools import lru_cache
from typing import Annotated, Literal

from msgspec import Meta, Struct

from ovek.model.advisory import Score
from ovek.model.age import parse_age
from ovek.model.catalog import Track, Trust
from ovek.model.digest import Algorithm
from ovek.model.finding import Severity
from ovek.model.size import SizeError, parse_size
from ovek.model.snapshot import Name

FORMAT = "ovek.policy/1"
RECOMMENDED = "recommended"
SNAPSHOT_AGE, BACKUP_AGE = "7d", "30d"
DIGEST_AGE, START_DIGEST_AGE = "30d", "7d"
_PERCENT = re.compile(r"(\d{1,3}(?:\.\d{1,3})?)\s*%", re.ASCII)

BankRule = Literal["match", "previous"]
Globs = tuple[Name, ...]


class Want(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """What is wanted of some devices: named by exactly one of device, role, model and sheet.

    `device` and `model` are globs. `target` is a version or `recommended`; `allowed` are globs of
    versions. What is None is told by a wider want, or by the policy itself.
    """

    device: Name | None = None
    role: Name | None = None
    model: Name | None = None
    sheet: Name | None = None
    target: Name | None = None
    allowed: Globs | None = None
    bank_rule: BankRule | None = None
    track: Track | None = None
    variant: Name | None = None

    def __post_init__(self) -> None:
        named = [name for name in SELECTORS if getattr(self, name) is not None]
        if len(named) != 1:
            text = f"names {' and '.join(named)}" if named else "names no devices"
            raise ValueError(f"this [[want]] {text}; give one of: {', '.join(SELECTORS)}")
        if all(getattr(self, key) is None for key in WANTED):
            raise ValueError(
                f"this [[want]] sets nothing; give at least one of: {', '.join(WANTED)}"
            )

    @property
    def selector(self) -> str:
        """Which devices it is about, in words: `role core`."""
        name = next(name for name in SELECTORS if getattr(self, name) is not None)
        return f"{name} {getattr(self, name)}"


# The narrowest first: a want by device comes before one by role, and so on.
SELECTORS = ("device", "role", "model", "sheet")
WANTED = ("target", "allowed", "bank_rule", "track", "variant")


DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_CLOCK = re.compile(r"([01]\d|2[0-3]):([0-5]\d)", re.ASCII)


class Window(
    Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, rename={"from_": "from"}
):
    """When some devices may reload: by their place (`site`, a glob), or by name (`device`).

    Either `when` says it in words that only people can tell (in port), or it is each of `days`
    (all where none is told) `from` one time `to` another, past midnight where that is earlier.
    """

    site: Name | None = None
    device: Name | None = None
    when: Name | None = None
    days: str | tuple[str, ...] = ()
    from_: str | None = None
    to: str | None = None

    def __post_init__(self) -> None:
        if (self.site is None) == (self.device is None):
            raise ValueError("a window needs exactly one of: site, device")
        if self.when is not None and (self.days or self.from_ or self.to):
            raise ValueError(f"a window has both `when` ({self.when!r}) and hours; use one of them")
        for day in self.weekdays:
            if day not in DAYS:
                near = get_close_matches(day, DAYS, n=1)
                meant = f"; did you mean {near[0]!r}?" if near else ""
                raise ValueError(f"{day!r} is not a day; use {', '.join(DAYS)}{meant}")
        if self.when is not None:
            return
        for name, time in (("from", self.from_), ("to", self.to)):
            if time is None or not _CLOCK.fullmatch(time):
                raise ValueError(f"{name} is {time!r}; use a time such as 01:30, or set `when`")
        if self.from_ == self.to:
            raise ValueError(
                f"a window from {self.from_} to {self.to} is empty; give it some length"
            )

    @property
    def weekdays(self) -> tuple[str, ...]:
        """The days by name; all where none is told."""
        days = self.days.replace(",", " ").split() if isinstance(self.days, str) else self.days
        return tuple(days) or (DAYS if self.when is None else ())

    @property
    def selector(self) -> str:
        """Which devices it is for, in words."""
        return f"site {self.site}" if self.site is not None else f"device {self.device}"

    @property
    def start(self) -> int:
        """The minute of the day at which it begins."""
        return _minute(self.from_)

    @property
    def length(self) -> int | None:
        """How many minutes it has; None where only people can tell."""
        if self.when is not None:
            return None
        return (_minute(self.to) - _minute(self.from_)) % (24 * 60)

    @property
    def shown(self) -> str:
        """When it is, in words."""
        if self.when is not None:
            return self.when
        days = "every day" if len(self.weekdays) == len(DAYS) else ", ".join(self.weekdays)
        return f"{days} {self.from_} to {self.to}"


def _minute(time: str | None) -> int:
    hours, _, minutes = (time or "0:0").partition(":")
    return 60 * int(hours) + int(minutes)


class Policy(Struct, frozen=True, forbid_unknown_fields=True, kw_only=True):
    """The policy of a site; every part has a default that is useful by itself.

    `target`, `allowed`, `bank_rule`, `track` and `variant` hold for all devices, unless a `want` is
    narrower.
    `keep` is how many system images stay on each member. `reserve` is the free space that a
    volume keeps, as a size or a percentage of its capacity. `pinned` globs are never offered.
    `weakest_digest` is the weakest that may prove an image, `accepts` whose records may.
    `backups` is the glob of configuration backups on the shelf, with `{device}` in it.
    `server_digests` is whether a shelf's server is trusted to work out digests itself.
    `digest_age` is how old a digest may be that is not measured anew, `boot_digest_age` that of an
    image that runs or starts next. `severity` changes that of a rule.
    `reload_in` are the windows in which devices may reload; `apart` are groups of globs of which no
    two devices go down together, `at_once` how many devices go down together at most, `canaries`
    globs of those that go first. `boot_from_removable` is whether a device may be left to boot from
    a stick or card that can be pulled. `history_age` is how long what was is remembered; None: for
    ever. `advisory_critical` and `advisory_warning` are the CVSS scores from which on what an
    advisory says is a finding of that severity; `prefer_unaffected` is whether a recommended
    release that is not affected comes before one that is. `require_signature` is whether a
    publisher's digests prove only if their list has a good signature: of all (`true`), or of some.
    """

    format: Literal["ovek.policy/1"] = "ovek.policy/1"
    target: Name | None = None
    allowed: Globs | None = None
    bank_rule: BankRule | None = None
    track: Track | None = None
    variant: Name | None = None
    keep: Annotated[int, Meta(ge=1, le=100)] = 2
    reserve: str = "5%"
    pinned: Globs = ()
    weakest_digest: Algorithm = "md5"
    accepts: tuple[Trust, ...] = ("publisher",)
    snapshot_age: str | None = None
    backup_age: str | None = None
    backups: str | None = None
    server_digests: bool = False
    digest_age: str | None = None
    boot_digest_age: str | None = None
    severity: dict[Name, Severity | Literal["off"]] = {}
    want: tuple[Want, ...] = ()
    reload_in: tuple[Window, ...] = ()
    apart: tuple[Globs, ...] = ()
    at_once: Annotated[int, Meta(ge=1)] | None = None
    canaries: Globs = ()
    boot_from_removable: bool = False
    history_age: str | None = None
    advisory_critical: Score = 9.0
    advisory_warning: Score = 4.0
    prefer_unaffected: bool = False
    require_signature: bool | Globs = False

    def __post_init__(self) -> None:
        self.reserve_of(0)
        if self.backups is not None and self.backups.count("{device}") != 1:
            raise ValueError(f"backups is {self.backups!r}; it must contain {{device}} once")
        if self.backups is not None and (self.backups[0] == "/" or ".." in self.backups.split("/")):
            raise ValueError(f"backups is {self.backups!r}; use a path below the shelf")
        ages = (self.snapshot_age, self.backup_age, self.digest_age, self.boot_digest_age)
        for age in (*ages, self.history_age):
            if age is not None:
                parse_age(age)

    def reserve_of(self, capacity: int | None) -> int | None:
        """The reserve in bytes on a volume of `capacity` bytes; None where that is not known."""
        size, share = _reserve(self.reserve)
        if size is not None:
            return size
        return None if capacity is None else int(capacity * share)

    @property
    def oldest_snapshot(self) -> timedelta:
        """The largest age of a snapshot."""
        return _age(self.snapshot_age or SNAPSHOT_AGE)

    @property
    def oldest_backup(self) -> timedelta:
        """The largest age of a configuration backup."""
        return _age(self.backup_age or BACKUP_AGE)

    @property
    def oldest_digest(self) -> timedelta:
        """The largest age of a digest of an image that neither runs nor starts next."""
        return _age(self.digest_age or DIGEST_AGE)

    @property
    def oldest_start_digest(self) -> timedelta:
        """The largest age of a digest of what runs or starts next."""
        started = _age(self.boot_digest_age or START_DIGEST_AGE)
        return started if self.boot_digest_age is not None else min(started, self.oldest_digest)


_age = lru_cache(maxsize=64)(parse_age)


@lru_cache(maxsize=64)
def _reserve(text: str) -> tuple[int | None, float]:
    """Read a reserve: bytes, or else a share of the capacity from 0 to 1."""
    match = _PERCENT.fullmatch(text.strip())
    if match is None:
        try:
            return parse_size(text), 0.0
        except SizeError:
            met = f"reserve is {text!r}; use a size (64MiB) or a percentage (5%)"
            raise ValueError(met) from None
    if float(match[1]) > 100:
        raise ValueError(f"reserve is {text!r}; use at most 100%")
    return None, float(match[1]) / 100

"""Which devices of a site are looked at: by names and globs, and by conditions `key=value`.

1. Names and globs are or-ed; none is all.
2. Several conditions are and-ed; a comma in one is or; `!=` is not. Values may be globs, and upper
   and lower case are the same.
3. Of a stack each member's version and model counts. What is not known is `not known`, by that
   name, so that `version!=7.4.2` keeps a device of which the version is not known.
"""

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from difflib import get_close_matches
from fnmatch import fnmatchcase

from msgspec import Struct

from ovek.app.answering import ANSWERS
from ovek.app.devices import Devices
from ovek.app.means import Bar, Runner
from ovek.app.runner import each_part
from ovek.app.shelves import shelf_of
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.state import Facts, State
from ovek.model.answer import ANSWERS_WORST_FIRST
from ovek.model.fleet import FleetDevice
from ovek.model.usage import UsageError, near_to

KEYS = ("site", "role", "sheet", "model", "version", "answer")
NOT_KNOWN = "unknown"


class Condition(Struct, frozen=True):
    """One condition: any of some values, or none of them."""

    key: str
    values: tuple[str, ...]
    negated: bool

    def holds(self, told: Iterable[str | None]) -> bool:
        """Whether a device fulfils it that has these values."""
        has = [(each or NOT_KNOWN).casefold() for each in told] or [NOT_KNOWN]
        wanted = [value.casefold() for value in self.values]
        hits = [any(each == one or fnmatchcase(each, one) for one in wanted) for each in has]
        return any(not hit for hit in hits) if self.negated else any(hits)

    def __str__(self) -> str:
        return f"{self.key}{'!=' if self.negated else '='}{','.join(self.values)}"


def condition(text: str) -> Condition:
    """Read `key=value[,value…]` or `key!=…`; raise UsageError.

    >>> str(condition("site!=Port Arle, Brackness"))
    'site!=Port Arle,Brackness'
    """
    key, equals, rest = text.partition("=")
    negated = key.endswith("!")
    key = key.removesuffix("!").strip()
    values = tuple(each.strip() for each in rest.split(","))
    if not equals or not all(values):
        problem = f'{text!r} is not KEY=VALUE; use e.g. site="Port Arle" or version!=1.2,1.3'
        raise UsageError(problem, "--where")
    if key not in KEYS:
        problem = f"no such key: {key!r}; keys are: {', '.join(KEYS)}{near_to(key, KEYS)}"
        raise UsageError(problem, "--where")
    if key == "answer":
        for value in values:
            if not any(fnmatchcase(each, value.casefold()) for each in ANSWERS_WORST_FIRST):
                meant = near_to(value, ANSWERS_WORST_FIRST)
                problem = f"answers are {', '.join(ANSWERS_WORST_FIRST)}, not {value!r}{meant}"
                raise UsageError(problem, "--where")
    return Condition(key, values, negated)


def select(
    site: Site,
    names: Iterable[str] = (),
    where: Iterable[Condition | str] = (),
    *,
    snapshot: str | None = None,
    runner: Runner | None = None,
    bar: Bar | None = None,
) -> Devices:
    """The devices of a site by names, globs and conditions (all by default), as last read.

    `snapshot` is a file, or a glob of files, of which the newest line of each device counts.
    `runner` says where work on them is done (by default where it pays), `bar` shows how far that
    is. Raises InputError for a name that means nothing, UsageError for a condition that is none.

    >>> from ovek import open_site, select
    >>> select(open_site("skerrow-ferries"), ["arle-*"], ["answer=no-go"]).names
    ['arle-quay', 'arle-crane']
    """
    names = list(names)
    near = _near(site, names) if snapshot is None else None
    state = near or site.state(snapshot)
    fleet = site.fleet_file.devices(names) if near is not None else None
    devices = selected_in(site, state, names, where, fleet=fleet, runner=runner, bar=bar)
    devices.newest = snapshot is None
    return devices


def _near(site: Site, names: list[str]) -> State | None:
    """The lines of devices that are named one by one; None where more has to be looked at."""
    if not names or any(set("*?[") & set(name) for name in names) or site.policy.backups:
        return None  # a backup is of the device with the longest name, of all
    return site.state_of(names)


def selected_in(
    site: Site,
    state: State,
    names: Iterable[str] = (),
    where: Iterable[Condition | str] = (),
    *,
    fleet: Mapping[str, FleetDevice] | None = None,
    runner: Runner | None = None,
    bar: Bar | None = None,
) -> Devices:
    """The devices in one state of the fleet; `fleet` as `Devices` has it.

    Raises InputError, UsageError.
    """
    conditions = [condition(one) if isinstance(one, str) else one for one in where]
    devices = Devices(site, state, names, fleet=fleet, runner=runner, bar=bar)
    devices.check()
    for key in KEYS:
        if asked := [one for one in conditions if one.key == key]:
            _narrow(devices, key, asked)
    devices.selected = " ".join([*devices.named, *(f"--where {one}" for one in conditions)])
    return devices


def now_of(site: Site) -> datetime:
    """The time against which ages count: that at which the site is looked at, else now, in UTC."""
    return site.until or datetime.now(UTC).replace(microsecond=0)


def _narrow(devices: Devices, key: str, asked: list[Condition]) -> None:
    """Keep the devices that fulfil the conditions on one key; raise InputError where none does."""
    has = _answers(devices) if key == "answer" else _values(devices, key)
    kept = {name for name in devices.names if all(each.holds(has.get(name, [])) for each in asked)}
    if not kept and key != "answer":
        known = sorted({value or NOT_KNOWN for told in has.values() for value in told})
        wanted = next((each for one in asked for each in one.values), "")
        near = get_close_matches(wanted, known, n=1, cutoff=0.5)
        do = f"Did you mean {near[0]!r}?" if near else f"There are: {', '.join(known[:12])}"
        problem = f"has no device with {' and '.join(map(str, asked))}"
        raise InputError(devices.file, problem, do)
    devices.keep(kept)


def _values(devices: Devices, key: str) -> dict[str, list[str | None]]:
    """What is told of each device under a key: by the fleet file, else by its line."""
    facts = devices.facts()
    nothing = Facts()
    return {name: facts.get(name, nothing).told(key) for name in devices.names}


def _answers(devices: Devices) -> dict[str, list[str | None]]:
    """The answer for each device."""
    parts = each_part(devices, ANSWERS, now_of(devices.site), shelf_of(devices))
    has: dict[str, list[str | None]] = {one.device: [one.answer] for part in parts for one in part}
    for unread in devices.not_read:
        has[unread.device] = ["unclear"]
    return has

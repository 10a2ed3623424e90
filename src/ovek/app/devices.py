"""The devices of a fleet as they were last read, and what their images are held against."""

import gc
import logging
from collections.abc import Collection, Iterable, Iterator, Mapping
from datetime import UTC, datetime
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TypeVar

from msgspec.structs import replace

from ovek.app.means import Bar, Runner
from ovek.app.packages import load_rules
from ovek.engine.advisories import AdvisoryIndex
from ovek.engine.releases import ReleaseIndex
from ovek.engine.verdicts import Judge, JudgedDevice, judge_device, judge_for, proof_rule
from ovek.files.errors import InputError
from ovek.files.newest import SnapshotLine
from ovek.files.site import Site
from ovek.files.state import Facts, State
from ovek.model.context import Context, SnapshotUsed
from ovek.model.fleet import Expected, FleetDevice
from ovek.model.plain_word import typed
from ovek.model.snapshot import Device
from ovek.model.unread import Unread

D = TypeVar("D")
_LOG = logging.getLogger(__name__)


def release_index(site: Site) -> ReleaseIndex:
    """All that the catalog of a site tells of, with what its advisories say. Raises InputError."""
    advisories = AdvisoryIndex(site.advisories, site.product_aliases)
    return ReleaseIndex(site.releases, advisories)


@lru_cache(maxsize=1)
def releases_of(site: Site) -> ReleaseIndex:
    """All that the sources in catalog/ tell of; lines that cannot be read are told, once."""
    gc.disable()  # a catalog stays as long as the command: nobody has to look for waste in it
    try:
        index = release_index(site)
    finally:
        gc.enable()
        gc.freeze()
    for error in site.left_out:
        what = "line" if error.line is not None else "file"
        _LOG.warning("%s That %s is ignored.", error, what)
    return index


class Devices:
    """The devices of a fleet as they were last read, each with what its images are held against.

    `named` are names and globs of them; none is all. `names` are the devices that are looked at,
    `state` tells where the line of each stands, and `chosen` are those lines. `fleet` is what the
    fleet file says of all that may be looked at (None: of all that it lists). `releases` are what
    the catalog tells, where it was read already; what it leaves out is told where it is read here.
    `runner` is where work on them is done (None: where it pays), `bar` shows how far that is, and
    `selected` says in words which they are, empty for all.
    """

    def __init__(
        self,
        site: Site,
        state: State,
        named: Iterable[str] = (),
        *,
        fleet: Mapping[str, FleetDevice] | None = None,
        releases: ReleaseIndex | None = None,
        runner: Runner | None = None,
        bar: Bar | None = None,
    ) -> None:
        load_rules()
        self.site, self.state = site, state
        self.named = dict.fromkeys(named)
        self._judges: dict[str, Judge] = {}
        self.releases = releases_of(site) if releases is None else releases
        if fleet is None:
            fleet = {device.name: device for device in site.fleet.device}
        self._fleet = fleet
        known = dict.fromkeys([*self._fleet, *state.names])
        globs = [each for each in self.named if set("*?[") & set(each)]
        self._by_name = bool(self.named) and not globs
        self.names = [
            name
            for name in known
            if not self.named
            or name in self.named
            or (globs and any(fnmatchcase(name, glob) for glob in globs))
        ]
        wanted = set(self.names)
        self.chosen = state.only(name for name in state.names if name in wanted)
        self._without_sheet = self._sheets_missing()
        self.chosen = state.only(
            name for name in self.chosen.names if name not in self._without_sheet
        )
        self.runner, self.bar = runner, bar
        self.newest = True  # whether they are in the newest state, not in one that was named
        self.selected = " ".join(self.named)

    def _sheets_missing(self) -> dict[str, str]:
        """The devices whose sheet is nowhere, each with the name of the sheet.

        They cost themselves: nothing can be said of them, and all of the others.
        """
        names = {name for name in self.site.fleet_file.sheets if not self.site.has_sheet(name)}
        if not names:
            return {}
        facts = ((name, each.sheet) for name, each in self.chosen.facts())
        return {name: sheet for name, sheet in facts if sheet in names}

    @property
    def file(self) -> Path:
        """Where the devices come from, for messages: a folder of snapshots, or one of them."""
        return self.state.root

    def context(self, now: datetime) -> Context:
        """Where what is told of the devices comes from."""
        lines = self.chosen.lines.values()
        used = []
        for file in dict.fromkeys(line.file for line in lines):
            times = [line.taken_at for line in lines if line.file == file]
            used.append(
                SnapshotUsed(
                    file=self._named_file(file),
                    devices=len(times),
                    first=min(times),
                    last=max(times),
                )
            )
        used.sort(key=lambda one: one.file)
        name = self.site.head.name
        knowing = None
        if self.site.until is not None:
            knowing = "now" if self.site.lies == self.site.folder else "then"
        return Context(
            site=name, as_of=now, snapshots=tuple(used), selected=self.selected, knowing=knowing
        )

    def _named_file(self, at: int) -> str:
        """A snapshot by its name; with its folder where those of several folders are used."""
        file = self.state.files[at]
        several = len({each.parent for each in self.state.files}) > 1
        return str(file) if several else file.name

    @property
    def by_name(self) -> bool:
        """Whether devices were named, each by its name."""
        return self._by_name

    @property
    def label(self) -> str:
        """Which snapshots the devices come from, in words."""
        used = self.chosen.used or self.state.used
        if len(used) == 1:
            return f"snapshot {used[0].name}"
        if not used:
            return "no snapshot"
        return f"the latest readings from {len(used)} snapshots, up to {used[-1].name}"

    def caption(self, now: datetime) -> str:
        """What a figure says beneath itself: where its facts come from, and when it was drawn."""
        return f"{self.site.head.name}, {self.label}; drawn {now:%Y-%m-%d %H:%M} UTC"

    def __iter__(self) -> Iterator[tuple[Device, Judge]]:
        for device in self.read(self.chosen.lines.items()):
            yield device, self.judge(device)

    def judged(self) -> Iterator[JudgedDevice]:
        """Go through the devices with their images judged. Raises InputError."""
        return (judge_device(device, judge) for device, judge in self)

    def read(self, lines: Iterable[tuple[str, SnapshotLine]]) -> Iterator[Device]:
        """Go through the devices of some lines; where each stands is what the fleet file says."""
        return map(self.standing, self.state.devices(lines))

    def standing(self, device: Device) -> Device:
        """A device that stands where the fleet file says."""
        listed = self._fleet.get(device.device)
        if listed is None:
            return device
        site, role = listed.site or device.site, listed.role or device.role
        same = site == device.site and role == device.role
        return device if same else replace(device, site=site, role=role)

    def listed(self, name: str) -> FleetDevice | None:
        """What the fleet file says of a device."""
        return self._fleet.get(name)

    @property
    def roles(self) -> dict[str, str | None]:
        """What each device does, by the fleet file."""
        return {name: listed.role for name, listed in self._fleet.items()}

    def link(self, name: str) -> tuple[int, str] | None:
        """The rate of the way to a device, in bytes a second, and whose it is; None: not told."""
        listed = self._fleet.get(name)
        return self.site.head.link(listed) if listed is not None else None

    def keep(self, names: Collection[str]) -> None:
        """Look only at these of them."""
        self.names = [name for name in self.names if name in names]
        self.chosen = self.state.only(name for name in self.chosen.names if name in names)
        for name in ("not_read", "stale"):
            vars(self).pop(name, None)

    def facts(self) -> dict[str, Facts]:
        """What tells each device from others: where it stands, what it is and what it runs."""
        found = dict(self.chosen.facts())
        for name in self.names:
            listed = self._fleet.get(name)
            if listed is not None:
                found[name] = found.get(name, Facts()).of_fleet(listed)
        return found

    def check(self) -> None:
        """Raise InputError where a device that was named is not known at all."""
        strange = [n for n in self.named if n not in self._fleet and n not in self.state.lines]
        known = {*self.state.names, *self._fleet} if strange else set[str]()
        for name in strange:
            if not any(fnmatchcase(each, name) for each in known):
                raise no_device(self.file, name, known)

    def judge(self, device: Device) -> Judge:
        """What a device's images are held against; raise InputError where it has no sheet."""
        judge = self._judges.get(device.sheet)
        if judge is None:
            sheet = self.site.sheet(device.sheet)
            if sheet is None:
                text = f"device {device.device!r} uses sheet {device.sheet!r}, which does not exist"
                missing = f"{device.sheet}.toml into {self.site.folder / 'sheets'}"
                do = f"Put {missing}"
                if device.device in self._fleet:  # which names another one by now
                    again = f"ovek survey {typed(device.device, 'DEVICE')}"
                    do = f"Read it again: {again}. Or put {missing}"
                line = self.state.lines.get(device.device)
                file = self.file if line is None else self.state.files[line.file]
                raise InputError(file, text, do, key="sheet")
            proof = proof_rule(self.site.policy)
            judge = self._judges[device.sheet] = judge_for(sheet, self.releases, proof)
        return judge

    def expected(self, name: str) -> Expected | None:
        """What members the fleet file tells a device to have."""
        device = self._fleet.get(name)
        return device.expected if device is not None else None

    @cached_property
    def not_read(self) -> list[Unread]:
        """The devices asked about that were never read, or not by the last survey that tried."""
        found = (self._unread(name) for name in self.names)
        return [each for each in found if each is not None]

    @cached_property
    def stale(self) -> dict[str, str]:
        """Why the last survey could not read a device of which something is known from before.

        In another process it is what the first one knows.
        """
        return {one.device: one.why for one in self.not_read if one.last_read is not None}

    def _unread(self, name: str) -> Unread | None:
        line, failed = self.state.lines.get(name), self.state.failure(name)
        sheet = self._without_sheet.get(name)
        if sheet is None and line is not None and failed is None:
            return None
        do = f"Read it: ovek survey {typed(name, 'DEVICE')}"
        why = "no survey has reached it yet"
        if sheet is not None:
            why = f"its sheet {sheet!r} does not exist"
            do = f"Put {sheet}.toml into {self.site.folder / 'sheets'}, or correct fleet.toml"
        elif failed is not None:
            why, do = failed.problem, failed.do or do
        elif self.state.root.is_file():
            why = f"{self.state.root.name} has no reading of it"
        listed = self._fleet.get(name)
        return Unread(
            device=name,
            site=listed.site if listed is not None else None,
            role=listed.role if listed is not None else None,
            sheet=listed.sheet if listed is not None else None,
            why=why,
            do=do,
            last_read=line.taken_at if line is not None and sheet is None else None,
        )


def named_devices(names: Iterable[str], known: Mapping[str, D], where: Path) -> list[D]:
    """The things that these names and globs mean (all where none is told), as they are named.

    Raises InputError for one that means nothing.
    """
    found: dict[str, D] = {}
    names = list(names)
    for name in names:
        meant = [name] if name in known else [each for each in known if fnmatchcase(each, name)]
        if not meant:
            raise no_device(where, name, known)
        found |= {each: known[each] for each in meant}
    return list(found.values()) if names else list(known.values())


def no_device(where: Path, name: str, known: Iterable[str]) -> InputError:
    """The error that a device of this name is not there, with the nearest name that is."""
    near = get_close_matches(name, list(known), n=1)
    do = f"Did you mean {near[0]!r}?" if near else "Run ovek audit for the list of devices"
    return InputError(where, f"has no device {name!r}", do)


def site_context(site: Site) -> Context:
    """Where a result comes from that is about no device."""
    return Context(site=site.head.name, as_of=datetime.now(UTC).replace(microsecond=0))

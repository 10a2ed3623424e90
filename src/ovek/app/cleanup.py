"""What may go to make room on devices, and what was done of it."""

from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from difflib import get_close_matches
from typing import Protocol

import msgspec
from msgspec import Struct, field
from msgspec.structs import asdict

from ovek.app.answering import Answering
from ovek.app.devices import Devices
from ovek.app.policy import check_policy, contradiction, wants_of
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.shelves import shelf_of
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine.cleanup import no_plans, plan_device, with_deletions, with_steps
from ovek.engine.confirm import confirm
from ovek.engine.layouts import layout_of
from ovek.engine.plan import Asked
from ovek.engine.plan.space_choices import Detail, SpaceAsked
from ovek.engine.releases import brought
from ovek.engine.verdicts import JudgedDevice, is_for_hardware, judge_device
from ovek.engine.wanted import (
    ContradictionError,
    Wanted,
    Wants,
    against_it,
    longest_way,
    release_for,
    told_way,
    wanting,
    way_to,
)
from ovek.files.errors import InputError
from ovek.files.spool import Spool
from ovek.files.state import State, state_in
from ovek.model.plan import LOCKED, TIERS, CleanupPlan, CleanupTotals, Confirmed, Room, Unlock
from ovek.model.policy import BankRule
from ovek.model.results.cleanup import CleanupConfirmed, CleanupPlans, FleetCleanup
from ovek.model.shelf import ShelfFacts
from ovek.model.size import show_size
from ovek.model.usage import UsageError
from ovek.model.verdict import KnownRelease

TARGET = "target"
NO_SHELF = ShelfFacts(proven=frozenset(), broken={})


class CleanupRequest(Struct, frozen=True, kw_only=True):
    """How much room is wanted, and what may and may not go.

    One of: `free` bytes; `share` of a volume, from 0 to 1; `image`, a published file, a version or
    `target`; `sweep`, everything up to a tier. `keep` are globs of files that are never offered.
    """

    free: int | None = None
    share: float | None = None
    image: str | None = None
    sweep: int | None = None
    may_drop: frozenset[Unlock] = frozenset()
    keep: tuple[str, ...] = ()

    def check(self) -> None:
        """Raise UsageError where it is not one thing that is asked, or a tier is locked."""
        asked = (self.free, self.share, self.image, self.sweep)
        if sum(each is not None for each in asked) != 1:
            choice = "--free SIZE, --room-for IMAGE, --sweep TIER"
            raise UsageError(f"give exactly one of: {choice}")
        for tier, name in LOCKED.items():
            if self.sweep is not None and self.sweep >= tier and name not in self.may_drop:
                raise UsageError(
                    f"tier {tier} ({TIERS[tier]}) is locked: add --may-drop {name} to allow it"
                )


class CleanupShaper(Protocol):
    """What makes something of each plan, wherever the plans are made."""

    @property
    def widths(self) -> list[int]:
        """How wide the columns of what was made are."""

    def row(self, plan: CleanupPlan, members: int) -> object:
        """What is made of one plan of a device with so many members."""


CleanupShape = Callable[[], CleanupShaper]


def plan_cleanup(
    devices: Devices, asked: CleanupRequest, now: datetime | None = None, *, steps: bool = True
) -> CleanupPlans:
    """Plan what may go on devices to make room; nothing that a device needs is offered.

    Raises InputError where what is asked for cannot be, UsageError where it means nothing.

    >>> from ovek import CleanupRequest, open_site, plan_cleanup, select
    >>> bridge = select(open_site("skerrow-ferries"), ["gannet-bridge"])
    >>> (plan,) = plan_cleanup(bridge, CleanupRequest(free=60 * 2**20)).plans
    >>> plan.enough, len(plan.drop) > 0
    (True, True)
    """
    now = now or now_of(devices.site)
    planner = Planner(devices, asked, _checked(devices, asked), steps=steps)
    plans = [plan for judged in devices.judged() for plan in planner.plans(judged)]
    if asked.image is not None and not plans and not devices.not_read:
        raise _for_nobody(devices, asked)
    return CleanupPlans(
        **asdict(devices.context(now)),
        not_read=devices.not_read,
        plans=plans,
        caption=devices.caption(now),
    )


def plan_fleet_cleanup(
    devices: Devices,
    asked: CleanupRequest,
    now: datetime | None = None,
    *,
    shape: CleanupShape | None = None,
) -> FleetCleanup:
    """The same for very many devices, without steps; with totals.

    `shape` is what is made of each plan at once, for whoever needs no more of it than numbers.
    Raises InputError, UsageError.

    >>> from ovek import CleanupRequest, open_site, plan_fleet_cleanup, select
    >>> fleet = plan_fleet_cleanup(select(open_site("skerrow-ferries")), CleanupRequest(share=0.1))
    >>> fleet.totals.plans == fleet.plans.number > 0
    True
    """
    now, shelf = now or now_of(devices.site), _checked(devices, asked)
    spool, totals, widths = Spool(CleanupPlan), CleanupTotals(), list[list[int]]()
    for part in each_part(devices, _CLEANUP, asked, shelf, shape):
        totals.join(part.totals)
        widths.append(part.widths)
        for line in part.lines:
            spool.add_line(line)
    if not totals.plans and not devices.not_read:
        raise _for_nobody(devices, asked)
    return FleetCleanup(
        **asdict(devices.context(now)),
        not_read=devices.not_read,
        plans=spool if shape is None else Spool(CleanupPlan),
        totals=totals,
        caption=devices.caption(now),
        shaped=None if shape is None else spool,
        widths=widths,
    )


def confirm_cleanup(
    devices: Devices, asked: CleanupRequest, later: str, now: datetime | None = None
) -> CleanupConfirmed:
    """Hold the plans against a later snapshot: done, not done, done too much.

    `later` is a snapshot of the site, by its name or file. Raises InputError, UsageError.

    >>> from ovek import CleanupRequest, confirm_cleanup, open_site, select
    >>> bridge = select(open_site("skerrow-ferries"), ["gannet-bridge"])
    >>> confirm_cleanup(bridge, CleanupRequest(free=60 * 2**20), "2026-11-20").as_planned
    False
    """
    now = now or now_of(devices.site)
    planner = Planner(devices, asked, _checked(devices, asked))
    file = devices.site.snapshot(later)
    plans = list(_confirmed(planner, devices, state_in(file)))
    return CleanupConfirmed(**asdict(devices.context(now)), snapshot=file.name, plans=plans)


def _confirmed(planner: "Planner", devices: Devices, later: State) -> Iterator[Confirmed]:
    for judged in devices.judged():
        name = judged.device.device
        now = later.read(name)
        if now is None:
            if planner.named:
                text = f"has no device {name!r}"
                raise InputError(later.root, text, "Read it again: ovek survey")
            continue
        release = planner.bring(judged).release if planner.asked.image is not None else None
        for plan in planner.plans(judged):
            yield confirm(plan, judge_device(now, devices.judge(now)), release)


def _checked(devices: Devices, asked: CleanupRequest) -> ShelfFacts:
    """What the shelf holds; raise InputError or UsageError where what is asked cannot be."""
    asked.check()
    check_policy(devices.site, devices.releases)
    if asked.image is not None:
        _known(devices, asked.image)
    return shelf_of(devices) or NO_SHELF


def _for_nobody(devices: Devices, asked: CleanupRequest) -> InputError:
    text = f"has no device that {asked.image} is for"
    return InputError(devices.file, text, "Name an image for hardware that is in the fleet")


class Bring(Struct, frozen=True, kw_only=True):
    """What to make room for, and what there is to say of it; `none` is why there is nothing."""

    release: KnownRelease | None = None
    way: str = ""
    none: str = ""


class Planner:
    """Plans for the devices of a site, as asked."""

    def __init__(
        self,
        devices: Devices,
        asked: CleanupRequest,
        shelf: ShelfFacts,
        *,
        steps: bool = True,
        detail: Detail = "files",
    ) -> None:
        self.site = site = devices.site
        self.named = devices.by_name
        self._steps, self._detail = steps, detail
        self.file, self.policy, self.asked, self.shelf = devices.file, site.policy, asked, shelf
        self.wants = wants_of(devices)
        self.answering = Answering(devices, now_of(site), shelf if shelf is not NO_SHELF else None)
        self.by_name: KnownRelease | None = None
        if asked.image is not None:
            named = devices.releases.named(asked.image, case_blind=False)
            self.by_name = named[0] if named else None

    def plans(self, judged: JudgedDevice) -> list[CleanupPlan]:
        """The plans of one device; none where what room is made for is not for its hardware."""
        asked = self.asked
        plans = list[CleanupPlan]()
        for bring, members in self._brings(judged):
            if bring.none:
                planned = no_plans(judged, Room(free=0), bring.none)
            elif asked.image is not None and bring.release is None:
                continue
            else:
                planned = plan_device(judged, self._asked_of(judged, bring))
            plans += [
                msgspec.structs.replace(each, stop=bring.way)
                for each in planned
                if members is None or each.member in members
            ]
        if self._steps:
            plans = self._with_steps(judged, plans)
        for plan in plans if self.named else []:
            if plan.capacity is not None and plan.wanted > plan.capacity:
                holds, wanted = show_size(plan.capacity), show_size(plan.wanted)
                text = (
                    f"the capacity of {plan.volume} on {plan.device} is {holds}, and "
                    f"{wanted} is asked for"
                )
                raise InputError(self.file, text, "Ask for less than the capacity")
        return plans

    def _with_steps(self, judged: JudgedDevice, plans: list[CleanupPlan]) -> list[CleanupPlan]:
        """The plans with their steps: those of the plan of the device up to the copy."""
        image, rates = self.asked.image, self.answering.rates(judged.device.device)
        if image is None or not plans:
            asked = self._asked_of(judged, Bring())
            return with_deletions(judged, plans, asked, rates) if plans else []
        policy = self.policy if image == TARGET else wanting(self.policy, image)
        subject = self.answering.subject(judged, Wants(policy, self.wants.roles))
        made_for = Asked(
            aim="target",
            may_drop=self.asked.may_drop,
            keep=self.asked.keep,
            waivers=self.answering.terms.waivers,
        )
        return with_steps(subject, plans, made_for, rates)

    def _asked_of(self, judged: JudgedDevice, bring: Bring) -> SpaceAsked:
        """What is asked of the planner about one image."""
        asked = self.asked
        room = Room(free=asked.free, share=asked.share, release=bring.release, sweep=asked.sweep)  # type: ignore[arg-type]
        wanted = self.wants.of(judged)
        ids = [one.member.id for one in judged.members or ()]
        goals = {wanted.goal_of(each) for each in ids} - {None}
        files = {g.file for g in goals if g is not None and not g.same_bytes(bring.release)}
        return SpaceAsked(
            policy=self.policy,
            room=room,
            shelf=self.shelf.proven,
            sizes=self.shelf.sizes,
            unlocked=asked.may_drop,
            keep=(*asked.keep, *sorted(files)) if bring.release is not None else asked.keep,
            bank_rule=self.bank_rule(judged),
            detail=self._detail,
        )

    def _brings(self, judged: JudgedDevice) -> Iterator[tuple[Bring, set[str] | None]]:
        """What to make room for, and on which members (None: on all).

        Units of different hardware may each need a file of their own.
        """
        if self.asked.image is None:
            yield Bring(), None
            return
        wanted, ids = self.wanted(judged), [one.member.id for one in judged.members or ()]
        version = wanted.target if self.asked.image == TARGET else self.asked.image
        files = (
            {each: release_for(version, judged, wanted, each)[0] for each in ids}
            if (version is not None and self.by_name is None)
            else {}
        )
        if len({release.file for release in files.values() if release is not None}) < 2:
            yield self.bring(judged), None
            return
        for release in dict.fromkeys(files.values()):
            members = {each for each in ids if files[each] is release}
            if release is None:
                yield Bring(none=f"no image of {version} is compatible with it"), members
                continue
            ways = [way_to(judged, release, wanted, each) for each in ids if each in members]
            way = max(ways, key=lambda way: (way.hops is None, len(way.hops or ())))
            image = brought(release, judged.judge.naming)
            if way.hops:
                image = brought(next((h.release for h in way.hops if h.loads == "image"), release),
                                judged.judge.naming)  # fmt: skip
            yield Bring(release=image, way=told_way(way, release)), members

    def bank_rule(self, judged: JudgedDevice) -> BankRule | None:
        """What policy wants of the second bank of a device."""
        if layout_of(judged).holder == "files":
            return None
        return self.wanted(judged).bank_rule

    def wanted(self, judged: JudgedDevice) -> Wanted:
        """What policy wants of a device. Raises InputError."""
        try:
            return self.wants.of(judged)
        except ContradictionError as error:
            raise contradiction(self.site, error) from None

    def bring(self, judged: JudgedDevice) -> Bring:
        """What to make room for on a device. Raises InputError where a device was named."""
        wanted = self.wanted(judged)
        asked = self._target if self.asked.image == TARGET else self._by_name
        bring = asked(judged, wanted)
        if bring.release is None:
            return bring
        image, way = brought(bring.release, judged.judge.naming), bring.way
        if bring.release.hardware is None:
            note = f"for which hardware {bring.release.file} is, the catalog does not say (ovek "
            way = "; ".join(filter(None, (way, f"{note}catalog annotate --hardware)")))
        return msgspec.structs.replace(bring, release=image, way=way)

    def _target(self, judged: JudgedDevice, wanted: Wanted) -> Bring:
        """The target of policy, or the first install on the way to it."""
        release = wanted.release
        if release is None:
            why = "policy has no target with exactly one image in the catalog for this device"
            if wanted.unfit is not None:
                text = "; ".join(wanted.unfit.against)
                why = f"{wanted.unfit.release.file} is not compatible: {text}"
            elif wanted.unlisted is not None:
                why = f"policy wants {wanted.unlisted}, which is not in the catalog"
            return Bring(none=why)
        way = longest_way(judged, release, wanted)
        if way.hops is None and way.known:
            return Bring(none=f"do not install {release.file}: no upgrade path: {way.missing}")
        if way.hops is None:
            text = f"it is unknown whether {release.file} can be installed: {way.missing}"
            return Bring(release=release, way=text)
        first = next((hop.release for hop in way.hops if hop.loads == "image"), release)
        return Bring(release=first, way=told_way(way, release))

    def _by_name(self, judged: JudgedDevice, wanted: Wanted) -> Bring:
        """The image or version that was asked for, with what speaks against it."""
        image, named, device = self.asked.image or "", self.named, judged.device
        release = self.by_name
        if release is None:
            release, unfit = release_for(image, judged, wanted)
            release = unfit.release if unfit is not None else release
            if release is None and named:
                problem = f"it is {device.hardware.model or 'hardware that is unknown'}"
                return Bring(
                    none=f"{problem}, and not exactly one system image of version {image} is for it"
                )
        if release is not None and is_for_hardware(release, device.hardware) is False:
            if named:
                problem = f"{device.device} is {device.hardware.model}, {release.file} is for "
                problem += " ".join([*(release.hardware or ()), *(release.revisions or ())])
                raise InputError(self.file, problem, "Name an image for this hardware")
            return Bring()
        if release is None:
            return Bring()
        against = against_it(judged, release, wanted)
        if against:
            return Bring(release=release, way=f"{release.file} is not compatible: {against}")
        way = longest_way(judged, release, wanted)
        return Bring(release=release, way=told_way(way, release))


def _known(devices: Devices, name: str) -> None:
    """Raise InputError where no source knows an image or version, or not its size."""
    folder, releases = devices.site.folder / "catalog", devices.releases
    found = releases.named(name, case_blind=False)
    if name == TARGET or (not found and name in releases.by_version):
        return
    if not found:
        known = [*releases.by_name, *releases.by_version]
        near = get_close_matches(name, known, n=1, cutoff=0.8)  # 4.9 is not meant by 7.9
        do = f"Did you mean {near[0]}?" if near else "Import it with its size: ovek catalog import"
        raise InputError(folder, f"has no image or version {name!r}", do)
    if not found[0].sizes:
        text = f"the size of {name} is not published ({', '.join(map(str, found[0].origins))})"
        raise InputError(folder, text, "Add its size, or use --free SIZE")


class _Planned(Struct):
    """The plans of some devices: a line of JSON each, and what they add up to.

    The lines are of CleanupPlan, or what was made of it; `widths` are those of its columns.
    """

    lines: list[bytes] = []
    totals: CleanupTotals = field(default_factory=CleanupTotals)
    widths: list[int] = []


def _planning(
    devices: Devices, asked: CleanupRequest, shelf: ShelfFacts, shape: CleanupShape | None
) -> Part[_Planned]:
    """What plans for some devices of a fleet."""
    detail: Detail = "files" if shape is None else "numbers"  # which files go, nobody asks
    planner = Planner(devices, asked, shelf, steps=False, detail=detail)
    encode = msgspec.json.Encoder(order="sorted").encode

    def plan_part(lines: Iterable[DeviceLine]) -> _Planned:
        part, shaper = _Planned(), shape() if shape is not None else None
        for line in lines:
            plans = planner.plans(line.judged())
            for plan in plans:
                part.totals.add(plan)
                part.lines.append(encode(plan if shaper is None else shaper.row(plan, len(plans))))
        if shaper is not None:
            part.widths = shaper.widths
        return part

    return plan_part


_CLEANUP = Work(_planning, _Planned)

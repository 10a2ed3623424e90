"""`ovek cleanup`: what may go to make room?"""

import re
import sys
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from difflib import get_close_matches
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec
from msgspec import Struct, field

from ovek.app.answering import Answering
from ovek.app.devices import Devices
from ovek.app.policy import check_policy, contradiction, wants_of
from ovek.app.shelves import shelf_facts
from ovek.app.work import Work
from ovek.cli.checklists import write_checklists
from ovek.cli.command import Command
from ovek.cli.completing import images
from ovek.cli.fleetwide import each_part
from ovek.cli.options import MAY_DROP, exit_code, write_bytes, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, device_options, on_option
from ovek.engine.cleanup import no_plans, plan_device, with_deletions, with_steps
from ovek.engine.confirm import confirm
from ovek.engine.layouts import layout_of
from ovek.engine.plan import Asked as PlanAsked
from ovek.engine.plan.choices import Asked as SpaceAsked
from ovek.engine.plan.choices import Detail
from ovek.engine.releases import brought
from ovek.engine.verdicts import Judge, JudgedDevice, fits, judge_device
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
from ovek.files.whole import write_whole
from ovek.model.context import Context
from ovek.model.plan import LOCKED, CleanupPlan, CleanupTotals, Confirmed, Room, Unlock
from ovek.model.policy import BankRule
from ovek.model.shelf import ShelfFacts
from ovek.model.size import SizeError, show_size, typed_size
from ovek.model.snapshot import Device
from ovek.model.verdict import KnownRelease
from ovek.render.unread import Unreads

if TYPE_CHECKING:
    from ovek.render.cleanup import FleetRows

TARGET = "target"
_SHARE = re.compile(r"(\d{1,3}(?:\.\d{1,3})?)\s*%", re.ASCII)


class Asked(Struct, frozen=True, kw_only=True):
    """What was typed: how much room, and what may and may not go."""

    free: int | None = None
    share: float | None = None
    image: str | None = None
    sweep: int | None = None
    unlocked: frozenset[Unlock] = frozenset()
    keep: tuple[str, ...] = ()
    named: bool = False
    detail: Detail = "files"
    steps: bool = True


def _free(ctx: click.Context, param: click.Parameter, value: str | None) -> int | float | None:
    """Read a size into bytes, or a percentage into a share from 0 to 1."""
    if value is None:
        return None
    match = _SHARE.fullmatch(value.strip())
    if match is not None:
        if float(match[1]) > 100:
            raise click.BadParameter(f"{value!r} is more than all of it; at most 100%")
        return float(match[1]) / 100
    try:
        return typed_size(value)
    except SizeError as error:
        raise click.BadParameter(f"{error}; or a share of the volume, like 20%") from None


NO_SHELF = ShelfFacts(proven=frozenset(), broken={})


@click.command(
    "cleanup",
    cls=Command,
    examples=(
        "cleanup gannet-bridge --free 60MiB",
        "cleanup --whole-fleet --room-for target --where role=bridge",
    ),
)
@click.option(
    "--free",
    callback=_free,
    metavar="SIZE|PERCENT",
    help="The free space wanted: 600MiB, or a share of the volume: 20%.",
)
@click.option(
    "--room-for",
    metavar="IMAGE|VERSION|target",
    shell_complete=images,
    help="Room for this published file or version, or for policy's target: its size, what it "
    "unpacks to and takes while it is installed, and the reserve.",
)
@click.option(
    "--sweep", type=click.IntRange(1, 6), metavar="TIER", help="Everything up to this tier (1–6)."
)
@MAY_DROP
@click.option("--keep", multiple=True, metavar="GLOB", help="Never offer these files.")
@click.option("--whole-fleet", is_flag=True, help="One line a device, then totals.")
@click.option(
    "--figure",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Draw each flash by role, what goes and the line to reach (.png or .svg).",
)
@click.option(
    "--confirm",
    "confirm_file",
    metavar="SNAPSHOT",
    type=click.Path(path_type=Path),
    help="Hold this later snapshot against the plan: done, not done, done too much.",
)
@click.option(
    "--into",
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    help="Write a checklist for each device into this folder.",
)
@click.option("-v", "--verbose", is_flag=True, help="Name every file that stays, and every step.")
@on_option
@device_options("markdown")
def command(
    free: int | float | None,
    room_for: str | None,
    sweep: int | None,
    may_drop: tuple[Unlock, ...],
    keep: tuple[str, ...],
    whole_fleet: bool,
    figure: Path | None,
    confirm_file: Path | None,
    into: Path | None,
    verbose: bool,
    selected: Selection,
    format_: str,
) -> None:
    """What may go on each DEVICE (a name or glob) to make room? (default: all)

    Plans only: Ovek never deletes anything. Nothing that the device needs is offered, and the
    next start is walked again as it would be after each step. `--format markdown` is a checklist.
    Exit code 1 where a plan is not enough, or is not done when it is held against a snapshot.
    """
    if sum(one is not None for one in (free, room_for, sweep)) != 1:
        raise click.UsageError(
            "say how much room is wanted, one of: --free SIZE, --room-for IMAGE, --sweep TIER"
        )
    for tier, name in LOCKED.items():
        if sweep is not None and sweep >= tier and name not in may_drop:
            raise click.UsageError(f"tier {tier} is unlocked by name only: add --may-drop {name}")
    if whole_fleet and confirm_file is not None:
        raise click.UsageError("--whole-fleet takes no --confirm; leave one of them out")
    if figure is not None and figure.suffix.lower() not in (".png", ".svg"):
        raise click.BadParameter(
            f"{figure.name!r} has to end in .png or .svg", param_hint="--figure"
        )
    site, devices = selected.site, selected.devices()
    context = devices.context(datetime.now(UTC).replace(microsecond=0), selected.told())
    check_policy(site, devices.releases)
    if room_for is not None:
        _known(devices, room_for)
    brief = format_ == "table" and figure is None and into is None
    asked = Asked(
        free=free if isinstance(free, int) else None,
        share=free if isinstance(free, float) else None,
        image=room_for,
        sweep=sweep,
        unlocked=frozenset(may_drop),
        keep=keep,
        named=selected.by_name,
        detail="numbers" if whole_fleet and brief else "files",
        steps=not whole_fleet,
    )
    facts = shelf_facts(site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
    shelf = facts if facts is not None else NO_SHELF
    if whole_fleet and format_ != "markdown" and into is None:
        _whole_fleet(devices, asked, shelf, format_, figure, context)
        return
    planner = Planner(devices, asked, shelf)
    if confirm_file is not None:
        _confirm(planner, devices, confirm_file, format_)
        return
    plans = [plan for one, judge in devices for plan in planner.plans(one, judge)]
    if room_for is not None and not plans and not devices.not_read:
        met = f"holds no device that {room_for} is for"
        raise InputError(devices.file, met, "Name an image for hardware that is in the fleet")
    if figure is not None:
        _draw(figure, plans, devices, context.as_of)
    if into is not None:
        _into(into, plans, context)
    else:
        _show(plans, format_, devices, context, verbose=verbose)
    exit_code(not all(plan.enough for plan in plans), devices)


def _into(folder: Path, plans: list[CleanupPlan], context: Context) -> None:
    """Write a checklist for each device that has something to do. Raises InputError."""
    from ovek.render.checklist import checklist

    by_device: dict[str, list[CleanupPlan]] = {}
    for plan in plans:
        by_device.setdefault(plan.device, []).append(plan)
    write_checklists(folder, {name: checklist(ours, context) for name, ours in by_device.items()})


def _show(
    plans: list[CleanupPlan], format_: str, devices: Devices, context: Context, *, verbose: bool
) -> None:
    unread = Unreads(devices.not_read, context.as_of)
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.cleanup(context, plans, devices.not_read), format_, "plans")
    elif format_ == "markdown":
        from ovek.render.checklist import checklist

        write_bytes([checklist(plans, context, unread)])
    else:
        from ovek.render.cleanup import cleanup

        plans_shown = cleanup(plans, verbose=verbose) if plans else [unread.summary()]
        write_lines(chain(plans_shown, unread.lines()))


class Bring(Struct, frozen=True, kw_only=True):
    """What to make room for, and what there is to say of it; `none` is why there is nothing."""

    release: KnownRelease | None = None
    way: str = ""
    none: str = ""


class Planner:
    """Plans for the devices of a site, as asked."""

    def __init__(self, devices: Devices, asked: Asked, shelf: ShelfFacts) -> None:
        self.site = site = devices.site
        self.file, self.policy, self.asked, self.shelf = devices.file, site.policy, asked, shelf
        self.wants = wants_of(site)
        now = datetime.now(UTC).replace(microsecond=0)
        self.answering = Answering(devices, now, shelf if shelf is not NO_SHELF else None)
        self.by_name: KnownRelease | None = None
        if asked.image is not None:
            named = devices.releases.named(asked.image, case_blind=False)
            self.by_name = named[0] if named else None

    def plans(self, device: Device, judge: Judge) -> list[CleanupPlan]:
        """The plans of one device; none where what room is made for is not for its hardware."""
        asked, judged = self.asked, judge_device(device, judge)
        plans = list[CleanupPlan]()
        for bring, members in self._brings(judged):
            if bring.none:
                planned = no_plans(judged, Room(free=0), bring.none)
            elif asked.image is not None and bring.release is None:
                continue
            else:
                planned = plan_device(judged, self._asked_of(judged, bring))
            plans += [
                msgspec.structs.replace(each, way=bring.way)
                for each in planned
                if members is None or each.member in members
            ]
        if asked.steps:
            plans = self._with_steps(judged, plans)
        for plan in plans if asked.named else []:
            if plan.capacity is not None and plan.wanted > plan.capacity:
                holds, wanted = show_size(plan.capacity), show_size(plan.wanted)
                met = f"{plan.volume}: of {plan.device} holds {holds}, and {wanted} is wanted"
                raise InputError(self.file, met, "Ask for less than the volume holds")
        return plans

    def _with_steps(self, judged: JudgedDevice, plans: list[CleanupPlan]) -> list[CleanupPlan]:
        """The plans with their steps: those of the plan of the device up to the copy."""
        image, rates = self.asked.image, self.answering.rates(judged.device.device)
        if image is None or not plans:
            asked = self._asked_of(judged, Bring())
            return with_deletions(judged, plans, asked, rates) if plans else []
        policy = self.policy if image == TARGET else wanting(self.policy, image)
        subject = self.answering.subject(judged, Wants(policy, self.wants.roles))
        made_for = PlanAsked(
            aim="target",
            may_drop=self.asked.unlocked,
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
            unlocked=asked.unlocked,
            keep=(*asked.keep, *sorted(files)) if bring.release is not None else asked.keep,
            bank_rule=self.bank_rule(judged),
            detail=asked.detail,
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
                yield Bring(none=f"no file of {version} is for it"), members
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
        if layout_of(judged.judge.sheet.start.layout).holder == "files":
            return None
        return self.wanted(judged).bank_rule

    def wanted(self, judged: JudgedDevice) -> Wanted:
        """What policy wants of a device. Raises InputError."""
        try:
            return self.wants.of(judged)
        except ContradictionError as error:
            raise contradiction(self.site, error) from None

    def release(self, device: Device, judge: Judge) -> KnownRelease | None:
        """The release to make room for on a device; raise InputError for a named one without."""
        return self.bring(judge_device(device, judge)).release

    def bring(self, judged: JudgedDevice) -> Bring:
        """What to make room for on a device. Raises InputError where a device was named."""
        wanted = self.wanted(judged)
        asked = self._target if self.asked.image == TARGET else self._by_name
        bring = asked(judged, wanted)
        if bring.release is None:
            return bring
        image, way = brought(bring.release, judged.judge.naming), bring.way
        if bring.release.fits is None:
            note = f"for which hardware {bring.release.file} is, the catalog does not say (ovek "
            way = "; ".join(filter(None, (way, f"{note}catalog annotate --hardware)")))
        return msgspec.structs.replace(bring, release=image, way=way)

    def _target(self, judged: JudgedDevice, wanted: Wanted) -> Bring:
        """The target of policy, or the first install on the way to it."""
        release = wanted.release
        if release is None:
            why = "policy names no target that one file in catalog/ is for"
            if wanted.unfit is not None:
                told = "; ".join(wanted.unfit.against)
                why = f"{wanted.unfit.release.file} does not fit: {told}"
            elif wanted.unlisted is not None:
                why = f"no catalog lists {wanted.unlisted}, which policy wants of it"
            return Bring(none=why)
        way = longest_way(judged, release, wanted)
        if way.hops is None and way.known:
            return Bring(none=f"there is no way to {release.file}: {way.missing}")
        if way.hops is None:
            told = f"whether {release.file} can be loaded is not known: {way.missing}"
            return Bring(release=release, way=told)
        first = next((hop.release for hop in way.hops if hop.loads == "image"), release)
        return Bring(release=first, way=told_way(way, release))

    def _by_name(self, judged: JudgedDevice, wanted: Wanted) -> Bring:
        """The image or version that was asked for, with what speaks against it."""
        image, named, device = self.asked.image or "", self.asked.named, judged.device
        release = self.by_name
        if release is None:
            release, unfit = release_for(image, judged, wanted)
            release = unfit.release if unfit is not None else release
            if release is None and named:
                problem = f"it is {device.hardware.model or 'hardware that is not known'}"
                return Bring(
                    none=f"{problem}, and no one system image of version {image} is for it"
                )
        if release is not None and fits(release, device.hardware) is False:
            if named:
                problem = f"{device.device} is {device.hardware.model}, {release.file} is for "
                problem += " ".join([*(release.fits or ()), *(release.revisions or ())])
                raise InputError(self.file, problem, "Name an image for this hardware")
            return Bring()
        if release is None:
            return Bring()
        against = against_it(judged, release, wanted)
        if against:
            return Bring(release=release, way=f"{release.file} does not fit: {against}")
        way = longest_way(judged, release, wanted)
        return Bring(release=release, way=told_way(way, release))


def _known(devices: Devices, name: str) -> None:
    """Raise InputError where no source knows an image or version, or not its size."""
    folder, releases = devices.site.folder / "catalog", devices.releases
    found = releases.named(name, case_blind=False)
    if name == TARGET or (not found and name in releases.by_version):
        return
    if not found:
        near = get_close_matches(name, [*releases.by_name, *releases.by_version], n=1)
        do = f"Did you mean {near[0]}?" if near else "Put the release there, with its size"
        raise InputError(folder, f"no source there publishes {name!r}", do)
    if not found[0].sizes:
        met = f"the size of {name} is not published ({', '.join(map(str, found[0].origins))})"
        raise InputError(folder, met, "Add its size, or use --free SIZE")


class Part(Struct):
    """The plans of some devices: a line of JSON each, and what they add up to.

    The lines are of CleanupPlan, or of cells for the table; `widths` are those of its columns.
    """

    lines: list[bytes] = []
    totals: CleanupTotals = field(default_factory=CleanupTotals)
    widths: list[int] = []


class Planning(Work[Part]):
    """Plans for the devices of a snapshot, as rows of the table or whole."""

    makes = Part

    def __init__(self, devices: Devices, asked: Asked, shelf: ShelfFacts, as_rows: bool) -> None:
        self.planner, self.part = Planner(devices, asked, shelf), Part()
        self._encode = msgspec.json.Encoder(order="sorted").encode
        self._rows: FleetRows | None = None
        if as_rows:
            from ovek.render import cleanup

            self._rows = cleanup.FleetRows()

    def take(self, device: Device, judge: Judge) -> None:
        """Plan for one device."""
        plans = self.planner.plans(device, judge)
        for plan in plans:
            self.part.totals.add(plan)
            made = plan if self._rows is None else self._rows.cells(plan, len(plans))
            self.part.lines.append(self._encode(made))

    def result(self) -> Part:
        """The part that is done."""
        done, self.part = self.part, Part()
        if self._rows is not None:
            done.widths = self._rows.columns.widths
        return done


def _draw(file: Path, plans: list[CleanupPlan], devices: Devices, now: datetime) -> None:
    from ovek.render.charts.plan import draw

    write_whole(file, [draw(file.suffix.lower().removeprefix("."), plans, devices.caption(now))])


def _whole_fleet(
    devices: Devices,
    asked: Asked,
    shelf: ShelfFacts,
    format_: str,
    figure: Path | None,
    context: Context,
) -> None:
    """Plan for all devices: one line each, then totals."""
    as_rows = format_ == "table" and figure is None
    lines, totals, widths = Spool(CleanupPlan), CleanupTotals(), []
    for part in each_part(devices, Planning, asked, shelf, as_rows):
        totals.join(part.totals)
        widths.append(part.widths)
        for line in part.lines:
            lines.add_line(line)
    if not totals.plans and not devices.not_read:
        met = f"holds no device that {asked.image} is for"
        raise InputError(devices.file, met, "Name an image for hardware that is in the fleet")
    if figure is not None:
        _draw(figure, list(lines), devices, context.as_of)
    if format_ == "json":
        from ovek.render import json

        write_bytes(json.cleanup_fleet(context, lines.lines(), totals, devices.not_read))
    elif format_ == "jsonl":
        write_bytes(line + b"\n" for line in lines.lines())
    else:
        from ovek.render.cleanup import FleetRows, fleet

        unread = Unreads(devices.not_read, context.as_of).lines()
        if as_rows:
            write_lines(chain(fleet(totals, lines.lines, widths, context), unread))
        else:
            rows, members = FleetRows(), Counter(plan.device for plan in lines)
            made = [msgspec.json.encode(rows.cells(plan, members[plan.device])) for plan in lines]
            widths = [rows.columns.widths]
            write_lines(chain(fleet(totals, lambda: made, widths, context), unread))
    exit_code(bool(totals.short or totals.no_plan), devices)


def _confirm(planner: Planner, devices: Devices, file: Path, format_: str) -> None:
    """Hold the plans against a later snapshot."""
    state = state_in(file)
    found = list(_confirmed(planner, devices, state))
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        context = devices.context(datetime.now(UTC).replace(microsecond=0))
        write_json(json.cleanup_confirmed(context, file.name, found), format_, "plans")
    else:
        from ovek.render.cleanup import confirmed

        write_lines(confirmed(found, file.name))
    if any(one.not_done or one.too_much or not one.enough for one in found):
        sys.exit(1)


def _confirmed(planner: Planner, devices: Devices, later: State) -> Iterator[Confirmed]:
    for device, judge in devices:
        now = later.read(device.device)
        if now is None:
            if planner.asked.named:
                met = f"holds no device {device.device!r}"
                raise InputError(later.root, met, "Read it again: ovek survey")
            continue
        release = planner.release(device, judge) if planner.asked.image is not None else None
        for plan in planner.plans(device, judge):
            yield confirm(plan, judge_device(now, devices.judge(now)), release)

"""`ovek compare`: what changed between two states of the fleet?"""

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import click
from msgspec.structs import replace

from ovek.app.answering import Answering, tally_of, with_unread
from ovek.app.devices import Devices
from ovek.app.policy import contradiction, wants_of
from ovek.app.shelves import shelf_facts
from ovek.cli.command import Command
from ovek.cli.completing import snapshots
from ovek.cli.options import exit_code, format_option, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, selecting
from ovek.engine.compare import compare_device
from ovek.engine.verdicts import JudgedDevice, judge_device
from ovek.engine.wanted import ContradictionError, Wants
from ovek.files.errors import InputError
from ovek.files.regular import bytes_of
from ovek.files.site import Site
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.answer import Answered
from ovek.model.compare import DeviceCompare, MemberDone
from ovek.model.policy import RECOMMENDED
from ovek.model.typed import is_plain
from ovek.render.unread import Unreads

TARGET = "target"


@click.command(
    "compare",
    cls=Command,
    examples=(
        "compare before-7.4.2 'arle-*' --expect target",
        "compare before-7.4.2 --where site=Brackness --format json",
    ),
)
@click.argument("old", required=False, shell_complete=snapshots)
@click.option(
    "--to",
    "new",
    metavar="SNAPSHOT",
    shell_complete=snapshots,
    help="The later snapshot (default: the newest line of each device).",
)
@click.option(
    "--expect",
    metavar="VERSION",
    help="The version that every member should run now; or target, or recommended.",
)
@click.option(
    "--baseline",
    metavar="NAME",
    help="Keep a snapshot (OLD, default: the newest line of each device) under this name instead.",
)
@click.option("-v", "--verbose", is_flag=True, help="Name every device that is held back.")
@selecting
@format_option()
def command(
    old: str | None,
    new: str | None,
    expect: str | None,
    baseline: str | None,
    verbose: bool,
    selected: Selection,
    format_: str,
) -> None:
    """What changed from OLD to now, on the fleet or each DEVICE (a name or glob)?

    OLD is a snapshot, or a name that --baseline keeps. First comes what nobody asked for: a start
    that got worse, an image that is no longer proven; then what is done by each device's own
    target. With --expect: did the upgrade do what it was meant to, on every member? VERSION may be
    target or recommended: each device's own. Exit code 1 where it did not or that is not known,
    where an image is no longer proven, or a device would no longer start.
    """
    site = selected.site
    if baseline is not None:
        if new is not None or expect is not None or not selected.everything:
            raise click.UsageError("--baseline keeps one snapshot whole; it compares nothing")
        _keep(site, baseline, old, format_)
        return
    if old is None:
        raise click.UsageError("say with what to compare: ovek compare OLD [DEVICE]...")
    now = datetime.now(UTC).replace(microsecond=0)
    before, devices = _states(selected, old, new)
    comparing = Comparing(before, devices, now, expect)
    found = list(comparing.all())
    answers = with_unread(devices, comparing.answers)
    first, second = before.context(now), devices.context(now, selected.told())
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        tally = tally_of(answers)
        whole = json.compare(second, first, expect, found, devices.not_read, tally)
        write_json(whole, format_, "devices")
    else:
        from ovek.render.compare import compare

        unread = Unreads(devices.not_read, now)
        states = (first, second)
        write_lines(compare(found, answers, states, expect, unread, whole=verbose))
    worse = any(
        one.reload_after == "stranded" and one.reload_before not in ("stranded", None)
        for one in found
    ) or any(one.no_longer_proven for one in found)
    worse = worse or any(one.answer == "no-go" for one in answers)
    exit_code(worse or (expect is not None and not all(one.done for one in found)), devices)


def _states(selected: Selection, old: str, new: str | None) -> tuple[Devices, Devices]:
    """The devices that were asked about, as they were and as they are."""
    site = selected.site
    try:
        devices = selected.of(site.state(new))
    except InputError as error:
        there = [name for name in selected.names if (site.folder / "snapshots" / name).exists()]
        there += [name for name in selected.names if _is_snapshot(site, name)]
        if there:
            raise click.UsageError(f"{there[0]} is a snapshot: write --to {there[0]}") from None
        raise error
    before = Devices(site, site.state(old), selected.names)
    known = set(devices.state.names)
    # Of what is gone nothing is known by which --where could tell it.
    gone = [] if selected.where else [name for name in before.names if name not in known]
    before.keep({*devices.names, *gone})
    return before, devices


def _is_snapshot(site: Site, name: str) -> bool:
    stem = name.removesuffix(".jsonl")
    return any(
        (site.folder / folder / f"{stem}.jsonl").is_file() for folder in ("snapshots", "baselines")
    )


class Comparing:
    """Holds the devices of one state against those of another; gathers the answers now."""

    def __init__(
        self, before: Devices, devices: Devices, now: datetime, expect: str | None
    ) -> None:
        self.before, self.devices, self.expect = before, devices, expect
        self.answering = Answering(
            devices, now, shelf_facts(devices.site, devices.releases, bar=bytes_bar)
        )
        self.wants: Wants = wants_of(devices.site)
        self.answers: list[Answered] = []

    def all(self) -> Iterator[DeviceCompare]:
        """Go through the devices that were read last, then those that only the old state has."""
        seen = set[str]()
        for device, judge in self.devices:
            seen.add(device.device)
            yield self._one(device.device, judge_device(device, judge))
        never = {one.device for one in self.devices.not_read if one.last_read is None}
        for name in self.before.chosen.names:
            if name not in seen and name not in never:
                gone = self.before.state.read(name)
                assert gone is not None
                own = self.expect in (None, TARGET, RECOMMENDED)
                judged = judge_device(gone, self.before.judge(gone))
                yield compare_device(judged, None, None if own else self.expect)

    def _one(self, name: str, now: JudgedDevice) -> DeviceCompare:
        """One device that was read last."""
        old = self.before.state.read(name)
        was = judge_device(old, self.before.judge(old)) if old is not None else None
        version = self._expected(now)
        found = compare_device(was, now, version)
        if self.expect is not None and version is None:
            found = replace(found, members=(_no_target(self.expect),))
        elif (why := self.devices.stale.get(name)) is not None and version is not None:
            reason = f"it was not read since ({why}), so whether it is done is not known"
            members = tuple(replace(one, done=None, why=reason) for one in found.members)
            found = replace(found, done=None, members=members)
        answer = self.answering.answer(now)
        self.answers.append(answer)
        # How old the older state is, says nothing against it.
        then = self.answering.at(was).answer if was is not None else None
        return replace(found, answer=answer.answer, why=answer.detail, answer_before=then)

    def _expected(self, now: JudgedDevice) -> str | None:
        """The version that a device should run: that which was told, or its own."""
        if self.expect not in (None, TARGET, RECOMMENDED):
            return self.expect
        try:
            wanted = self.wants.of(now)
        except ContradictionError as error:
            raise contradiction(self.devices.site, error) from None
        if self.expect == RECOMMENDED:
            return next((each.version for each in wanted.best.values()), None)
        return wanted.target


def _no_target(expect: str | None) -> MemberDone:
    """What is told of a device of which nothing is wanted, or it is not known what."""
    what = "no target" if expect == TARGET else "no release"
    why = f"{what} is named for it, so whether it is done is not known"
    return MemberDone(member="1", done=None, why=why)


def _baseline(site: Site, name: str) -> Path:
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise click.BadParameter(f"{name!r} is no plain name", param_hint="--baseline")
    return site.folder / "baselines" / f"{name}.jsonl"


def _keep(site: Site, name: str, old: str | None, format_: str) -> None:
    """Keep a state under a name; what is kept is never overwritten by another."""
    devices, file = Devices(site, site.state(old)), _baseline(site, name)
    lines = list(devices.state.lines_of())
    if not lines:
        raise InputError(devices.file, "holds no device", "Read the fleet first: ovek survey")
    try:
        if file.exists() and bytes_of(file) != b"".join(lines):
            met = "is there already, of another snapshot"
            raise InputError(file, met, "Choose another name, or remove it first")
    except OSError as error:
        raise cannot_read(file, error) from None
    write_whole(file, lines)
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        now = datetime.now(UTC).replace(microsecond=0)
        write_json(json.baseline(name, devices.context(now), len(lines)), format_, "snapshots")
        return
    from ovek.render.lines import count

    kept = f"Kept {devices.label} ({count(len(lines), 'device')}) as {name!r}."
    write_lines([kept, f"After the change: ovek survey, then ovek compare {name}"])

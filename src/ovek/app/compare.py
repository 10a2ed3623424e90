"""What changed between two states of a fleet; a state that is kept for that."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict, replace

from ovek.app.answering import Answering, with_unread
from ovek.app.devices import Devices
from ovek.app.means import Bar
from ovek.app.policy import contradiction, wants_of
from ovek.app.runner import each_part
from ovek.app.selection import Condition, now_of, selected_in
from ovek.app.shelves import shelf_facts
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine.compare import compare_device
from ovek.engine.verdicts import JudgedDevice, judge_device
from ovek.engine.wanted import ContradictionError, Wants
from ovek.files.atomic import write_whole
from ovek.files.decode import cannot_read
from ovek.files.errors import InputError
from ovek.files.newest import SnapshotLine
from ovek.files.safe_open import bytes_of
from ovek.files.site import Site
from ovek.files.state import State
from ovek.model.answer import Answered
from ovek.model.compare import DeviceCompare, MemberDone
from ovek.model.plain_word import is_plain
from ovek.model.policy import RECOMMENDED
from ovek.model.results import tally_of
from ovek.model.results.compared import CompareSummary, FleetCompare, KeptBaseline
from ovek.model.shelf import ShelfFacts
from ovek.model.usage import UsageError

TARGET = "target"


def compare(
    before: Devices, after: Devices, now: datetime | None = None, *, expect: str | None = None
) -> FleetCompare:
    """Compare devices as they were with how they are: what changed, what is done, what got worse.

    `expect` is the version that every member should run now, or `target` or `recommended`: each
    device's own. Of `before` only those count that `after` has, too, or that are gone. Raises
    InputError.

    >>> from ovek import compare, open_site, select
    >>> site = open_site("skerrow-ferries")
    >>> before = select(site, ["arle-*"], snapshot="baselines/before-7.4.2.jsonl")
    >>> compare(before, select(site, ["arle-*"]), expect="target").summary.changed
    2
    """
    now = now or now_of(after.site)
    shelf = shelf_facts(after.site, after.releases, bar=after.bar)
    old = _Old(before.state.root, before.state.files, before.chosen.lines)
    compared, answers = list[DeviceCompare](), list[Answered]()
    for part in each_part(after, _COMPARE, now, shelf, expect, old):
        compared += part.compared
        answers += part.answers
    compared += _gone(before, after, expect)
    answered = with_unread(after, answers)
    earlier = before.context(now)
    return FleetCompare(
        **asdict(after.context(now)),
        not_read=after.not_read,
        answered=answered,
        before=earlier.snapshots,
        expect=expect,
        summary=_summary(compared),
        answers=tally_of(answered),
        devices=compared,
        earlier=earlier,
    )


def states(
    site: Site,
    old: str,
    new: str | None,
    names: Iterable[str] = (),
    where: Iterable[Condition] = (),
    *,
    bar: Bar | None = None,
) -> tuple[Devices, Devices]:
    """The devices that were asked about, as they were and as they are. Raises InputError."""
    names, where = list(names), list(where)
    try:
        devices = selected_in(site, site.state(new), names, where, bar=bar)
        devices.newest = new is None
    except InputError:
        there = [name for name in names if (site.folder / "snapshots" / name).exists()]
        there += [name for name in names if _is_snapshot(site, name)]
        if there:
            raise UsageError(f"{there[0]} is a snapshot: write --to {there[0]}") from None
        raise
    before = Devices(site, site.state(old), names)
    before.selected = ""  # it is told of the devices as they are
    known = set(devices.state.names)
    # Of what is gone nothing is known by which --where could tell it.
    gone = [] if where else [name for name in before.names if name not in known]
    before.keep({*devices.names, *gone})
    return before, devices


def _is_snapshot(site: Site, name: str) -> bool:
    stem = name.removesuffix(".jsonl")
    return any(
        (site.folder / folder / f"{stem}.jsonl").is_file() for folder in ("snapshots", "baselines")
    )


def _summary(compared: Iterable[DeviceCompare]) -> CompareSummary:
    """How many devices changed how."""
    devices = list(compared)
    outcomes = [one.outcome for one in devices]
    return CompareSummary(
        changed=outcomes.count("changed"),
        same=outcomes.count("same"),
        new=outcomes.count("new"),
        gone=outcomes.count("gone"),
        done=sum(one.done is True for one in devices),
        not_done=sum(one.done is False for one in devices),
        worse=sum(one.worse for one in devices),
    )


def keep_baseline(site: Site, name: str, old: str | None = None) -> KeptBaseline:
    """Keep a state under a name, the newest by default; never over another. Raises InputError.

    >>> from ovek import keep_baseline, open_site
    >>> keep_baseline(open_site("skerrow-ferries"), "before-the-storm").devices
    35
    """
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise UsageError(
            f"{name!r} is not a valid name: use letters, digits, dots and dashes", "--baseline"
        )
    devices, file = Devices(site, site.state(old)), site.folder / "baselines" / f"{name}.jsonl"
    lines = list(devices.state.lines_of())
    if not lines:
        raise InputError(devices.file, "has no device", "Read the fleet first: ovek survey")
    try:
        if file.exists() and bytes_of(file) != b"".join(lines):
            text = "already exists, with other contents"
            raise InputError(file, text, "Choose another name, or delete it first")
    except OSError as error:
        raise cannot_read(file, error) from None
    write_whole(file, lines)
    context = asdict(devices.context(now_of(site)))
    return KeptBaseline(**context, name=name, devices=len(lines), label=devices.label)


class _Old(Struct, frozen=True):
    """The older state in a comparison: where the line of each device is."""

    root: Path
    files: list[Path]
    lines: dict[str, SnapshotLine]


class _Compared(Struct):
    """Some devices compared with what they were, and the answer for each now."""

    compared: list[DeviceCompare] = []
    answers: list[Answered] = []


def _comparing(
    devices: Devices, now: datetime, shelf: ShelfFacts | None, expect: str | None, old: _Old
) -> Part[_Compared]:
    """What compares some devices of a site with an older state of them."""
    comparing = _Comparing(devices, now, shelf, expect, old)

    def compare_part(lines: Iterable[DeviceLine]) -> _Compared:
        part = _Compared()
        for line in lines:
            one, answer = comparing.one(line.name, line.judged())
            part.compared.append(one)
            part.answers.append(answer)
        return part

    return compare_part


_COMPARE = Work(_comparing, _Compared)


def _gone(before: Devices, after: Devices, expect: str | None) -> Iterator[DeviceCompare]:
    """Go through the devices that only the old state has."""
    there = {one.device for one in after.not_read if one.last_read is None} | set(
        after.chosen.names
    )
    for name in before.chosen.names:
        if name not in there:
            gone = before.state.read(name)
            assert gone is not None
            own = expect in (None, TARGET, RECOMMENDED)
            judged = judge_device(gone, before.judge(gone))
            yield compare_device(judged, None, None if own else expect)


class _Comparing:
    """Compares devices with an older state of them."""

    def __init__(
        self,
        devices: Devices,
        now: datetime,
        shelf: ShelfFacts | None,
        expect: str | None,
        old: _Old,
    ) -> None:
        state = State(old.root, old.files, old.lines)
        self.before = Devices(devices.site, state, releases=devices.releases)
        self.devices, self.expect = devices, expect
        self.answering = Answering(devices, now, shelf)
        self.wants: Wants = wants_of(devices)

    def one(self, name: str, now: JudgedDevice) -> tuple[DeviceCompare, Answered]:
        """One device that was read last, and the answer for it now."""
        old = self.before.state.read(name)
        was = judge_device(old, self.before.judge(old)) if old is not None else None
        version = self._expected(now)
        found = compare_device(was, now, version)
        if self.expect is not None and version is None:
            found = replace(found, members=(_no_target(self.expect),))
        elif (why := self.devices.stale.get(name)) is not None and version is not None:
            reason = f"not read since ({why}), so it is unknown whether it is done"
            members = tuple(replace(one, done=None, why=reason) for one in found.members)
            found = replace(found, done=None, members=members)
        answer = self.answering.answer(now)
        # How old the older state is, says nothing against it.
        then = self.answering.at(was).answer if was is not None else None
        found = replace(found, answer=answer.answer, why=answer.detail, answer_before=then)
        return found, answer

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
    why = f"{what} for it, so it is unknown whether it is done"
    return MemberDone(member="1", done=None, why=why)

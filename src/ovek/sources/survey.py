"""Reading a whole fleet: many devices at once, each at its own risk.

A device that drops, hangs or lies costs its own line in the result and nothing else. What may pass
is tried again, each time after a longer wait. A half-read device is kept, its missing facts not
known.
"""

import asyncio
import logging
import random
import time
from collections.abc import Callable, Iterable
from contextlib import AsyncExitStack, suppress
from datetime import UTC, datetime
from functools import partial
from typing import Any, Protocol

import asyncssh
import msgspec
from msgspec import Struct

from ovek.files.errors import InputError
from ovek.model.fleet import FleetDevice, Way
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device
from ovek.model.surveyed import ReadResult
from ovek.sources.away import StopSignal, away, hush
from ovek.sources.clean import plain
from ovek.sources.device_session import Interview, RawAnswer, WantedDigests
from ovek.sources.places import Places, Seat
from ovek.sources.problem import ReadProblem
from ovek.sources.snapshot_builder import missing_facts
from ovek.sources.ways import way_of
from ovek.sources.ways.interface import Door, Setup

_LOG = logging.getLogger(__name__)
_CLOSING = 5.0  # seconds for a connection that was cut to be gone


class EvidenceError(ValueError):
    """Evidence that is none."""


class DeviceOutcome(Struct, frozen=True, kw_only=True):
    """What came of one device: its state if any, what went wrong and what to do about it.

    `missing` are facts that nothing told, `lost` values that could not be, each with its line.
    """

    name: str
    device: Device | None
    evidence: tuple[RawAnswer, ...] = ()
    problem: str | None = None
    do: str | None = None
    missing: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    tries: int = 1
    seconds: float = 0.0
    digest_rate: int | None = None

    @property
    def result(self) -> ReadResult:
        """`read`, `partly read` (kept, with facts missing) or `not read`."""
        if self.device is None:
            return "not read"
        return "partly read" if self.problem is not None or self.missing else "read"


class Claims(Protocol):
    """Who reads a device now, where several collectors might."""

    def take(self, device: str) -> bool:
        """Take a device for oneself; whether nobody else has it."""

    def leave(self, device: str) -> None:
        """Leave it to others again."""


class Alone:
    """Nobody else reads."""

    def take(self, device: str) -> bool:
        """Take a device: it is always free."""
        return True

    def leave(self, device: str) -> None:
        """Leave it: nobody waits."""


async def survey(
    jobs: Iterable[tuple[FleetDevice, Sheet]],
    setup: Setup,
    at_once: int,
    keep: Callable[[DeviceOutcome], None],
    done: Callable[[DeviceOutcome], None],
    claims: Claims | None = None,
) -> None:
    """Read devices, `at_once` at a time; each is kept (away from the others), then `done`.

    Those that let one wait hold up nobody: see `places`. What `keep` raises costs that device: it
    is told as not kept. One that somebody else has in `claims` is not read.
    """
    hush(asyncio.get_running_loop())
    claimed, places = claims if claims is not None else Alone(), Places(at_once)

    async def one(device: FleetDevice, sheet: Sheet, seat: Seat) -> None:
        try:
            done(await read(device, sheet, seat))
        finally:
            seat.end()
            claimed.leave(device.name)

    async def read(device: FleetDevice, sheet: Sheet, seat: Seat) -> DeviceOutcome:
        outcome = await read_device(device, sheet, setup, seat)
        try:
            await away(partial(_keep, keep, outcome))
        except InputError as error:
            outcome = _not_kept(outcome, f"{error.file} {error.met}", error.do)
        except (OSError, ValueError) as error:
            outcome = _not_kept(outcome, str(error), "Fix that, and read the device again")
        return outcome

    try:
        async with asyncio.TaskGroup() as group:
            for device, sheet in jobs:
                seat = await places.seat()
                if claimed.take(device.name):
                    group.create_task(one(device, sheet, seat))
                else:
                    seat.end()
                    done(_elsewhere(device.name))
    finally:
        for shared in setup.shared.values():
            shared.close()
        setup.shared.clear()


def _keep(keep: Callable[[DeviceOutcome], None], outcome: DeviceOutcome, stop: StopSignal) -> None:
    keep(outcome)


def _elsewhere(name: str) -> DeviceOutcome:
    """What came of a device that somebody else reads at the time."""
    do = "Nothing to do: it is in the snapshot of the other collector"
    return DeviceOutcome(
        name=name, device=None, problem="another collector is reading it now", do=do, tries=0
    )


def _not_kept(outcome: DeviceOutcome, text: str, do: str) -> DeviceOutcome:
    told = f"it was read but could not be saved: {text}"
    return msgspec.structs.replace(outcome, device=None, problem=told, do=do)


async def read_device(
    device: FleetDevice, sheet: Sheet, setup: Setup, seat: Seat | None = None
) -> DeviceOutcome:
    """Read one device by all its ways, trying again where that may help; it never raises."""
    try:
        outcome = await _read(device, sheet, setup, seat or Seat())
    except Exception as defect:
        problem = _defect(defect)
        outcome = DeviceOutcome(name=device.name, device=None, problem=str(problem), do=problem.do)
    masked = setup.secrets.masked
    outcome = msgspec.structs.replace(
        outcome,
        problem=None if outcome.problem is None else masked(outcome.problem),
        lost=tuple(map(masked, outcome.lost)),
        notes=tuple(map(masked, outcome.notes)),
    )
    why = f": {outcome.problem}" if outcome.problem is not None else ""
    told = (device.name, outcome.result, outcome.tries, outcome.seconds, why)
    _LOG.info("%s: %s after %d tries, %.1f s%s", *told)
    return outcome


async def _read(device: FleetDevice, sheet: Sheet, setup: Setup, seat: Seat) -> DeviceOutcome:
    began, taken_at = time.monotonic(), datetime.now(UTC).replace(microsecond=0)
    setup.progress.began(device.name)
    halves: dict[str, tuple[Any, int]] = {}
    best: Interview | None = None
    problem: ReadProblem | None = None
    tried = 0
    while tried < setup.tries:
        tried += 1
        _LOG.info("%s: reading by %s, try %d", device.name, "+".join(ways_of(device, sheet)), tried)
        interview = Interview(device.name, sheet, setup.wanted, taken_at, setup.progress, seat)
        left = setup.limits.device - (time.monotonic() - began - seat.in_line())
        problem = await _try(device, interview, setup, halves, max(left, 0.0))
        if best is None or len(interview.evidence) >= len(best.evidence):
            best = interview
        if problem is None or not problem.passing or tried == setup.tries:
            break
        seat.leave()
        wait = setup.wait * 2 ** (tried - 1) * random.uniform(0.8, 1.2)  # noqa: S311
        await asyncio.sleep(min(wait, max(left, 0.0)))
        await seat.work(failed=True)
    assert best is not None
    made, seconds = best, round(time.monotonic() - began, 2)
    return await away(
        lambda stop: outcome_of(
            device, made, taken_at, problem=problem, tries=tried, seconds=seconds
        )
    )


def outcome_of(
    device: FleetDevice,
    interview: Interview,
    taken_at: datetime,
    *,
    problem: ReadProblem | None = None,
    tries: int = 1,
    seconds: float = 0.0,
) -> DeviceOutcome:
    """Put together what an interview has brought."""
    kept: Device | None = None
    interview.make_slots()
    if interview.draft.members or interview.draft.device:
        kept = interview.draft.finished(
            {
                "format": "ovek.snapshot/1",
                "device": device.name,
                "sheet": device.sheet,
                "site": device.site,
                "role": device.role,
                "taken_at": taken_at.isoformat(),
                "source": {
                    "kind": "+".join(ways_of(device, interview.sheet)) or "ssh",
                    "evidence": [
                        {"name": _title(answer), "sha256": answer.sha256}
                        for answer in interview.evidence
                    ],
                },
            }
        )
    notes, lost = tuple(interview.draft.problems), tuple(interview.draft.lost)
    told = str(problem) if problem is not None else None
    do = problem.do if problem is not None else None
    if kept is None and told is None:
        told = notes[-1] if notes else "the sheet could not parse anything it sent"
        do = "Wrong sheet? Save a session and run: ovek sheet try SHEET SESSION"
    return DeviceOutcome(
        name=device.name,
        device=kept,
        evidence=tuple(interview.evidence),
        problem=told,
        do=do,
        missing=tuple(missing_facts(kept, interview.sheet)) if kept is not None else (),
        lost=lost,
        notes=notes,
        tries=tries,
        seconds=seconds,
        digest_rate=interview.digest_rate,
    )


def replay(
    device: FleetDevice, sheet: Sheet, wanted: WantedDigests, evidence: dict[str, Any]
) -> DeviceOutcome:
    """Make the same state from the evidence again; raises EvidenceError where it is none."""
    try:
        taken_at = datetime.fromisoformat(evidence["taken_at"])
        interview = Interview(device.name, sheet, wanted, taken_at)
        for answer in msgspec.convert(evidence["answers"], tuple[RawAnswer, ...]):
            interview.take(answer)
        return outcome_of(device, interview, taken_at)
    except (LookupError, TypeError, ValueError, AttributeError) as error:  # rows of other shapes
        text = f"is not evidence of this device ({type(error).__name__}: {error})"
        raise EvidenceError(text) from None


def _title(answer: RawAnswer) -> str:
    parts = [answer.context.get(name, "") for name in ("member", "volume", "path")]
    return " ".join([answer.name, *(part for part in parts if part)])


async def _try(
    device: FleetDevice,
    interview: Interview,
    setup: Setup,
    halves: dict[str, tuple[Any, int]],
    limit: float,
) -> ReadProblem | None:
    """Go through a device's ways once, within `limit` seconds; return what stopped it.

    Whatever the device does: its connection is cut, and a way that goes on even so is left behind.
    """
    stack = AsyncExitStack()
    door = Door(device, interview, setup, halves, stack)
    reading = asyncio.create_task(_all_ways(door))
    try:
        await interview.seat.watch(reading, limit)
    finally:
        late = not reading.done()
        with suppress(Exception):
            await asyncio.wait_for(stack.aclose(), _CLOSING)
        if late:
            reading.cancel()
            await asyncio.wait({reading}, timeout=_CLOSING)
    if late:
        reading.add_done_callback(_let_go)
        met = f"timeout: reading took longer than --device-limit ({setup.limits.device:g} s)"
        return ReadProblem("reading", met, "Raise --device-limit, or find out what is slow")
    try:
        reading.result()
    except ReadProblem as problem:
        return problem
    except InputError as error:
        return ReadProblem("reading", error.met, error.do)
    except (asyncssh.ConnectionLost, ConnectionError):
        return ReadProblem("reading", "the device closed the connection", "Try again", passing=True)
    except OSError as error:
        met = (error.strerror or str(error)).lower()
        return ReadProblem("reading", met, "Try again", passing=True)
    except asyncssh.Error as error:
        met = f"the connection broke: {plain(str(error)) or type(error).__name__}"
        return ReadProblem("reading", met, "Try again", passing=True)
    except Exception as defect:
        return _defect(defect)
    return None


def _defect(defect: Exception) -> ReadProblem:
    text = f"a defect of Ovek: {type(defect).__name__}: {defect}"
    return ReadProblem("reading", text, "Please report it, with the evidence")


def _let_go(task: "asyncio.Task[None]") -> None:
    """Look at what a task ended with, so that nobody complains of it."""
    if not task.cancelled():
        task.exception()


def ways_of(device: FleetDevice, sheet: Sheet) -> tuple[Way, ...]:
    """The ways by which a device is read: its own, else its sheet's, else SSH."""
    return device.access or sheet.reading.access or (("ssh",) if device.host else ())


async def _all_ways(door: Door) -> None:
    ways = ways_of(door.device, door.interview.sheet)
    if not ways:
        raise ReadProblem(
            "reading", "it has no access method", "Set `access` and `host` in fleet.toml"
        )
    for way in ways:
        await way_of(way)(door)

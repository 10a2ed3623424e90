"""Reading a whole fleet: many devices at once, each at its own risk.

A device that drops, hangs or lies costs its own line in the result and nothing else. What may pass
is tried again, each time after a longer wait. A half-read device is kept, its missing facts not
known.
"""

import asyncio
import random
import time
from collections.abc import Callable, Iterable
from contextlib import AsyncExitStack
from datetime import UTC, datetime
from typing import Any

import msgspec
from msgspec import Struct

from ovek.files.errors import InputError
from ovek.model.fleet import FleetDevice, Way
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device
from ovek.sources.draft import missing_facts
from ovek.sources.interview import Answer, Interview, Wanted
from ovek.sources.problem import ReadProblem
from ovek.sources.ways import way_of
from ovek.sources.ways.interface import Door, Setup


class EvidenceError(ValueError):
    """Evidence that is none."""


class Outcome(Struct, frozen=True, kw_only=True):
    """What came of one device: its state if any, what went wrong and what to do about it."""

    name: str
    device: Device | None
    evidence: tuple[Answer, ...] = ()
    problem: str | None = None
    do: str | None = None
    missing: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    tries: int = 1
    seconds: float = 0.0

    @property
    def result(self) -> str:
        """`read`, `half` (kept, with facts missing) or `not read`."""
        if self.device is None:
            return "not read"
        return "half" if self.problem is not None or self.missing else "read"


async def survey(
    jobs: Iterable[tuple[FleetDevice, Sheet]],
    setup: Setup,
    at_once: int,
    done: Callable[[Outcome], None],
) -> None:
    """Read devices, `at_once` at a time; `done` is called with each as it ends."""
    todo = iter(jobs)

    async def worker() -> None:
        for device, sheet in todo:
            done(await read_device(device, sheet, setup))

    async with asyncio.TaskGroup() as group:
        for _ in range(at_once):
            group.create_task(worker())


async def read_device(device: FleetDevice, sheet: Sheet, setup: Setup) -> Outcome:
    """Read one device by all its ways, trying again where that may help."""
    began, taken_at = time.monotonic(), datetime.now(UTC).replace(microsecond=0)
    partial: dict[str, tuple[Any, int]] = {}
    best: Interview | None = None
    problem: ReadProblem | None = None
    tried = 0
    while tried < setup.tries:
        tried += 1
        interview = Interview(device.name, sheet, setup.wanted, setup.expects)
        problem = await _try(device, interview, setup, partial)
        if best is None or len(interview.evidence) >= len(best.evidence):
            best = interview
        if problem is None or not problem.passing or tried == setup.tries:
            break
        await asyncio.sleep(setup.wait * 2 ** (tried - 1) * random.uniform(0.8, 1.2))  # noqa: S311
    assert best is not None
    return outcome_of(
        device,
        best,
        taken_at,
        problem=problem,
        tries=tried,
        seconds=round(time.monotonic() - began, 2),
    )


def outcome_of(
    device: FleetDevice,
    interview: Interview,
    taken_at: datetime,
    *,
    problem: ReadProblem | None = None,
    tries: int = 1,
    seconds: float = 0.0,
) -> Outcome:
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
                "taken_at": taken_at.isoformat(),
                "source": {
                    "kind": "+".join(device.ways) or "ssh",
                    "evidence": [
                        {"name": _title(answer), "sha256": answer.sha256}
                        for answer in interview.evidence
                    ],
                },
            }
        )
    notes = tuple(interview.draft.problems)
    told = str(problem) if problem is not None else None
    do = problem.do if problem is not None else None
    if kept is None and told is None:
        told = notes[-1] if notes else "it told nothing that its sheet understands"
        do = "Save a session and see: ovek sheet try SHEET CAPTURE"
    return Outcome(
        name=device.name,
        device=kept,
        evidence=tuple(interview.evidence),
        problem=told,
        do=do,
        missing=tuple(missing_facts(kept, interview.sheet)) if kept is not None else (),
        notes=notes,
        tries=tries,
        seconds=seconds,
    )


def replay(device: FleetDevice, sheet: Sheet, wanted: Wanted, evidence: dict[str, Any]) -> Outcome:
    """Make the same state from the evidence again; raises EvidenceError where it is none."""
    interview = Interview(device.name, sheet, wanted)
    try:
        taken_at = datetime.fromisoformat(evidence["taken_at"])
        for answer in msgspec.convert(evidence["answers"], tuple[Answer, ...]):
            interview.take(answer)
        return outcome_of(device, interview, taken_at)
    except (LookupError, TypeError, ValueError, AttributeError) as error:  # rows of other shapes
        met = f"is no evidence of this device ({type(error).__name__}: {error})"
        raise EvidenceError(met) from None


def _title(answer: Answer) -> str:
    parts = [answer.context.get(name, "") for name in ("member", "volume", "path")]
    return " ".join([answer.name, *(part for part in parts if part)])


async def _try(
    device: FleetDevice,
    interview: Interview,
    setup: Setup,
    partial: dict[str, tuple[Any, int]],
) -> ReadProblem | None:
    """Go through a device's ways once; return what stopped it."""
    try:
        async with asyncio.timeout(setup.limits.device):
            await _all_ways(device, interview, setup, partial)
    except ReadProblem as problem:
        return problem
    except InputError as error:
        return ReadProblem("reading", error.met, error.do)
    except TimeoutError:
        met = f"not done in {setup.limits.device:g} s"
        return ReadProblem("reading", met, "Raise --device-limit, or see what is slow")
    except OSError as error:
        return ReadProblem("reading", (error.strerror or str(error)).lower(), "Try again")
    except Exception as defect:
        met = f"a defect of Ovek: {type(defect).__name__}: {defect}"
        return ReadProblem("reading", met, "Please report it, with the evidence")
    return None


async def _all_ways(
    device: FleetDevice,
    interview: Interview,
    setup: Setup,
    partial: dict[str, tuple[Any, int]],
) -> None:
    ways: tuple[Way, ...] = device.ways or (("ssh",) if device.host else ())
    if not ways:
        raise ReadProblem("reading", "it has no way in", "Give it ways and a host in fleet.toml")
    async with AsyncExitStack() as stack:
        door = Door(device, interview, setup, partial, stack)
        for way in ways:
            await way_of(way)(door)

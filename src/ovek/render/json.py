"""Results as JSON: one object a command, keys sorted, stable (`ovek.audit/1` and so on)."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import Any

import msgspec
import msgspec.structs

from ovek.model.choice import CatalogMistake, Pick
from ovek.model.compare import DeviceCompare
from ovek.model.custody import Custody
from ovek.model.finding import RuleCard
from ovek.model.fit import Route
from ovek.model.place import Place
from ovek.model.plan import CleanupPlan, CleanupTotals, Confirmed
from ovek.model.policy import Policy
from ovek.model.runbook import Followed, Runbook, Waves
from ovek.model.shelf import Offer, ShelfVerdict
from ovek.model.surveyed import Surveyed
from ovek.model.trial import SheetTrial
from ovek.model.unread import Unread
from ovek.model.verdict import KnownRelease
from ovek.model.waiver import Waiver
from ovek.model.walk import DeviceWalk
from ovek.model.where import Holding
from ovek.render.forms import AuditResult
from ovek.render.steps import words_of

_ENCODER = msgspec.json.Encoder(order="sorted")


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write `ovek.audit/1` piece by piece."""
    yield b'{"as_of":' + _ENCODER.encode(result.as_of) + b',"devices":['
    comma = b"\n"
    for device in result.lines():
        yield comma + device
        comma = b",\n"
    head = {
        "format": "ovek.audit/1",
        "not_read": list(result.not_read),
        "summary": result.summary,
        "unused_waivers": list(result.unused),
    }
    yield b"],\n" + _ENCODER.encode(head)[1:] + b"\n"


def compare(
    old: str,
    new: str,
    expect: str | None,
    found: Iterable[DeviceCompare],
    not_read: Iterable[Unread],
) -> bytes:
    """Write `ovek.compare/1`."""
    devices = list(found)
    outcomes = ("changed", "same", "new", "gone")
    summary: dict[str, int] = {
        name: sum(one.outcome == name for one in devices) for name in outcomes
    }
    summary["done"] = sum(one.done is True for one in devices)
    whole = {
        "format": "ovek.compare/1",
        "old": old,
        "new": new,
        "expect": expect,
        "summary": summary,
        "devices": devices,
        "not_read": list(not_read),
    }
    return _ENCODER.encode(whole) + b"\n"


def baseline(name: str, snapshot: str, devices: int) -> bytes:
    """Write `ovek.baseline/1`."""
    whole = {"format": "ovek.baseline/1", "name": name, "snapshot": snapshot, "devices": devices}
    return _ENCODER.encode(whole) + b"\n"


def runbooks(
    found: Iterable[Runbook],
    waves: Waves,
    not_read: Iterable[Unread],
    source: str,
    now: datetime,
) -> bytes:
    """Write `ovek.runbook/1`."""
    whole = {
        "format": "ovek.runbook/1",
        "as_of": now,
        "source": source,
        "waves": list(waves.waves),
        "misfits": list(waves.misfits),
        "devices": list(found),
        "not_read": list(not_read),
    }
    return _ENCODER.encode(whole) + b"\n"


def followed(found: Iterable[Followed], gone: Iterable[str]) -> bytes:
    """Write `ovek.runbook-confirmed/1`; `gone` are the devices that the later snapshot lacks."""
    whole = {
        "format": "ovek.runbook-confirmed/1",
        "devices": list(found),
        "not_there": list(gone),
    }
    return _ENCODER.encode(whole) + b"\n"


def rules(cards: Iterable[RuleCard]) -> bytes:
    """Write `ovek.rules/1`."""
    return _ENCODER.encode({"format": "ovek.rules/1", "rules": list(cards)}) + b"\n"


def policy(wanted: Policy, waivers: Iterable[Waiver]) -> bytes:
    """Write `ovek.policy-check/1`: a sound policy with its defaults, and the waivers."""
    whole = {"format": "ovek.policy-check/1", "policy": wanted, "waivers": list(waivers)}
    return _ENCODER.encode(whole) + b"\n"


def survey(snapshot: str, devices: Iterable[Surveyed], began: datetime) -> bytes:
    """Write `ovek.survey/1`; `began` is when it did, `seconds` how long a device took."""
    whole = {
        "format": "ovek.survey/1",
        "snapshot": snapshot,
        "began": began,
        "devices": list(devices),
    }
    return _ENCODER.encode(whole) + b"\n"


def sheet_trial(tried: SheetTrial) -> bytes:
    """Write `ovek.sheet-trial/1`."""
    whole = {"format": "ovek.sheet-trial/1", **msgspec.structs.asdict(tried)}
    return _ENCODER.encode(whole) + b"\n"


def custody(found: Iterable[Custody], not_read: Iterable[Unread]) -> bytes:
    """Write `ovek.custody/1`."""
    whole = {"format": "ovek.custody/1", "images": list(found), "not_read": list(not_read)}
    return _ENCODER.encode(whole) + b"\n"


def where(text: str, found: Iterable[Holding], not_read: Iterable[Unread]) -> bytes:
    """Write `ovek.where/1`; `known_at` is when a digest was measured, or the device read."""
    whole = {
        "format": "ovek.where/1",
        "sought": text,
        "copies": list(found),
        "not_read": list(not_read),
    }
    return _ENCODER.encode(whole) + b"\n"


def shelf(folder: str, found: Iterable[ShelfVerdict], offered: Offer | None = None) -> bytes:
    """Write `ovek.shelf/1`; a file inside an archive is `ARCHIVE!PATH`. `offer`: for a device."""
    whole = {"format": "ovek.shelf/1", "folder": folder, "files": list(found), "offer": offered}
    return _ENCODER.encode(whole) + b"\n"


def releases(found: Iterable[KnownRelease]) -> bytes:
    """Write `ovek.releases/1`: what all sources together say of each release."""
    return _ENCODER.encode({"format": "ovek.releases/1", "releases": list(found)}) + b"\n"


def catalog_check(found: Iterable[CatalogMistake]) -> bytes:
    """Write `ovek.catalog-check/1`."""
    return _ENCODER.encode({"format": "ovek.catalog-check/1", "mistakes": list(found)}) + b"\n"


def upgrade_path(found: Route) -> bytes:
    """Write `ovek.path/1`; `hops` is null where there is no way, or it is not `known`."""
    return _ENCODER.encode({"format": "ovek.path/1", **msgspec.structs.asdict(found)}) + b"\n"


def pick(found: Pick) -> bytes:
    """Write `ovek.pick/1`; `chosen` is null where no release is for the device."""
    return _ENCODER.encode({"format": "ovek.pick/1", **msgspec.structs.asdict(found)}) + b"\n"


def bootwalk(
    walks: Iterable[DeviceWalk],
    supposed: Iterable[str] = (),
    before: Iterable[DeviceWalk] = (),
    not_read: Iterable[Unread] = (),
) -> bytes:
    """Write `ovek.bootwalk/1`: the walks; with what-ifs, what is supposed and the walks as is."""
    whole = {"format": "ovek.bootwalk/1", "devices": _plain(walks), "not_read": list(not_read)}
    if supposed := list(supposed):
        whole |= {"supposed": supposed, "as_it_is": _plain(before)}
    return _ENCODER.encode(whole) + b"\n"


def _plain(walks: Iterable[DeviceWalk]) -> Any:
    """Walks as plain data, each place that is found as its text."""
    plain = msgspec.to_builtins(list(walks))
    for device in plain:
        for member in device["members"]:
            for tried in (*member["tried"], *member["rescue"], member["starts"] or {}):
                if tried.get("at") is not None:
                    tried["at"] = str(Place(*tried["at"]))
    return plain


def cleanup_fleet(
    plans: Iterable[bytes], totals: CleanupTotals, not_read: Iterable[Unread]
) -> Iterator[bytes]:
    """Write `ovek.cleanup/1` piece by piece, with totals; `plans` are JSON already."""
    yield b'{"format":"ovek.cleanup/1","plans":['
    comma = b"\n"
    for plan in plans:
        yield comma + plan
        comma = b",\n"
    yield b'],\n"not_read":' + _ENCODER.encode(list(not_read))
    yield b',\n"totals":' + _ENCODER.encode(totals) + b"}\n"


def cleanup_confirmed(snapshot: str, found: Iterable[Confirmed]) -> bytes:
    """Write `ovek.cleanup-confirmed/1`."""
    whole = {
        "format": "ovek.cleanup-confirmed/1",
        "snapshot": snapshot,
        "plans": list(found),
    }
    return _ENCODER.encode(whole) + b"\n"


def cleanup(plans: Iterable[CleanupPlan], not_read: Iterable[Unread]) -> bytes:
    """Write `ovek.cleanup/1`; the free figures are in bytes, `what` is a step in words."""
    told = []
    for plan in plans:
        plain = msgspec.to_builtins(plan)
        for step, written in zip(plan.steps, plain["steps"], strict=True):
            written["what"] = words_of(step, plan)
        told.append(plain)
    whole = {"format": "ovek.cleanup/1", "plans": told, "not_read": list(not_read)}
    return _ENCODER.encode(whole) + b"\n"

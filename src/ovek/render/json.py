"""Results as JSON: one object a command, keys sorted, stable (`ovek.audit/1` and so on)."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

import msgspec
import msgspec.structs
from msgspec.structs import replace

from ovek.model.answer import Tally
from ovek.model.choice import CatalogMistake, Pick
from ovek.model.compare import DeviceCompare
from ovek.model.context import Context
from ovek.model.custody import Custody
from ovek.model.fields import Field, Fills
from ovek.model.finding import RuleCard
from ovek.model.fit import Route
from ovek.model.history import Day, Event, Held, Opened, StoreState, Vouched
from ovek.model.learned import Learned
from ovek.model.place import Place
from ovek.model.plan import CleanupPlan, CleanupTotals, Confirmed
from ovek.model.policy import Policy
from ovek.model.runbook import Followed, Runbook, Waves
from ovek.model.shelf import Look, Offer
from ovek.model.surveyed import Surveyed
from ovek.model.trial import SheetTrial
from ovek.model.unread import Unread
from ovek.model.verdict import KnownRelease
from ovek.model.waiver import Waiver
from ovek.model.walk import DeviceWalk
from ovek.model.where import Holding
from ovek.render.forms import AuditResult

_ENCODER = msgspec.json.Encoder(order="sorted")
Whole = dict[str, Any]


def encoded(whole: Whole, lists: str | None = None) -> bytes:
    """One object as JSON, its keys sorted; with `lists` the values of that list, a line each."""
    if lists is None:
        return _ENCODER.encode(whole) + b"\n"
    return b"".join(map(line_of, whole[lists] or ()))


def line_of(value: Any) -> bytes:
    """One value as a line of JSON, its keys sorted."""
    return _ENCODER.encode(value) + b"\n"


def _whole(format_: str, context: Context | None, **more: Any) -> Whole:
    """A result: its format, where it comes from, and what it tells."""
    about = {} if context is None else msgspec.structs.asdict(context)
    return {"format": format_, **about, **more}


def write_audit(result: AuditResult) -> Iterator[bytes]:
    """Write `ovek.audit/1` piece by piece."""
    yield b'{"as_of":' + _ENCODER.encode(result.context.as_of) + b',"devices":['
    comma = b"\n"
    for device in result.lines():
        yield comma + device
        comma = b",\n"
    head = {
        "format": "ovek.audit/1",
        "knowing": result.context.knowing,
        "not_read": list(result.not_read),
        "only": list(result.only),
        "selected": result.context.selected,
        "site": result.context.site,
        "snapshots": result.context.snapshots,
        "summary": result.summary,
        "unused_waivers": list(result.unused),
    }
    yield b"],\n" + _ENCODER.encode(head)[1:] + b"\n"


def compare(
    context: Context,
    before: Context,
    expect: str | None,
    found: Iterable[DeviceCompare],
    not_read: Iterable[Unread],
    tally: Tally,
) -> Whole:
    """Make `ovek.compare/1`; `before` is where the older state comes from."""
    devices = list(found)
    outcomes = ("changed", "same", "new", "gone")
    summary: dict[str, Any] = {
        name: sum(one.outcome == name for one in devices) for name in outcomes
    }
    summary["done"] = sum(one.done is True for one in devices)
    summary["not_done"] = sum(one.done is False for one in devices)
    summary["worse"] = sum(one.worse for one in devices)
    return _whole(
        "ovek.compare/1",
        context,
        before=before.snapshots,
        expect=expect,
        summary=summary,
        answers=tally,
        devices=devices,
        not_read=list(not_read),
    )


def baseline(name: str, context: Context, devices: int) -> Whole:
    """Make `ovek.baseline/1`: `devices` of those snapshots were kept under a name."""
    return _whole("ovek.baseline/1", context, name=name, devices=devices)


def runbooks(
    context: Context,
    found: Iterable[Runbook],
    waves: Waves,
    not_read: Iterable[Unread],
    tally: Tally,
) -> Whole:
    """Make `ovek.runbook/1`."""
    return _whole(
        "ovek.runbook/1",
        context,
        answers=tally,
        waves=list(waves.waves),
        misfits=list(waves.misfits),
        devices=list(found),
        not_read=list(not_read),
    )


def followed(context: Context, found: Iterable[Followed], gone: Iterable[str]) -> Whole:
    """Make `ovek.runbook-confirmed/1`; `gone` are the devices that the later snapshot lacks."""
    return _whole("ovek.runbook-confirmed/1", context, devices=list(found), not_there=list(gone))


def rules(cards: Iterable[RuleCard]) -> Whole:
    """Make `ovek.rules/1`."""
    return _whole("ovek.rules/1", None, rules=list(cards))


def policy(
    context: Context, wanted: Policy, waivers: Iterable[Waiver], marks: Iterable[str | None]
) -> Whole:
    """Make `ovek.policy-check/1`: a sound policy with its defaults, and the waivers.

    Each waiver has a `mark`: `expired`, `unused` or null.
    """
    told = [
        {**msgspec.structs.asdict(waiver), "mark": mark}
        for waiver, mark in zip(waivers, marks, strict=True)
    ]
    return _whole("ovek.policy-check/1", context, policy=wanted, waivers=told)


def pruned(context: Context, kept: Iterable[str], removed: Iterable[str]) -> Whole:
    """Make `ovek.pruned/1`: the snapshots that were kept and removed."""
    return _whole("ovek.pruned/1", context, kept=list(kept), removed=list(removed))


def survey(
    context: Context | None, snapshot: str, devices: Iterable[Surveyed], began: datetime
) -> Whole:
    """Make `ovek.survey/1`; `began` is when it did, `seconds` how long a device took."""
    return _whole("ovek.survey/1", context, snapshot=snapshot, began=began, devices=list(devices))


def learned(told: Learned) -> Whole:
    """Make `ovek.learned/1`."""
    return _whole("ovek.learned/1", None, **msgspec.structs.asdict(told))


def sheet_fields(
    things: Mapping[Fills, Mapping[str, Field]], wording: Mapping[str, Sequence[str]]
) -> Whole:
    """Make `ovek.sheet-fields/1`."""
    rows = [
        {"thing": thing, "field": name, **msgspec.structs.asdict(field)}
        for thing, fields in things.items()
        for name, field in fields.items()
    ]
    return _whole("ovek.sheet-fields/1", None, fields=rows, wording=dict(wording))


def sheet_trial(tried: SheetTrial) -> Whole:
    """Make `ovek.sheet-trial/1`."""
    return _whole("ovek.sheet-trial/1", None, **msgspec.structs.asdict(tried))


def custody(context: Context, found: Iterable[Custody], not_read: Iterable[Unread]) -> Whole:
    """Make `ovek.custody/1`."""
    return _whole("ovek.custody/1", context, images=list(found), not_read=list(not_read))


def where(
    context: Context, text: str, found: Iterable[Holding], not_read: Iterable[Unread]
) -> Whole:
    """Make `ovek.where/1`; `known_at` is when a digest was measured, or the device read."""
    return _whole("ovek.where/1", context, sought=text, copies=list(found), not_read=list(not_read))


def shelf(context: Context, looks: Sequence[Look], offered: Offer | None = None) -> Whole:
    """Make `ovek.shelf/1`; a file inside an archive is `ARCHIVE!PATH`. `offer`: for a device.

    Of several shelves each path has the name of its shelf in front.
    """
    several = len(looks) > 1
    files = [
        replace(one, path=f"{look.name}/{one.path}") if several else one
        for look in looks
        for one in look.files
    ]
    shelves = [
        {"name": one.name, "at": one.at, "read_at": one.read_at, "files": len(one.files),
         "problem": one.problem}
        for one in looks
    ]  # fmt: skip
    folder = looks[0].at if len(looks) == 1 else None
    return _whole(
        "ovek.shelf/1", context, folder=folder, shelves=shelves, files=files, offer=offered
    )


def releases(context: Context, found: Iterable[KnownRelease]) -> Whole:
    """Make `ovek.releases/1`: what all sources together say of each release."""
    return _whole("ovek.releases/1", context, releases=list(found))


def catalog_check(context: Context, found: Iterable[CatalogMistake]) -> Whole:
    """Make `ovek.catalog-check/1`."""
    return _whole("ovek.catalog-check/1", context, mistakes=list(found))


def upgrade_path(context: Context, found: Route) -> Whole:
    """Make `ovek.path/1`; `hops` is null where there is no way, or it is not `known`."""
    return _whole("ovek.path/1", context, **msgspec.structs.asdict(found))


def pick(context: Context, found: Pick) -> Whole:
    """Make `ovek.pick/1`; `chosen` is null where no release is for the device."""
    return _whole("ovek.pick/1", context, **msgspec.structs.asdict(found))


def bootwalk(
    context: Context,
    walks: Iterable[DeviceWalk],
    supposed: Iterable[str] = (),
    before: Iterable[DeviceWalk] = (),
    not_read: Iterable[Unread] = (),
    tally: Tally | None = None,
) -> Whole:
    """Make `ovek.bootwalk/1`: the walks; with what-ifs, what is supposed and the walks as is."""
    whole = _whole(
        "ovek.bootwalk/1", context, answers=tally, devices=_plain(walks), not_read=list(not_read)
    )
    if supposed := list(supposed):
        whole |= {"supposed": supposed, "as_it_is": _plain(before)}
    return whole


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
    context: Context,
    plans: Iterable[bytes],
    totals: CleanupTotals,
    not_read: Iterable[Unread],
) -> Iterator[bytes]:
    """Write `ovek.cleanup/1` piece by piece, with totals; `plans` are JSON already."""
    head = _ENCODER.encode(_whole("ovek.cleanup/1", context, not_read=list(not_read)))
    yield head[:-1] + b',"plans":['
    comma = b"\n"
    for plan in plans:
        yield comma + plan
        comma = b",\n"
    yield b'],\n"totals":' + _ENCODER.encode(totals) + b"}\n"


def cleanup_confirmed(context: Context, snapshot: str, found: Iterable[Confirmed]) -> Whole:
    """Make `ovek.cleanup-confirmed/1`."""
    return _whole("ovek.cleanup-confirmed/1", context, snapshot=snapshot, plans=list(found))


def cleanup(context: Context, plans: Iterable[CleanupPlan], not_read: Iterable[Unread]) -> Whole:
    """Make `ovek.cleanup/1`; the free figures are in bytes."""
    return _whole("ovek.cleanup/1", context, plans=list(plans), not_read=list(not_read))


def history_added(context: Context, added: Iterable[tuple[Any, int]], store: StoreState) -> Whole:
    """Make `ovek.history/1` of what was taken in."""
    told = [{"file": file.name, "readings": number} for file, number in added]
    return _whole("ovek.history/1", context, added=told, store=store)


def history_device(
    context: Context, device: str, readings: Iterable[datetime], events: Iterable[Event]
) -> Whole:
    """Make `ovek.history/1` of one device: when it was read, and its life."""
    return _whole(
        "ovek.history/1", context, device=device, readings=list(readings), events=list(events)
    )


def history_image(
    context: Context,
    image: str,
    copies: Iterable[Held],
    vouched: Iterable[Vouched],
    ran: Iterable[Held],
) -> Whole:
    """Make `ovek.history/1` of one image: its copies, who ran it, and who vouches for it."""
    return _whole(
        "ovek.history/1",
        context,
        image=image,
        copies=list(copies),
        ran=list(ran),
        vouched=list(vouched),
    )


def history_finding(context: Context, rule: str, found: Iterable[Opened]) -> Whole:
    """Make `ovek.history/1` of one rule's findings."""
    return _whole("ovek.history/1", context, rule=rule, findings=list(found))


def history_trend(context: Context, found: Iterable[Day]) -> Whole:
    """Make `ovek.history/1` of the days of a fleet."""
    return _whole("ovek.history/1", context, days=list(found))

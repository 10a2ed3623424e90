"""Audit a fleet: what was found before is taken again where it still holds."""

import logging
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Protocol

import msgspec
from msgspec import Struct, field
from msgspec.structs import asdict, replace

from ovek.app.answering import Answering
from ovek.app.audit_cache import Again, Basis, KnownAudit, MadeAudit, basis_of
from ovek.app.devices import Devices
from ovek.app.marking import mark_changes
from ovek.app.policy import check_policy, contradiction
from ovek.app.rules import known_rule
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.shelves import shelf_of
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine.answer import unread
from ovek.engine.audit import audit_within, rule_cards
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.cache import KeptRow, keep
from ovek.files.cache_content import tidy
from ovek.files.spool import Spool
from ovek.model.answer import Answered
from ovek.model.finding import AuditSummary, DeviceAudit
from ovek.model.plan import Unlock
from ovek.model.results.audit import FleetAudit
from ovek.model.shelf import ShelfFacts
from ovek.model.waiver import Waiver

_LOG = logging.getLogger(__name__)


class AuditShaper(Protocol):
    """What makes something of each audit, wherever the audits are made."""

    @property
    def widths(self) -> list[int]:
        """How wide the columns of what was made are."""

    def row(self, audit: DeviceAudit) -> Struct:
        """What is made of one audit."""


AuditShape = Callable[[], AuditShaper]


def audit(
    devices: Devices,
    now: datetime | None = None,
    *,
    only: Sequence[str] = (),
    may_drop: Iterable[Unlock] = (),
    shape: AuditShape | None = None,
) -> FleetAudit:
    """Audit devices: the answer for each, its findings and its plan; `.devices` has them.

    `now` is what ages count against, `only` are the rules asked for, `may_drop` is what a plan may
    delete though it is kept. `shape` is what is made of each audit at once, for whoever needs no
    more of it. Raises InputError; UsageError for a rule that there is none of.

    >>> from ovek import audit, open_site, select
    >>> (quay,) = audit(select(open_site("skerrow-ferries"), ["arle-quay"])).devices
    >>> quay.answer, quay.findings[0].rule
    ('no-go', 'boot-target-missing')
    """
    for slug in only:
        known_rule(slug, "--only")
    site, now = devices.site, now or now_of(devices.site)
    check_policy(site, devices.releases)
    shelf, allowed = shelf_of(devices), frozenset(may_drop)
    basis = None if only or allowed or not devices.newest else basis_of(devices, shelf)
    summary, used, spool = AuditSummary(), set[Waiver](), Spool(DeviceAudit)
    fresh, widths = Spool(KeptRow), list[list[int]]()
    held, last = list[Answered](), None
    for part in each_part(devices, _AUDIT, now, shelf, frozenset(only), basis, allowed, shape):
        summary.join(part.summary)
        used |= part.used
        widths.append(part.widths)
        held += part.held
        last = part.last or last
        for row in part.fresh:
            fresh.add(row)
        for line in part.lines:
            spool.add_line(line)
    never = [unread(one) for one in devices.not_read if one.last_read is None]
    for one in never:
        summary.add_never()
        last = one
    whole = not devices.selected and not only
    if basis is not None and (fresh.number or whole):
        keep(basis.file, site.folder, fresh, devices.state.names if whole else None)
        tidy()
    _LOG.info("%d devices audited, %d of them not from the cache", summary.devices, fresh.number)
    mark_changes(site)
    return FleetAudit(
        **asdict(devices.context(now)),
        not_read=devices.not_read,
        answered=[*held, *never],
        devices=spool if shape is None else Spool(DeviceAudit),
        summary=summary,
        only=only,
        unused_waivers=unused(devices, used) if whole else [],
        one=last if summary.devices == 1 else None,
        releases=len(devices.releases.releases),
        cards=rule_cards(),
        shaped=None if shape is None else spool,
        widths=widths,
    )


class _Audited(Struct):
    """The audit of some devices: a line of JSON each, and what they add up to.

    The lines are of DeviceAudit, or what was made of it; `widths` are those of its columns.
    `held` are the answers that are no plain go, `last` is that of the last device. `fresh` are the
    results that were not known from before.
    """

    lines: list[bytes] = []
    summary: AuditSummary = field(default_factory=AuditSummary)
    used: set[Waiver] = field(default_factory=set)
    held: list[Answered] = []
    last: Answered | None = None
    widths: list[int] = []
    fresh: list[KeptRow] = []


def _auditing(
    devices: Devices,
    now: datetime,
    shelf: ShelfFacts | None,
    only: frozenset[str],
    basis: Basis | None,
    may_drop: frozenset[Unlock],
    shape: AuditShape | None,
) -> Part[_Audited]:
    """What audits some devices of a site."""
    answering = Answering(devices, now, shelf, plans=True, may_drop=may_drop)
    again = Again(basis, devices, now) if basis is not None else None
    encode = msgspec.json.Encoder(order="sorted").encode

    def audit_part(lines: Iterable[DeviceLine]) -> _Audited:
        part = _Audited()
        shaper = shape() if shape is not None else None
        for line in lines:
            result = _one(line, answering, again)
            part.used.update(result.used)
            if only:
                findings = tuple(each for each in result.audit.findings if each.rule in only)
                result = MadeAudit(replace(result.audit, findings=findings), (), ())
            part.summary.join(result.summary)
            part.last = answer = result.answer
            if only and not result.audit.findings:
                continue
            if answer.answer != "go" or answer.waived:
                part.held.append(answer)
            part.lines.append(result.line if shaper is None else encode(shaper.row(result.audit)))
        if shaper is not None:
            part.widths = shaper.widths
        if again is not None:
            part.fresh, again.rows = again.rows, []
        return part

    return audit_part


def _one(line: DeviceLine, answering: Answering, again: Again | None) -> MadeAudit | KnownAudit:
    """The audit of one device, as it was found before where that still holds."""
    terms = answering.terms_of(line.name)
    known = again.find(line.name, line.line, terms) if again is not None else None
    if known is not None:
        return known
    device, used = line.device, set[Waiver]()
    judged = judge_device(device, line.devices.judge(device))
    try:
        audit, bounds = audit_within(judged, answering.wants, terms, used, shapes=answering.shapes)
    except ContradictionError as error:
        raise contradiction(answering.devices.site, error) from None
    result = MadeAudit(audit, bounds, tuple(used))
    if again is not None:
        again.put(device, line.text, result)
    return result


_AUDIT = Work(_auditing, _Audited)


def used_waivers(devices: Devices, now: datetime) -> set[Waiver]:
    """The waivers that some device needs by its latest reading."""
    shelf, nothing = shelf_of(devices), frozenset({""})  # no rule has that name
    parts = each_part(devices, _AUDIT, now, shelf, nothing, None, frozenset(), None)
    return {waiver for part in parts for waiver in part.used}


def unused(devices: Devices, used: set[Waiver]) -> list[Waiver]:
    """The waivers that were of no use; one for a device that was not read may be of use yet."""
    unread_ = [one.device for one in devices.not_read]
    return [
        waiver
        for waiver in devices.site.waivers
        if waiver not in used and not any(fnmatchcase(name, waiver.device) for name in unread_)
    ]

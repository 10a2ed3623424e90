"""All that there is to show of a fleet, and the pages that show it."""

import hashlib
import logging
from collections.abc import Callable, Collection, Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import asdict, replace

from ovek.app.answering import with_unread
from ovek.app.devices import Devices
from ovek.app.marking import has_history
from ovek.app.policy import check_policy
from ovek.app.runbooks import Planning
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.shelves import judged_shelves, shelf_of
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine import custody
from ovek.engine.audit import answer_in, audit_judged, rule_cards
from ovek.engine.flash import flash_of
from ovek.engine.news import news, standing_of
from ovek.engine.plan import Asked, plan
from ovek.engine.rules import Subject
from ovek.engine.runbook import runbook_of
from ovek.engine.verdicts import standing_images
from ovek.files.atomic import write_whole
from ovek.files.decode import cannot_read
from ovek.files.errors import DamagedError, InputError
from ovek.files.reports import remembered_in, remembering
from ovek.files.safe_open import opened
from ovek.files.site import Site
from ovek.files.spool import Spool
from ovek.model.answer import Answered
from ovek.model.custody import Custody, Sighting
from ovek.model.finding import DeviceAudit, uses_of
from ovek.model.history import Day
from ovek.model.report import (
    FORMAT,
    AdvisoryUse,
    ImageState,
    Remembered,
    ReportDevice,
    ReportImage,
)
from ovek.model.results.report import FleetReport
from ovek.model.shelf import ShelfFacts
from ovek.model.usage import UsageError

_LOG = logging.getLogger(__name__)
ON_A_PAGE = 2_000
# Goes through the pages of a folder, at most so many devices each: name and content.
Pages = Callable[[FleetReport, int], Iterable[tuple[str, Iterable[bytes]]]]


def report(
    devices: Devices, now: datetime | None = None, *, earlier: Remembered | None = None
) -> FleetReport:
    """All that there is to show of devices; the news since an earlier report. Raises InputError.

    >>> from ovek import open_site, report, select
    >>> shown = report(select(open_site("skerrow-ferries"), ["arle-quay"]))
    >>> [one.device for one in shown.devices], shown.news
    (['arle-quay'], None)
    """
    site, now = devices.site, now or now_of(devices.site)
    check_policy(site, devices.releases)
    spool, copies = Spool(ReportDevice), list[tuple[str | None, Sighting]]()
    held, standings = list[Answered](), dict[str, ImageState]()
    uses = list[tuple[str, str, str]]()
    for part in each_part(devices, _REPORT, now, shelf_of(devices)):
        for line in part.lines:
            spool.add_line(line)
        held += part.answers
        standings |= part.standings
        copies += part.copies
        uses += part.uses
    for one in devices.not_read:
        if one.last_read is None:
            standings[one.device] = ImageState("unclear", "unknown", ())
    if earlier is not None and devices.selected:
        # Of a device that was not asked about nothing is news.
        ours = {name: one for name, one in earlier.devices.items() if name in standings}
        earlier = replace(earlier, devices=ours)
    return FleetReport(
        **asdict(devices.context(now)),
        answered=with_unread(devices, held),
        devices=spool,
        cards=rule_cards(),
        news=news(earlier, standings) if earlier is not None else None,
        images=_followed(devices, copies),
        sources=tuple(_sources(devices)),
        not_read=tuple(devices.not_read),
        days=_days(devices),
        advisories=_advisories(site, uses),
        remembered=remembering(
            Remembered(format=FORMAT, as_of=now, site=site.head.name, devices=standings)
        ),
    )


def is_folder(output: Path) -> bool:
    """Whether a folder of pages is asked for."""
    return output.is_dir() or str(output).endswith("/") or not output.suffix


def check_size(shown: FleetReport, page: Path) -> None:
    """Raise UsageError where a fleet is too large for one page."""
    number = shown.devices.number
    if number > ON_A_PAGE:
        text = f"{number} devices are too many for one page; give a folder: -o {page.stem}/"
        raise UsageError(text)


def earlier_report(since: Path | None, page: Path | None) -> Remembered | None:
    """What an earlier page remembers: the one that is named, else the one that is there.

    Raises InputError for one that is named and is no report.
    """
    if since is not None:
        return remembered_in(since / "index.html" if since.is_dir() else since)
    if page is None or not page.exists():
        return None
    try:
        return remembered_in(page)
    except InputError as error:
        raise InputError(
            error.file,
            f"already exists and {error.met}; not overwritten",
            "Choose another name, or delete it first",
        ) from None


def write_pages(shown: FleetReport, folder: Path, pages: Pages, *, over: bool) -> None:
    """Write a folder of pages; `over`: those of an earlier report go. Raises InputError."""
    names = set[str]()
    for name, chunks in pages(shown, ON_A_PAGE // 2):
        write_whole(folder / name, chunks)
        names.add(name)
    if over:
        _remove_old(folder, names)


def _remove_old(folder: Path, names: Collection[str]) -> None:
    """Remove the pages of an earlier and larger fleet: nothing leads to them any more."""
    for file in folder.glob("part-[0-9][0-9][0-9].html"):
        if file.name not in names:
            file.unlink(missing_ok=True)


class _Reported(msgspec.Struct):
    """What a report tells of some devices, a line of JSON each, and what they add up to."""

    lines: list[bytes] = []
    answers: list[Answered] = []
    standings: dict[str, ImageState] = {}
    copies: list[tuple[str | None, Sighting]] = []
    uses: list[tuple[str, str, str]] = []  # an advisory, what is affected, and the device


def _reporting(devices: Devices, now: datetime, shelf: ShelfFacts | None) -> Part[_Reported]:
    """What finds all that a report tells of some devices of a site."""
    planning = Planning(devices, now, shelf, devices.site.policy)
    encode = msgspec.json.Encoder(order="sorted").encode

    def report_part(lines: Iterable[DeviceLine]) -> _Reported:
        part = _Reported()
        for line in lines:
            subject = planning.subject(line.judged())
            audit, told = _one(planning, subject)
            answer = answer_in(audit)
            part.lines.append(encode(told))
            part.answers.append(answer)
            part.standings[line.name] = standing_of(told)
            part.copies += custody.on_flash(subject.judged)
            part.uses += [(*use, line.name) for use in sorted(uses_of(audit.findings))]
        return part

    return report_part


_REPORT = Work(_reporting, _Reported)


def _one(planning: Planning, subject: Subject) -> tuple[DeviceAudit, ReportDevice]:
    """The audit of one device, and what a report tells of it."""
    answering, device = planning.answering, subject.judged.device
    asked = Asked(waivers=answering.terms.waivers)
    rates = answering.rates(device.device)
    terms = replace(answering.terms_of(device.device), plans=True, rates=rates)
    planned = plan(subject, asked)
    audit = audit_judged(subject.judged, planning.wants, terms, made=planned)
    book = runbook_of(subject, planned, planning.wants, asked, rates)
    of_device: dict[str, Any] = {key: getattr(audit, key) for key in _OF_DEVICE}
    return audit, ReportDevice(
        **of_device,
        target=book.target,
        walk=subject.walk,
        images=_images(audit, subject),
        flash=flash_of(subject),
        runbook=book,
        evidence=(device.source.evidence or ()) if device.source is not None else (),
    )


_OF_DEVICE = (
    "device", "site", "role", "sheet", "model", "taken_at", "answer", "reason", "why", "not_read",
    "next_boot", "on_target", "boots", "findings",
)  # fmt: skip


def _images(audit: DeviceAudit, subject: Subject) -> tuple[ReportImage, ...]:
    """The images of a device as its audit names them, each with all of its digests."""
    return tuple(
        ReportImage(
            **asdict(audited),
            why=one.judgement.why,
            size=one.size,
            digests=tuple(one.digests) if one.digests is not None else (),
        )
        for audited, one in zip(audit.images, standing_images(subject.judged), strict=True)
    )


def _advisories(site: Site, uses: Iterable[tuple[str, str, str]]) -> list[AdvisoryUse]:
    """The advisories that affect some device, the highest score first."""
    by_advisory: dict[str, dict[str, list[str]]] = {}
    for advisory, use, device in uses:
        by_advisory.setdefault(advisory, {}).setdefault(use, []).append(device)
    affecting = [advisory for advisory in site.advisories if advisory.id in by_advisory]
    advisories = [
        AdvisoryUse(
            id=advisory.id,
            title=advisory.title,
            score=max(
                (one.score for one in advisory.vulnerabilities if one.score is not None),
                default=None,
            ),
            devices={use: tuple(names) for use, names in by_advisory[advisory.id].items()},
        )
        for advisory in affecting
    ]
    return sorted(advisories, key=lambda one: (-(one.score or 0), one.id))


def _followed(devices: Devices, copies: list[tuple[str | None, Sighting]]) -> list[Custody]:
    """The images that lie on flash, followed from where they were published."""
    measured = {name for _, copy in copies for name, _ in copy.digests}
    for order, (name, judged, seen) in enumerate(
        judged_shelves(devices.site, devices.releases, (), measured, bar=devices.bar)
    ):
        copies += custody.on_shelf(judged, name, order, seen)
    found = custody.follow(devices.releases, copies)
    return [one for one in found if any(c.device for g in one.groups for c in g.copies)]


def _sources(devices: Devices) -> Iterator[tuple[str, int, str]]:
    """The files that the report was made of: name, size in bytes and SHA-256."""
    for name, data in sorted(devices.site.known_files().items()):
        yield name, len(data), hashlib.sha256(data).hexdigest()
    from ovek.sources.shelf import digest_stream

    for file in devices.chosen.used:
        try:
            with opened(file) as stream:
                size, digests = digest_stream(stream, ["sha256"], lambda size: None)
        except OSError as error:
            raise cannot_read(file, error) from None
        yield f"snapshots/{file.name}", size, digests.sha256 or ""


def _days(devices: Devices) -> list[Day]:
    """How the fleet stood on the last days, where there is a history of them."""
    site = devices.site
    if devices.selected or site.until is not None or not has_history(site):
        return []
    from ovek.app.history import days_of, store_of

    try:
        store = store_of(site, make=False)
        return days_of(site, store, "60d") if store is not None else []
    except DamagedError:
        raise
    except InputError as error:
        _LOG.warning("the days are not shown: %s", error)
        return []

"""`ovek report`: what there is to show of the fleet, on a page that needs nothing else."""

import hashlib
from collections.abc import Collection, Iterator
from datetime import datetime
from pathlib import Path

import click
import msgspec
from msgspec.structs import replace

from ovek.app.answering import with_unread
from ovek.app.devices import Devices
from ovek.app.marking import has_history
from ovek.app.policy import check_policy
from ovek.app.shelves import judged_shelves, shelf_facts
from ovek.app.work import Work
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command, OneOf
from ovek.cli.fleetwide import each_part
from ovek.cli.options import SNAPSHOT, exit_code, write_bytes, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.runbook import Planning
from ovek.cli.say import tell
from ovek.cli.selection import Selection, on_option, selecting
from ovek.engine import custody
from ovek.engine.audit import answer_in, audit_judged, rule_cards
from ovek.engine.flash import flash_of
from ovek.engine.news import news, standing_of
from ovek.engine.plan import Asked, plan
from ovek.engine.rules import Subject
from ovek.engine.runbook import runbook_of
from ovek.engine.verdicts import Judge
from ovek.files.errors import DamagedError, InputError
from ovek.files.regular import opened
from ovek.files.reports import remembered_in, remembering
from ovek.files.spool import Spool
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.answer import Answered
from ovek.model.custody import Custody, Sighting
from ovek.model.history import Day
from ovek.model.report import FORMAT, Remembered, ReportDevice, ReportImage, Standing
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device

_ON_A_PAGE = 2_000


@click.command(
    "report",
    cls=Command,
    examples=("report -o fleet.html", "report --where role=core --format markdown"),
)
@click.option(
    "-o",
    "--output",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="The page to write; a folder (also one that ends in /) gets a page for each part of the "
    "fleet. One that is there is what the news are told since.",
)
@click.option(
    "--since",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Tell the news since this earlier page instead.",
)
@click.option(
    "--format",
    "format_",
    type=OneOf(["html", "markdown"]),
    default="html",
    help="A page, or a short form for a ticket (default: html).",
)
@as_of_options
@on_option
@SNAPSHOT
@selecting
def command(output: Path | None, since: Path | None, format_: str, selected: Selection) -> None:
    """Write a page about the fleet (or each DEVICE, a name or glob): the answer, then all of it.

    One file that needs no network and no other file: who goes and what stands in the way of the
    others, the news since the last page, a table to sort and filter, and of each device its next
    start as a path, its images with whole digests, its flash to scale, its findings and what is
    left to do. Of more than 2,000 devices it is a folder of pages.
    """
    from ovek.render.report import Report

    if output is None and format_ == "html":
        raise click.UsageError("say where the page goes: ovek report -o FILE.html")
    site, devices = selected.site, selected.devices()
    check_policy(site, devices.releases)
    now = selected.now
    shelf = shelf_facts(site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
    found, copies = Spool(ReportDevice), list[tuple[str | None, Sighting]]()
    held, standings = list[Answered](), dict[str, Standing]()
    for part in each_part(devices, Reporting, now, shelf):
        for line in part.lines:
            found.add_line(line)
        held += part.answers
        standings |= part.standings
        copies += part.copies
    answers = with_unread(devices, held)
    for one in devices.not_read:
        if one.last_read is None:
            standings[one.device] = Standing("unclear", "not known", ())
    as_page = format_ == "html" and output is not None
    as_folder = as_page and output is not None and _is_folder(output, found.number)
    page = output / "index.html" if output is not None and as_folder else output
    earlier = _earlier(since, page if as_page else None)
    if earlier is not None and not selected.everything:
        # Of a device that was not asked about nothing is news.
        ours = {name: one for name, one in earlier.devices.items() if name in standings}
        earlier = replace(earlier, devices=ours)
    report = Report(
        context=devices.context(now, selected.told()),
        answers=answers,
        devices=found,
        number=found.number,
        cards=rule_cards(),
        news=news(earlier, standings) if earlier is not None else None,
        images=_followed(devices, copies),
        sources=tuple(_sources(devices)),
        not_read=tuple(devices.not_read),
        days=_days(selected),
        remembered=remembering(
            Remembered(format=FORMAT, as_of=now, site=site.fleet.name, devices=standings)
        ),
    )
    if format_ == "markdown":
        from ovek.render.report import short

        text = short(report)
        if output is None:
            write_bytes([text])
        else:
            write_whole(output, [text])
    elif page is not None:
        from ovek.render.report import pages, whole_page

        if as_folder:
            names = set[str]()
            for name, chunks in pages(report, _ON_A_PAGE // 2):
                write_whole(page.parent / name, chunks)
                names.add(name)
            if earlier is not None and since is None:
                _remove_old(page.parent, names)
        else:
            write_whole(page, whole_page(report))
    if output is not None:
        from ovek.render.report import written

        write_lines(written(report, str(page)))
    exit_code(False, devices)


def _remove_old(folder: Path, names: Collection[str]) -> None:
    """Remove the pages of an earlier and larger fleet: nothing leads to them any more."""
    for file in folder.glob("part-[0-9][0-9][0-9].html"):
        if file.name not in names:
            file.unlink(missing_ok=True)


def _is_folder(output: Path, devices: int) -> bool:
    """Whether a folder of pages is asked for; raises UsageError where one page is too much."""
    if output.is_dir() or str(output).endswith("/") or not output.suffix:
        return True
    if devices > _ON_A_PAGE:
        told = f"{devices} devices are too many for one page; name a folder: -o {output.stem}/"
        raise click.UsageError(told)
    return False


def _earlier(since: Path | None, page: Path | None) -> Remembered | None:
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
            error.file, f"is there and {error.met}", "Name another file, or remove it first"
        ) from None


class Part(msgspec.Struct):
    """What a report tells of some devices, a line of JSON each, and what they add up to."""

    lines: list[bytes] = []
    answers: list[Answered] = []
    standings: dict[str, Standing] = {}
    copies: list[tuple[str | None, Sighting]] = []


class Reporting(Work[Part]):
    """Finds all that a report tells of the devices of a site."""

    makes = Part

    def __init__(self, devices: Devices, now: datetime, shelf: ShelfFacts | None) -> None:
        asked = Asked(waivers=devices.site.waivers)
        self.planning = Planning(devices, now, shelf, devices.site.policy, asked)
        self.part = Part()
        self._encode = msgspec.json.Encoder(order="sorted").encode

    def take(self, device: Device, judge: Judge) -> None:
        """Find it for one device."""
        planning, part = self.planning, self.part
        subject = planning.subject(device, judge)
        rates = planning.answering.rates(device.device)
        terms = replace(planning.answering.terms_of(device.device), plans=True, rates=rates)
        planned = plan(subject, planning.asked)
        audit = audit_judged(subject.judged, planning.wants, terms, made=planned)
        book = runbook_of(subject, planned, planning.wants, planning.asked, rates)
        of_device = {key: getattr(audit, key) for key in _OF_DEVICE}
        made = ReportDevice(
            **of_device,
            wants=book.wants,
            walk=subject.walk,
            images=_images(subject, {one.place: one.needed for one in audit.images}),
            flash=flash_of(subject),
            runbook=book,
            evidence=(device.source.evidence or ()) if device.source is not None else (),
        )
        answer = answer_in(audit)
        part.lines.append(self._encode(made))
        part.answers.append(answer)
        part.standings[device.device] = standing_of(made)
        part.copies += custody.on_flash(subject.judged)

    def result(self) -> Part:
        """The part that is done."""
        done, self.part = self.part, Part()
        return done


_OF_DEVICE = (
    "device", "site", "role", "sheet", "model", "taken_at", "answer", "reason", "why", "not_read",
    "reload", "on_target", "starts", "findings",
)  # fmt: skip


def _images(subject: Subject, needed: dict[str, bool]) -> tuple[ReportImage, ...]:
    """The images of a device as an audit names them, each with all of its digests."""
    several = len(subject.members) > 1
    found = []
    for member in subject.members:
        by_themselves = (image for image in member.one.banks.values() if not image.parts)
        for image in (*member.one.images.values(), *by_themselves):
            place = str(image.place.on(member.id if several else None))
            judgement, file = image.judgement, image.file
            bank = None if file is not None else member.one.member.bank(image.place.path)
            digests = file.digests if file is not None else bank.digests if bank else None
            found.append(
                ReportImage(
                    place=place,
                    verdict=judgement.verdict,
                    why=judgement.why,
                    release=judgement.release.file if judgement.release is not None else None,
                    by=judgement.by,
                    size=file.size if file is not None else None,
                    digests=tuple(digests) if digests is not None else (),
                    measured_at=file.digests_at if file is not None else None,
                    needed=needed.get(place, False),
                )
            )
    return tuple(found)


def _followed(devices: Devices, copies: list[tuple[str | None, Sighting]]) -> list[Custody]:
    """The images that lie on flash, followed from where they were published."""
    measured = {name for _, copy in copies for name, _ in copy.digests}
    for order, (name, judged, seen) in enumerate(
        judged_shelves(devices.site, devices.releases, (), measured, bar=bytes_bar)
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


def _days(selected: Selection) -> list[Day]:
    """How the fleet stood on the last days, where there is a history of them."""
    site = selected.site
    if not selected.everything or selected.as_of is not None:
        return []
    if not has_history(site):
        return []
    from ovek.app.history import days_of, store_of

    try:
        store = store_of(site, make=False)
        return days_of(site, store, "60d") if store is not None else []
    except DamagedError:
        raise
    except InputError as error:
        tell(f"the days are left out: {error}")
        return []

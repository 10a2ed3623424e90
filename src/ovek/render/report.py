"""A report: one page of HTML that needs nothing else, or its short form in Markdown.

The answer, the table and the lists stand in the page as they are; what there is to say of a device
comes packed, and the page's own script draws it when it is opened. Whatever comes from a device or
a file is text here: Jinja2 escapes it, the script sets it as text.
"""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import lru_cache
from importlib import resources
from typing import Any, get_args

import msgspec
from msgspec import Struct

from ovek.model.age import show_age
from ovek.model.answer import (
    ANOTHER,
    ANSWERS_WORST_FIRST,
    CONFIG_UNKNOWN,
    NOTHING,
    UNKNOWN,
    UNPROVEN,
    UNREAD,
    UNWANTED,
    Tally,
)
from ovek.model.custody import Custody
from ovek.model.digest import TITLES
from ovek.model.finding import SEVEREST_FIRST, AffectedUse
from ovek.model.flash import CONTENTS, VolumeUse
from ovek.model.history import Day
from ovek.model.packing import packed
from ovek.model.report import News, ReportDevice, ReportImage
from ovek.model.results.report import FleetReport
from ovek.model.runbook import Runbook
from ovek.model.size import show_mib, show_share
from ovek.model.unread import Unread
from ovek.model.walk import Candidate, MemberWalk
from ovek.render.answer import held_back, of_fleet
from ovek.render.bootwalk import falls, result_of, starts_of, summary_of
from ovek.render.cells import next_boot, open_severities, proven, proven_of, running, worst_of
from ovek.render.context import of_device
from ovek.render.context import told as told_context
from ovek.render.extra import NoExtraError
from ovek.render.lines import count, listed
from ovek.render.markdown import escaped, table
from ovek.render.runbook import details, headline, safe, stands
from ovek.render.steps import danger_of
from ovek.render.unread import why
from ovek.render.view import View
from ovek.render.visible import visible

_MOST = 60  # lines of a list that a page shows
MARKS = {"go": "✓", "no-go": "✗", "unclear": "?"}
PageTable = tuple[Sequence[str], Sequence[Sequence[Any]]]


def headline_of(report: FleetReport) -> str:
    """The first line."""
    return of_fleet(report.tally, report)


# What the answers that are no rule's mean, for who does not work with it every day.
_REASONS = {
    NOTHING: "A reload would end in the boot loader, and the device stays down.",
    UNPROVEN: "The next boot image is not verified against the publisher's digest.",
    UNKNOWN: "It is unknown what this device would boot.",
    UNREAD: "The current state of the device is unknown.",
    UNWANTED: "A reload would boot a version that is neither running nor the target.",
    ANOTHER: "A reload would change the version, and no target says which one is intended.",
    CONFIG_UNKNOWN: "A device that boots without its saved configuration is usually unreachable.",
}


class Obstacle(Struct, frozen=True):
    """What stands in the way of some devices: in a few words, why that matters, and of whom."""

    answer: str
    what: str
    reason: str
    devices: tuple[str, ...]


def obstacles(report: FleetReport) -> list[Obstacle]:
    """What stands in the way, of most devices first, `no-go` before `unclear`."""
    reasons = _REASONS | {card.slug: card.reason for card in report.cards}
    found: dict[tuple[str, str], list[str]] = {}
    for one in held_back(report.answered):
        if one.answer != "go":
            what = one.why or one.detail
            found.setdefault((one.answer, what), []).append(one.device)
    made = [
        Obstacle(answer, what, reasons.get(what, ""), tuple(names))
        for (answer, what), names in found.items()
    ]
    order: list[str] = list(ANSWERS_WORST_FIRST)
    return sorted(made, key=lambda one: (order.index(one.answer), -len(one.devices), one.what))


# ---- the page ------------------------------------------------------------------------------------


@lru_cache(maxsize=1)
def _templates() -> Any:
    """What fills the page in. Raises NoExtraError."""
    try:
        import jinja2
    except ImportError:
        raise NoExtraError("report", "a page needs the extra report") from None

    return jinja2.Environment(
        loader=jinja2.FunctionLoader(_read), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )  # fmt: skip


def _read(name: str) -> str:
    return resources.files("ovek.render").joinpath("page", name).read_text()


def whole(report: FleetReport, view: View) -> Iterator[bytes]:
    """Go through the page about all of a fleet."""
    yield from _page(report, report.devices, {"whole": True})


def pages(report: FleetReport, most: int) -> Iterator[tuple[str, Iterator[bytes]]]:
    """Go through a folder of pages: the name of each, and what it holds; the first leads to all."""
    parts = [
        (f"part-{number:03}.html", first, min(first + most, report.devices.number))
        for number, first in enumerate(range(0, report.devices.number, most), 1)
    ]
    names = [device.device for device in report.devices] if parts else []
    links = [
        {"file": name, "first": names[at], "last": names[end - 1], "number": end - at}
        for name, at, end in parts
    ]
    yield "index.html", _page(report, (), {"whole": True, "links": links})
    waiting: list[ReportDevice] = []
    for device in report.devices:
        waiting.append(device)
        if len(waiting) == most or device.device == names[-1]:
            name = parts[0][0]
            parts = parts[1:]
            yield name, _page(report, tuple(waiting), {"whole": False, "name": name})
            waiting = []


def _page(
    report: FleetReport, devices: Iterable[ReportDevice], more: dict[str, Any]
) -> Iterator[bytes]:
    """Go through one page; `more` says whether it is the whole, and which pages it leads to."""
    rows, drawn = [], []
    for number, device in enumerate(devices):
        rows.append(_row(number, device))
        drawn.append(_plain(_drawn(device, report.as_of)))
    never = [device for device in report.not_read if device.last_read is None]
    if rows and more["whole"]:
        rows += map(_never, never)
    told = {
        "headline": headline_of(report),
        "site": report.site,
        "told": told_context(report),
        "as_of": f"{report.as_of:%Y-%m-%d %H:%M} UTC",
        "tally": [(name, _number(report.tally, name), MARKS[name]) for name in MARKS],
        "number": report.tally.devices,
        "obstacles": obstacles(report),
        "waived": [device for device in held_back(report.answered) if device.answer == "go"],
        "groups": _groups(report) if more["whole"] else [],
        "news": _news(report.news) if report.news is not None else None,
        "since": f"{report.news.since:%Y-%m-%d %H:%M} UTC" if report.news is not None else "",
        "images": sorted(map(_custody, report.images), key=lambda device: not device["wrong"]),
        "sources": report.sources,
        "not_read": [
            (device.device, why(device, report.as_of), device.do) for device in report.not_read
        ],
        "days": report.days,
        "advisories": _advisories(report),
        "chart": _chart(report.days),
        "unknown": _unknown(report) if more["whole"] else [],
        "rows": rows,
        "marks": MARKS,
        "never": [device.device for device in never],
        "links": [],
        "name": "",
        **more,
    }
    data = packed(msgspec.json.encode(drawn)) if drawn else ""
    blocks = {"data": data, "remembered": report.remembered if more["whole"] else ""}
    page = _templates().get_template("report.html")
    for chunk in page.generate(**_plain(told), **blocks, css=_read("report.css"),
                               js=_read("report.js")):  # fmt: skip
        yield chunk.encode("utf-8", "backslashreplace")


def _plain(value: Any) -> Any:
    """The same, with every text as it may be shown."""
    if isinstance(value, str):
        return visible(value)
    if isinstance(value, dict):
        return {key: _plain(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    if isinstance(value, Struct):
        return {key: _plain(each) for key, each in msgspec.structs.asdict(value).items()}
    return value


def _number(tally: Tally, answer: str) -> int:
    return int(getattr(tally, answer.replace("-", "_")))


def _row(number: int, device: ReportDevice) -> dict[str, Any]:
    """What the table shows of one device."""
    proven_, needed = proven(device.images)
    found = open_severities(device.findings)
    return {
        "number": number,
        "device": device.device,
        "site": device.site or "",
        "role": device.role or "",
        "model": device.model or "unknown",
        "running": running(device.boots),
        "boots": next_boot(device.boots, device.next_boot),
        "target": device.target or "",
        "answer": device.answer,
        "reason": device.reason,
        "proven": proven_of(device.images),
        "unproven": needed - proven_,
        "findings": worst_of(found) or "none",
        "rank": f"{SEVEREST_FIRST.index(found[0])}.{9999 - len(found)}" if found else "9",
        "not_read": device.not_read is not None,
    }


def _never(unread: Unread) -> dict[str, Any]:
    """What the table shows of a device of which nothing is known."""
    return {
        "number": None, "device": unread.device, "site": unread.site or "",
        "role": unread.role or "",
        "model": "unknown", "running": "unknown", "boots": "unknown", "target": "",
        "answer": "unclear", "reason": "not read", "proven": "-", "unproven": 0, "findings": "-",
        "rank": "9", "not_read": False,
    }  # fmt: skip


def _groups(report: FleetReport) -> list[dict[str, Any]]:
    """How many devices go by site, and by role."""
    answers = {one.device: one.answer for one in report.answered}
    found: dict[str, dict[str, Counter[str]]] = {"site": {}, "role": {}}
    standing: list[tuple[str, str | None, str | None, bool]] = [
        (one.device, one.site, one.role, _on_target(one)) for one in report.devices
    ]
    standing += [
        (one.device, one.site, one.role, False) for one in report.not_read if one.last_read is None
    ]
    for device, site, role, on_target in standing:
        for kind, name in (("site", site), ("role", role)):
            tally = found[kind].setdefault(name or "not told", Counter())
            tally.update([answers[device], "devices", *(["target"] if on_target else [])])
    return [
        {
            "by": kind,
            "rows": [
                (name, {key: ours[key] for key in ("devices", *MARKS, "target")})
                for name, ours in sorted(groups.items())
            ],
        }
        for kind, groups in found.items()
        if list(groups) != ["not told"]
    ]


def _on_target(device: ReportDevice) -> bool:
    """Whether every member runs what is wanted."""
    return device.on_target is True


def _news(news: News) -> list[dict[str, Any]]:
    """What is another since the earlier report, as lists."""
    change = "{}: {} → {}".format
    lists = [
        ("Answers that changed", [change(*each) for each in news.answers]),
        ("Versions that changed", [change(*each) for each in news.versions]),
        ("Findings that opened", [f"{name}: {what}" for name, what in news.opened]),
        ("Findings that closed", [f"{name}: {what}" for name, what in news.closed]),
        ("New devices", list(news.new)),
        ("Devices that are gone", list(news.gone)),
    ]
    return [
        {"title": title, "number": len(found), "lines": found[:_MOST]}
        for title, found in lists
        if found
    ]


def _custody(custody: Custody) -> dict[str, Any]:
    """One image that lies on flash, and how its copies are."""
    copies = [copy for group in custody.groups for copy in group.copies]
    flash = [copy for copy in copies if copy.device is not None]
    wrong = [copy for group in custody.groups if group.good is False for copy in group.copies]
    known = [group for group in custody.groups if group.good]
    if custody.first_bad is not None:
        copies_ = "bad copy" if len(wrong) == 1 else "bad copies"
        state = f"{len(wrong)} {copies_}, first on: {custody.first_bad}"
    elif not custody.listed:
        state = "not in the catalog"
    else:
        state = "every copy with a known digest is good" if known else "no copy has a known digest"
    return {
        "image": custody.image,
        "version": custody.version or "",
        "devices": len({copy.device for copy in flash}),
        "run": len({copy.device for copy in flash if copy.running}),
        "state": state,
        "wrong": custody.first_bad is not None,
        "told": custody.advice,
        "digests": [
            (title, digest)
            for name, title in TITLES.items()
            for told, digest in (known[0].digests if known else ())
            if told == name
        ],
    }


def _unknown(report: FleetReport) -> list[tuple[str, str]]:
    """What is not known, device by device."""
    return [
        (one.device, each.seen)
        for one in report.devices
        for each in one.findings
        if each.rule == "facts-missing"
    ][:_MOST]


def _chart(days: Sequence[Day]) -> dict[str, Any] | None:
    """The days as lines: where each point is, in a box of 600 by 120."""
    if len(days) < 2:
        return None
    most = max(max(day.devices for day in days), 1)

    def line(numbers: Iterable[int]) -> str:
        step = 600 / (len(days) - 1)
        return " ".join(
            f"{at * step:.1f},{120 - 120 * number / most:.1f}" for at, number in enumerate(numbers)
        )

    return {
        "most": most,
        "lines": [
            ("go", "go", line(day.go for day in days)),
            ("no-go", "no-go", line(day.no_go for day in days)),
            ("on target", "target", line(day.on_target for day in days)),
        ],
    }


# ---- one device, as the page's script draws it ---------------------------------------------------


def _drawn(device: ReportDevice, now: datetime) -> dict[str, Any]:
    """What is drawn of a device when it is opened, every text in words."""
    return {
        "head": of_device(device),
        "why": device.why,
        "unread": device.not_read,
        "summary": summary_of(device.walk),
        "next_boot": device.next_boot,
        "walk": [_walk(each, len(device.walk.members) > 1) for each in device.walk.members],
        "images": [_image(each, now) for each in device.images],
        "flash": [_flash(each) for each in device.flash],
        "findings": [
            (each.severity, each.rule, each.place, each.seen, each.words, each.waived)
            for each in device.findings
        ],
        "book": _book(device.runbook),
        "evidence": [(each.name, each.sha256) for each in device.evidence],
    }


def _walk(walk: MemberWalk, several: bool) -> dict[str, Any]:
    return {
        "member": walk.member if several else None,
        "live": walk.from_ == "live",
        "steps": [_step(each) for each in walk.tried],
        "outcome": walk.outcome,
        "ends": starts_of(walk),
        "note": walk.note if walk.outcome in ("stranded", "unknown") else "",
        "rescue": [f"{each.place}, {each.version or 'version unknown'}" for each in walk.rescue],
    }


def _step(candidate: Candidate) -> tuple[str, str, str, str, str]:
    kind = "falls" if falls(candidate) else "unknown" if candidate.result == "unknown" else "boots"
    return kind, candidate.origin, candidate.place, result_of(candidate), candidate.why


def _image(image: ReportImage, now: datetime) -> dict[str, Any]:
    measured = "read with the device" if image.digests else ""
    if image.digest_at is not None:
        age = show_age(now - image.digest_at)
        measured = f"digest read {age} before this page, {image.digest_at:%Y-%m-%d %H:%M} UTC"
    return {
        "place": image.place,
        "verdict": image.verdict,
        "why": image.why,
        "release": image.release or "",
        "proof": f"by {TITLES[image.by]}" if image.by is not None else "",
        "read": measured,
        "needed": image.needed,
        "size": show_mib(image.size) if image.size is not None else "size unknown",
        "digests": [(TITLES[name], digest) for name, digest in image.digests],
    }


def _flash(use: VolumeUse) -> dict[str, Any]:
    """A volume to scale: its parts in thousandths, and what the target needs."""
    capacity = use.capacity or 0
    free = f"{show_mib(use.free)} free" if use.free is not None else "free space unknown"
    share = f" ({show_share(use.free, capacity)})" if capacity and use.free is not None else ""
    needs = "" if not use.needs else f"the target needs {show_mib(use.needs)}"
    short = use.needs is not None and use.free is not None and use.needs > use.free
    return {
        "name": f"{use.volume}:",
        "told": f"{free} of {show_mib(capacity)}{share}" if capacity else free,
        "parts": [
            (CONTENTS.index(each.content), each.content, show_mib(each.size),
             round(1000 * each.size / capacity) if capacity else 0)
            for each in use.holds
        ],
        "needs": needs + ("; it does not fit" if short else ""),
        "short": short,
        "line": round(1000 * (1 - use.needs / capacity)) if use.needs and capacity else None,
    }  # fmt: skip


def _book(runbook: Runbook) -> dict[str, Any]:
    return {
        "head": headline(runbook),
        "stands": stands(runbook)[:1].upper() + stands(runbook)[1:],
        "find": runbook.find_out,
        "steps": [(step.stage, step.words, list(details(step))) for step in runbook.steps],
        "safe": safe(runbook),
        "danger": danger_of(runbook.danger),
        "open": [
            (each.rule, each.place or each.member, each.seen, each.words) for each in runbook.open
        ],
    }


# ---- the short form, and what the terminal says --------------------------------------------------


_USES = get_args(AffectedUse)


def _advisories(report: FleetReport) -> list[dict[str, Any]]:
    """Each advisory that affects some device, with how many devices by what is affected."""
    return [
        {
            "id": advisory.id,
            "title": advisory.title,
            "score": "-" if advisory.score is None else f"{advisory.score:.1f}",
            "numbers": [len(advisory.devices.get(use, ())) for use in _USES],
            "devices": sorted({name for names in advisory.devices.values() for name in names}),
        }
        for advisory in report.advisories
    ]


def short(report: FleetReport, view: View) -> Iterator[bytes]:
    """The short form for a ticket: the answer, what stands in the way, by site, the news."""
    lines = [f"# {escaped(headline_of(report))}", "", escaped(told_context(report)), ""]
    for obstacle in obstacles(report):
        text = (
            f"{obstacle.what}: {count(len(obstacle.devices), 'device')}: "
            f"{listed(obstacle.devices, most=12)}"
        )
        lines.append(f"- **{obstacle.answer}** {escaped(text)}")
    for group in _groups(report):
        rows = [
            (name, *(str(ours.get(key, 0)) for key in ("go", "no-go", "unclear", "target")))
            for name, ours in group["rows"]
        ]
        lines += [
            "",
            *table((group["by"].upper(), "GO", "NO-GO", "UNCLEAR", "RUN THE TARGET"), rows),
        ]
    if report.news is not None:
        lines += ["", f"## Changes since {report.news.since:%Y-%m-%d %H:%M} UTC", ""]
        found = _news(report.news)
        for each in found:
            some = listed([*map(visible, each["lines"])], most=8)
            lines.append(f"- {each['title']}: {each['number']} ({escaped(some)})")
        lines += [] if found else ["Nothing changed."]
    wrong = [each for each in map(_custody, report.images) if each["wrong"]]
    if wrong:
        lines += ["", "## Images with a bad copy", ""]
        lines += [f"- {escaped(each['image'])}: {escaped(each['state'])}" for each in wrong]
    if report.advisories:
        lines += ["", "## Security advisories", ""]
        rows = [
            (one["id"], one["score"], *map(str, one["numbers"]), one["title"])
            for one in _advisories(report)
        ]
        titles = ("ADVISORY", "CVSS", *(use.upper() for use in _USES), "TITLE")
        lines += table(titles, rows)
    if report.not_read:
        lines += ["", "## Not read", ""]
        for unread in report.not_read:
            text = f"{unread.device}: {why(unread, report.as_of)}; {unread.do}"
            lines.append(f"- {escaped(text)}")
    yield ("\n".join(lines) + "\n").encode("utf-8", "backslashreplace")


def summary(report: FleetReport, view: View) -> Iterator[str]:
    """What the terminal says of a page that was written."""
    yield headline_of(report)
    news = "" if report.news is None else f"; changes since {report.news.since:%Y-%m-%d %H:%M} UTC"
    number = count(report.tally.devices, "device")
    yield f"Written: {visible(report.written or '')} ({number}{news})"

"""What is remembered of a device at one time, and what its life was, told from that.

1. A reading gives facts: what each member runs and starts, its images, banks and boot settings, the
   findings that are open, the answer.
2. A fact is remembered from the first reading that tells it to the last; the store keeps spans.
3. A life is the spans in order: what began, what ended, what took the place of what. An image whose
   digest changed while its name, size and time did not, rotted.
4. What was not known at a reading neither came nor went then.
"""

from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from datetime import UTC, date, datetime, time, timedelta
from fnmatch import fnmatchcase
from itertools import pairwise

import msgspec
from msgspec.structs import replace

from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.advisory import AffectedImages
from ovek.model.digest import STRONGEST_FIRST, Digests
from ovek.model.finding import DeviceAudit, Finding
from ovek.model.history import Day, Event, Fact, Held, ImageFact, Opened, OpenOn, Span
from ovek.model.snapshot import Boot
from ovek.model.verdict import Image

_ENCODE = msgspec.json.Encoder(order="sorted").encode


def facts_of(judged: JudgedDevice, audit: DeviceAudit) -> Iterator[Fact]:
    """Go through what is remembered of a device."""
    device = judged.device
    for kind, told in (("site", device.site), ("role", device.role)):
        if told is not None:
            yield Fact(kind, "", "", told)  # type: ignore[arg-type]
    if device.hardware.model is not None:
        yield Fact("model", "", "", device.hardware.model)
    yield Fact("answer", "", "", audit.answer)
    yield Fact("proven", "", "", "yes" if audit.next_boot == "proven" else "no")
    if audit.target is not None:
        states: dict[bool | None, str] = {True: "yes", False: "no", None: "unknown"}
        yield Fact("target", "", "", states[audit.on_target])
    for start in audit.boots:
        if start.running is not None:
            yield Fact("version", start.member, "", start.running)
        if start.version is not None or start.place is not None:
            yield Fact("starts", start.member, "", start.version or start.place or "")
    for running, one in zip(runs_of(judged), judged.members or (), strict=True):
        yield from _of_member(one)
        if running.image is not None:
            place = running.image.place
            yield Fact("running", one.member.id, str(place), _json(_image(running.image, one)))
    yield from _findings(audit.findings)


def _of_member(one: JudgedMember) -> Iterator[Fact]:
    member = one.member
    for image in one.images.values():
        yield Fact("image", member.id, str(image.place), _json(_image(image, one)))
    for image in one.sets.values():
        yield Fact("set", member.id, str(image.place), _json(_image(image, one)))
    for bank in member.banks or ():
        digest, held = _strongest(bank.digests), one.banks.get(bank.name)
        release = held.judgement.release if held is not None else None
        parts = [
            held.version if held is not None else bank.version,
            bank.state,
            digest[1] if digest is not None else None,
            release.file if release is not None else None,
            held.judgement.verdict if held is not None else None,
        ]
        yield Fact("bank", member.id, bank.name, _json(parts))
    if member.boot is not None:
        for name, value in _settings(member.boot):
            yield Fact("boot", member.id, name, value)
    for volume in member.volumes or ():
        if volume.files is None:
            yield Fact("unknown", member.id, f"{volume.name}:", "files")


def _image(image: Image, member: JudgedMember) -> ImageFact:
    file, judgement = image.file, image.judgement
    bank = member.member.bank(image.place.path) if image.place.is_bank else None
    digests = file.digests if file is not None else bank.digests if bank is not None else None
    digest = _strongest(digests)
    modified = file.modified if file is not None else None
    return ImageFact(
        verdict=judgement.verdict,
        release=judgement.release.file if judgement.release is not None else None,
        version=image.version,
        size=file.size if file is not None else None,
        modified=modified.isoformat() if modified is not None else None,
        algorithm=digest[0] if digest is not None else None,
        digest=digest[1] if digest is not None else None,
    )


def _strongest(digests: Digests | None) -> tuple[str, str] | None:
    known = dict(digests or ())
    return next(((name, known[name]) for name in STRONGEST_FIRST if name in known), None)


def _settings(boot: Boot) -> Iterator[tuple[str, str]]:
    """The saved settings where they are known, else the live ones; each by its name."""
    for name, setting in (("order", boot.order), ("mode", boot.mode),
                          ("default bank", boot.default_bank)):  # fmt: skip
        value = setting.effective
        if value is None:
            continue
        text = value if isinstance(value, str) else ", ".join(each.shown for each in value)
        yield name, text
    if boot.once is not None:
        yield "once", boot.once.shown


def _findings(findings: Iterable[Finding]) -> Iterator[Fact]:
    """The findings that are open; of several of one rule at one place the severest."""
    seen = set[str]()
    for finding in findings:
        key = _json([finding.rule, finding.place])
        if key not in seen:
            seen.add(key)
            yield Fact("finding", "", key, finding.severity if finding.waived is None else "waived")


def _json(value: object) -> str:
    return _ENCODE(value).decode()


# ---- a life, told from spans ---------------------------------------------------------------------

_NAMES = {
    "version": "running", "starts": "next boot", "boot": "boot", "bank": "bank", "answer": "answer",
    "target": "on target", "model": "model", "site": "site", "role": "role",
}  # fmt: skip


# What a life begins with: how the device was when it was first read.
_FIRST = {"running", "next boot", "answer", "on target", "model"}


def life(spans: Iterable[Span]) -> list[Event]:
    """The events of one device in order, how it was at its first reading before all."""
    spans = list(spans)
    by_key: dict[tuple[str, str, str], list[Span]] = {}
    unknown: dict[tuple[str, str], list[Span]] = {}
    for span in spans:
        fact = span.fact
        if fact.kind == "unknown":
            unknown.setdefault((fact.member, fact.key), []).append(span)
        elif fact.kind not in ("proven", "running"):
            by_key.setdefault((fact.kind, fact.member, fact.key), []).append(span)
    several = len({span.fact.member for span in spans} - {""}) > 1
    events: list[Event] = []
    for (kind, member, key), ours in by_key.items():
        ours.sort(key=lambda span: span.first)
        blind = [
            span
            for (whose, volume), parts in unknown.items()
            if kind == "image" and whose == member and key.startswith(volume)
            for span in parts
        ]
        events += _of_key(kind, member if several else "", key, ours, blind)
    begins = min((span.first for span in spans), default=None)
    parts = [
        replace(one, first=True) if one.at == begins else one
        for one in events
        if one.at != begins or one.severe or one.what in _FIRST
    ]
    return sorted(parts, key=_in_order)


def _in_order(event: Event) -> tuple[datetime, bool, str, str, str]:
    return event.at, not event.severe, event.what, event.member or "", event.place or ""


def _of_key(
    kind: str, member: str, key: str, spans: list[Span], blind: list[Span]
) -> Iterator[Event]:
    """The events of one thing: it came, it changed, it went."""
    before: Span | None = None
    for span in spans:
        if before is not None and before.ended not in (None, span.first):
            gone = list(_gone(kind, member, key, before, blind))
            yield from gone
            before = None if gone else before
        if before is None or before.fact.value != span.fact.value:
            was = before.fact.value if before is not None else None
            yield _event(kind, member, key, span.first, was, span.fact.value)
        before = span
    if before is not None:
        yield from _gone(kind, member, key, before, blind)


def _gone(kind: str, member: str, key: str, span: Span, blind: list[Span]) -> Iterator[Event]:
    """The event that a thing went, where the reading that lacks it knows that."""
    if span.ended is not None and not _is_in(span.ended, blind):
        yield _event(kind, member, key, span.ended, span.fact.value, None)


def _is_in(at: datetime, spans: list[Span]) -> bool:
    return any(one.first <= at and (one.last is None or at <= one.last) for one in spans)


def _event(
    kind: str, member: str, key: str, at: datetime, was: str | None, now: str | None
) -> Event:
    whose = member or None
    if kind == "finding":
        rule, place = msgspec.json.decode(key, type=tuple[str, str | None])
        severe = now == "critical"
        what = "finding closed" if now is None else "finding opened" if was is None else "finding"
        return Event(at=at, what=f"{what}: {rule}", place=place, was=was, now=now, severe=severe)
    if kind in ("image", "set"):
        old, new = (msgspec.json.decode(each, type=ImageFact) if each is not None else None
                    for each in (was, now))  # fmt: skip
        rotten = old is not None and new is not None and rotted(old, new)
        what = "image corrupted" if rotten else _changed(kind, was, now)
        return Event(
            at=at, what=what, member=whose, place=key, was=_image_told(old), now=_image_told(new),
            severe=rotten,
        )  # fmt: skip
    if kind == "bank":
        return Event(at=at, what=_changed("bank", was, now), member=whose, place=f"bank:{key}",
                     was=_bank_told(was), now=_bank_told(now))  # fmt: skip
    what = f"boot {key}" if kind == "boot" else _NAMES[kind]
    return Event(at=at, what=what, member=whose, was=was, now=now, severe=now == "no-go")


def _changed(what: str, was: str | None, now: str | None) -> str:
    return f"{what} came" if was is None else f"{what} went" if now is None else f"{what} changed"


def rotted(old: ImageFact, new: ImageFact) -> bool:
    """Whether a digest changed while size and time did not, and both are known."""
    return (
        old.digest is not None
        and new.digest is not None
        and old.algorithm == new.algorithm
        and old.digest != new.digest
        and old.size == new.size is not None
        and old.modified == new.modified is not None
    )


def _image_told(image: ImageFact | None) -> str | None:
    if image is None:
        return None
    digest = f", {image.digest}" if image.digest is not None else ""
    return f"{image.verdict}{digest}"


def _bank_told(value: str | None) -> str | None:
    if value is None:
        return None
    version, state, digest, *_ = msgspec.json.decode(value, type=list[str | None])
    parts = [version or "version unknown", state or "state unknown"]
    return ", ".join([*parts, *([digest] if digest else [])])


# ---- images, findings and days -------------------------------------------------------------------


def means(span: Span, text: str) -> bool:
    """Whether the image of a span is one that a text means: by name, version or digest.

    A text of fewer than six characters is a name or a version, never a piece of a digest.
    """
    wanted, image = text.strip().casefold(), _held_image(span)
    place = span.fact.key.rpartition("/")[2].rpartition(":")[2]
    names = [place] if span.fact.kind != "bank" else []
    names += [image.release] if image.release is not None else []
    if any(wanted == each.casefold() or fnmatchcase(each.casefold(), wanted) for each in names):
        return True
    if image.version is not None and image.version.casefold() == wanted:
        return True
    return len(wanted) >= 6 and image.digest is not None and image.digest.startswith(wanted)


def is_affected(span: Span, affected: AffectedImages) -> bool:
    """Whether the image of a span is one that an advisory says is affected."""
    image = _held_image(span)
    if image.digest is not None and image.digest in affected.digests:
        return True
    named = image.verdict in ("proven", "matched", "unverified") and image.release is not None
    return named and (image.release or "").casefold() in affected.files


def _held_image(span: Span) -> ImageFact:
    """The image that a span tells of, also where it is in a bank."""
    if span.fact.kind != "bank":
        return msgspec.json.decode(span.fact.value, type=ImageFact)
    parts = [*msgspec.json.decode(span.fact.value, type=list[str | None]), None, None]
    version, _, digest, release, verdict, *_ = parts
    return ImageFact(verdict=verdict or "unknown", release=release, version=version, digest=digest)


def held(device: str, span: Span) -> Held:
    """A span of an image, as one copy of it."""
    image = _held_image(span)
    return Held(
        device=device,
        member=span.fact.member,
        place=f"bank:{span.fact.key}" if span.fact.kind == "bank" else span.fact.key,
        verdict=image.verdict,
        release=image.release,
        digest=image.digest,
        first=span.first,
        last=span.last,
        gone=span.ended,
        running=span.fact.kind == "running",
    )


def ran(device: str, span: Span) -> Held:
    """A span of a version that a member ran, as the copy in its memory."""
    return Held(
        device=device, member=span.fact.member, place="", verdict="", release=None, digest=None,
        first=span.first, last=span.last, gone=span.ended, running=True,
    )  # fmt: skip


def joined(copies: Iterable[Held]) -> list[Held]:
    """Copies of which only the verdict's neighbours differ put together: same place, same bytes."""
    found: list[Held] = []
    for copy in sorted(copies, key=_by_copy):
        last = found[-1] if found else None
        if last is not None and last.last is not None and (
            (last.device, last.member, last.place, last.digest, last.verdict, last.running)
            == (copy.device, copy.member, copy.place, copy.digest, copy.verdict, copy.running)
        ):  # fmt: skip
            found[-1] = msgspec.structs.replace(last, last=copy.last, gone=copy.gone)
        else:
            found.append(copy)
    return found


def _by_copy(one: Held) -> tuple[str, bool, str, str, datetime]:
    return one.device, one.running, one.member, one.place, one.first


def opened(
    spans: Iterable[tuple[str, Span]], places: dict[str, tuple[str | None, str | None]]
) -> list[Opened]:
    """Findings by device and place, each with how often it came; `places` are site and role."""
    by_key: dict[tuple[str, str], list[Span]] = {}
    for device, span in spans:
        by_key.setdefault((device, span.fact.key), []).append(span)
    found = []
    for (device, key), ours in by_key.items():
        rule, place = msgspec.json.decode(key, type=tuple[str, str | None])
        ours.sort(key=lambda span: span.first)
        times = 1 + sum(
            before.last is None or span.first > before.last for before, span in pairwise(ours)
        )
        site, role = places.get(device, (None, None))
        found.append(
            Opened(
                device=device,
                site=site,
                role=role,
                rule=rule,
                place=place,
                severity=ours[-1].fact.value,
                first=ours[0].first,
                last=ours[-1].last,
                closed=ours[-1].ended,
                times=times,
            )
        )
    return sorted(
        found, key=lambda one: (one.last is not None, one.first, one.device, one.place or "")
    )


def days(
    spans: Iterable[tuple[str, Span]],
    first: date,
    last: date,
    fleet: Collection[str] | None = None,
    stale: Collection[str] = (),
) -> list[Day]:
    """How a fleet stood at the end of each day; `spans` are of answers, proofs and targets.

    `fleet` are the devices that count (None: all that were ever read): one that was not read by
    then is unclear, and so are on the last day those that are `stale`, which the last survey could
    not read.
    """
    # A span that ends says nothing by itself: it was so until the next reading tells otherwise.
    changes = sorted(
        (span.first, device, span.fact.kind, span.fact.value)
        for device, span in spans
        if fleet is None or device in fleet
    )
    now: dict[tuple[str, str], str] = {}
    counts: dict[tuple[str, str], int] = {}
    told, at = [], 0
    for day in _days(first, last):
        ends = datetime.combine(day + timedelta(days=1), time(), UTC)
        while at < len(changes) and changes[at][0] < ends:
            _, device, kind, value = changes[at]
            at += 1
            old = now.get((device, kind))
            if old is not None:
                counts[kind, old] -= 1
            now[device, kind] = value
            counts[kind, value] = counts.get((kind, value), 0) + 1
        if day == last:
            for device in stale:
                old = now.get((device, "answer"))
                if old is not None:
                    counts["answer", old] -= 1
                    counts["answer", "unread"] = counts.get(("answer", "unread"), 0) + 1
        go, no_go, unclear = (counts.get(("answer", one), 0) for one in ("go", "no-go", "unclear"))
        unread = counts.get(("answer", "unread"), 0)
        if fleet is not None:
            unread += len(fleet) - (go + no_go + unclear + unread)
        with_target = sum(number for (kind, _), number in counts.items() if kind == "target")
        told.append(
            Day(
                day=day.isoformat(),
                devices=go + no_go + unclear + unread,
                go=go,
                no_go=no_go,
                unclear=unclear + unread,
                proven=counts.get(("proven", "yes"), 0),
                on_target=counts.get(("target", "yes"), 0),
                with_target=with_target,
                not_read=unread,
            )
        )
    return told


def open_on(spans: Iterable[tuple[str, Span]], first: date, last: date) -> list[OpenOn]:
    """What was open at the end of each day; `spans` are of findings."""
    changes: dict[date, Counter[str]] = {}
    for _, span in spans:
        opened, ended = span.first.date(), span.ended.date() if span.ended is not None else None
        if ended is not None and ended <= max(first, opened):
            continue
        changes.setdefault(max(first, opened), Counter())[span.fact.value] += 1
        if ended is not None:
            changes.setdefault(ended, Counter())[span.fact.value] -= 1
    now, told = Counter[str](), []
    for day in _days(first, last):
        now.update(changes.get(day, {}))
        told.append(
            OpenOn(
                day=day.isoformat(),
                critical=now["critical"],
                warning=now["warning"],
                note=now["note"],
            )
        )
    return told


def _days(first: date, last: date) -> Iterator[date]:
    while first <= last:
        yield first
        first += timedelta(days=1)

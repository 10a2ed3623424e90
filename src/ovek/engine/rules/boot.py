"""Rules on the next start: stranded, targets missing or broken, order unsaved, image gone."""

from collections.abc import Iterator
from difflib import get_close_matches

from ovek.engine.rules import SET_ORIGINS, MemberSubject, Said, Subject, rule
from ovek.engine.verdicts import find_file
from ovek.model.finding import Severity
from ovek.model.place import Place, parse_place
from ovek.model.snapshot import BootEntry, Member
from ovek.model.verdict import WORST_FIRST, Image
from ovek.model.walk import BROKEN, GOES_ON, Candidate


@rule(
    "stranded",
    "critical",
    "Nothing that the loader may try can start: after a reload, somebody has to go there.",
)
def stranded(subject: Subject) -> Iterator[Said]:
    """A member would stop in its boot loader. Names every candidate, so no other rule does."""
    for member in subject.members:
        if member.walk.outcome != "stranded":
            continue
        tried = "; ".join(f"{each.place} is {each.result}" for each in member.walk.tried)
        saw = f"a reload stops in the boot loader: {tried or member.walk.note}"
        if tried and member.walk.note.startswith("the loader halts"):
            saw += f"; {member.walk.note}"
        yield Said(member=member.id, place=None, saw=saw, do=_way_out(member))


def _way_out(member: MemberSubject) -> str:
    """What to do about a member that would be stranded."""
    able = [
        image
        for image in (*member.one.images.values(), *member.one.sets.values(), *_banks(member))
        if image.role in ("system-image", "set-file")
        and image.judgement.verdict in ("proven", "unmeasured")
    ]
    if not able:
        return "Do not reload; copy a proven image onto it and point the boot settings at it"
    best = max(able, key=lambda image: WORST_FIRST.index(image.judgement.verdict))
    return (
        f"Do not reload; point the saved boot settings at {best.place} "
        f"({best.version or 'version not known'}, {best.judgement.verdict})"
    )


def _banks(member: MemberSubject) -> Iterator[Image]:
    yield from member.one.banks.values()


def _cited(subject: Subject) -> Iterator[tuple[MemberSubject, Candidate, Place, bool]]:
    """The files that settings name, and whether each is the first thing that a start tries."""
    for member in subject.members:
        if member.walk.outcome == "stranded":
            continue
        first = member.walk.tried[0] if member.walk.tried else None
        for candidate in member.cited:
            place = _place(candidate)
            if place is not None:
                leads = first is not None and candidate.place == first.place
                yield member, candidate, place, leads


def _place(candidate: Candidate) -> Place | None:
    if candidate.result in GOES_ON or candidate.result in BROKEN:
        return parse_place(candidate.place)
    return None


def _instead(member: MemberSubject) -> str:
    starts = member.walk.starts
    if starts is None:
        return "what starts instead is not known"
    version = f" ({starts.version})" if starts.version else ""
    return f"a reload starts {starts.place}{version} instead"


@rule(
    "boot-target-missing",
    "warning",
    "A boot setting that names nothing is skipped, and something else starts than was meant.",
)
def boot_target_missing(subject: Subject) -> Iterator[Said]:
    """A saved boot setting names a file, volume or bank that is not there, or is empty."""
    for member, candidate, place, leads in _cited(subject):
        if candidate.result not in GOES_ON or (
            place.is_bank and member.one.member.bank(place.path) is not None
        ):
            continue
        saw = f"the boot settings name it, but {candidate.why}"
        if near := _nearest(place, member.one.member):
            saw += f"; the nearest name there is {near!r}"
        yield Said(
            member=member.id,
            place=place,
            saw=saw + (f"; {_instead(member)}" if leads else ""),
            do="Copy the file there, or take the entry out of the boot order and save",
            severity=_by_consequence(leads),
        )


@rule(
    "boot-target-broken",
    "warning",
    "A boot setting that names a file which cannot start fails at the worst moment.",
)
def boot_target_broken(subject: Subject) -> Iterator[Said]:
    """A saved boot setting names something that is there but cannot start."""
    for member, candidate, place, leads in _cited(subject):
        if candidate.result in BROKEN and candidate.result != "bad":
            saw = f"the boot settings name it, but it cannot start ({candidate.result}): "
            yield Said(
                member=member.id,
                place=place,
                saw=saw + candidate.why + (f"; {_instead(member)}" if leads else ""),
                do="Copy a proven image there, or take the entry out of the boot order and save",
                severity=_by_consequence(leads),
            )
    for member in subject.members:
        for candidate in member.walk.tried if member.walk.outcome != "stranded" else ():
            if (
                candidate.origin in SET_ORIGINS
                and candidate.result in BROKEN
                and candidate.result != "bad"
            ):
                yield Said(
                    member=member.id,
                    place=parse_place(candidate.place),
                    saw=f"it cannot start ({candidate.result}): {candidate.why}; "
                    + _instead(member),
                    do="Write a proven image to it, or choose another bank and save",
                    severity="critical",
                )


def _by_consequence(leads: bool) -> Severity | None:
    """Critical where the first candidate fails: the device would not start what it was told to."""
    return "critical" if leads else None


def _nearest(place: Place, member: Member) -> str | None:
    volume = member.volume(place.volume)
    names = [file.path for file in (volume.files or ())] if volume is not None else []
    close = get_close_matches(place.path, names, n=1, cutoff=0.75)
    return close[0] if close else None


@rule(
    "boot-order-unsaved",
    "warning",
    "A boot setting that was changed but not saved is lost at reload.",
)
def boot_order_unsaved(subject: Subject) -> Iterator[Said]:
    """Live and saved boot settings differ (mode, order or default bank)."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is None:
            continue
        order = _named(boot.order.live), _named(boot.order.saved)
        differing = [
            f"{name}: live {_joined(live)}, saved {_joined(saved)}"
            for name, live, saved in (
                ("mode", (boot.mode.live,), (boot.mode.saved,)),
                ("order", *order),
                ("default bank", (boot.default_bank.live,), (boot.default_bank.saved,)),
            )
            if live != saved and None not in (*live, *saved)
        ]
        if differing:
            starts = member.walk.starts
            now = f"; a reload starts {starts.place}" if starts else ""
            yield Said(
                member=member.id,
                place=None,
                saw="; ".join(differing) + now,
                do="Save the boot settings if the live ones are meant, else set them back",
            )


def _joined(names: tuple[str | None, ...]) -> str:
    return ", ".join(name or "" for name in names) or "empty"


def _named(order: tuple[BootEntry, ...] | None) -> tuple[str | None, ...]:
    """What each entry of an order names; (None,) where the order is not known."""
    if order is None:
        return (None,)
    return tuple(each.place or each.remote or each.raw for each in order)


@rule(
    "running-image-gone",
    "warning",
    "What runs lives in memory only: after a reload there is no way back to it.",
)
def running_image_gone(subject: Subject) -> Iterator[Said]:
    """The image that runs is no longer on its volume."""
    running = subject.judged.device.running
    if running.place is None:
        return
    place = parse_place(running.place)
    for member in subject.members:
        one = member.one.member
        if place.is_bank or place.member not in (None, one.id):
            continue
        if one.running_version not in (None, running.version):
            continue
        volume = one.volume(place.volume)
        absent = volume is not None and volume.state == "absent"
        if volume is None or (volume.files is None and not absent):
            continue
        if absent or find_file(place.on(None), one) is None:
            yield Said(
                member=member.id,
                place=place.on(None),
                saw=f"{running.version or 'the running image'} runs from it, but it is not there",
                do="Copy the running release back before you reload, or make sure of the next one",
            )

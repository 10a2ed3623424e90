"""Rules on the next start: boot settings, what they name, and what starts."""

from collections.abc import Iterator
from typing import TypeVar

from ovek.engine.bootwalk import others_that_boot, walk_device
from ovek.engine.changes import effect
from ovek.engine.nearest import nearest
from ovek.engine.rules import SET_ORIGINS, MemberSubject, Said, Subject, rule
from ovek.engine.verdicts import find_file, rejudge
from ovek.model.change import Lose
from ovek.model.finding import Severity
from ovek.model.place import Place
from ovek.model.snapshot import Boot, BootEntry, BootMode
from ovek.model.verdict import Image
from ovek.model.walk import BROKEN, GOES_ON, Candidate

T = TypeVar("T")


def _order(member: MemberSubject) -> tuple[BootEntry, ...] | None:
    boot = member.one.member.boot
    return None if boot is None else boot.order.effective


def _mode(subject: Subject, member: MemberSubject) -> BootMode | None:
    boot, judge = member.one.member.boot, subject.judged.judge
    if boot is None or subject.layout.holder != "files":
        return None
    asked = "boot.mode.saved" in judge.asks or "boot.mode.live" in judge.asks
    return boot.mode.effective or (None if asked else judge.sheet.boot.mode)


@rule(
    "at-boot-loader",
    "critical",
    "A device at its boot loader forwards nothing until somebody starts it.",
    "Start it from its boot loader, then read it again",
)
def at_boot_loader(subject: Subject) -> Iterator[Said]:
    """The device was read at the prompt of its boot loader."""
    if subject.up:
        return
    for member in subject.members:
        starts, able = member.walk.starts, member.walk.rescue
        saw = "it was read at its boot loader's prompt: nothing runs"
        if starts is not None:
            version = f"{starts.version} " if starts.version else ""
            told = f"Start it: the next start is {version}from {starts.place}, {starts.verdict}"
        elif able:
            best = able[0]
            told = f"Start it by hand from {best.place} ({best.version or 'version not known'}, "
            told += f"{best.verdict}), then set what starts next"
        elif member.stranded:
            told = "Bring a proven image on a stick or over the network, and start from that"
        else:
            told = "Find out what it starts from: read the session at its boot loader again"
        yield Said(member=member.id, place=None, saw=saw, do=told)
    if not subject.members:
        saw = "it was read at its boot loader's prompt: nothing runs"
        yield Said(member=None, place=None, saw=saw)


@rule(
    "reload-scheduled",
    "warning",
    "A reload that comes by itself finds the device as it is, at night and with nobody there.",
    "Cancel that reload, or mend the next start before it",
    stops="boot",
)
def reload_scheduled(subject: Subject) -> Iterator[Said]:
    """The device is set to reload by itself, and its next boot is not proven."""
    device, reload = subject.judged.device, subject.walk.reload
    if device.reload_at is None or subject.times.clock > device.reload_at or reload == "proven":
        return
    saw = f"it reloads by itself at {device.reload_at:%Y-%m-%d %H:%M} UTC by its clock, "
    saw += f"and its next start is {reload}"
    serious: Severity | None = "critical" if reload in ("stranded", "unknown") else None
    yield Said(member=None, place=None, saw=saw, severity=serious)


@rule(
    "starts-from-removable",
    "warning",
    "A stick that somebody pulls takes the next start with it.",
    "Copy a proven image to a volume that stays, and name it in the boot settings",
    stops="boot",
)
def starts_from_removable(subject: Subject) -> Iterator[Said]:
    """The next start is from a removable volume, and nothing starts without that."""
    judged = subject.judged
    for member in subject.members:
        at = member.walk.starts.at if member.walk.starts is not None else None
        owner = judged.member(at.member or "") if at is not None else None
        if at is None or owner is None or at.is_bank:
            continue
        volume = owner.member.volume(at.volume)
        if volume is None or not volume.removable or subject.policy.boot_from_removable:
            continue
        gone = Lose(place=Place(at.volume, "", at.member))
        pulled = rejudge(judged, effect(judged.device, gone, judged.judge.sheet))
        walks = {walk.member: walk for walk in walk_device(pulled).members}
        if walks[member.id].outcome == "stranded":
            saw = f"the next start is from {at.volume}:, which is removable, and nothing starts "
            yield Said(member=member.id, place=at.on(None), saw=saw + "without it")


@rule(
    "boot-mode-holds",
    "critical",
    "A loader that is told to hold waits for a person after every reload and power failure.",
    "Set the boot mode to follow the boot order, and save",
    "stranded",
    "boot-order-empty",
    "boot-mode-ignores-order",
    "boot-order-old-first",
    "no-fallback",
    stops="boot",
)
def boot_mode_holds(subject: Subject) -> Iterator[Said]:
    """The saved boot mode stops the loader."""
    for member in subject.members:
        if _mode(subject, member) == "hold":
            starts = member.walk.starts
            once = f"; only the once entry starts {starts.place}, one time" if starts else ""
            yield Said(
                member=member.id,
                place=None,
                saw=f"the boot mode is hold: the loader stops and waits{once}",
                severity=None if member.stranded else "warning",
            )


@rule(
    "stranded",
    "critical",
    "Nothing that the loader may try can start: after a reload, somebody has to go there.",
    "Do not reload; point the boot settings at a proven image, or copy one there",
    "boot-order-empty",
    "boot-target-twice",
    "boot-mode-ignores-order",
    "boot-order-old-first",
    "boot-mode-unsaved",
    "no-fallback",
    "bank-runs-other",
    "bank-rule-broken",
    "pair-differs",
    "volume-absent",
    "volume-unreadable",
    "member-starts-differ",
    stops="boot",
)
def stranded(subject: Subject) -> Iterator[Said]:
    """A member would stop in its boot loader. Names every candidate, so no other rule does."""
    for member in subject.members:
        if not member.stranded:
            continue
        tried = "; ".join(_tried(each) for each in member.walk.tried)
        saw = f"a reload stops in the boot loader: {tried or member.walk.note}"
        if tried and member.walk.note.startswith("the loader halts"):
            saw += f"; {member.walk.note}"
        yield Said(member=member.id, place=None, saw=saw, do=_way_out(member))


def _tried(candidate: Candidate) -> str:
    why = f" ({candidate.why})" if candidate.result in ("absent", "unreadable") else ""
    return f"{candidate.place} is {candidate.result}{why}"


def _way_out(member: MemberSubject) -> str:
    """What to do about a member that would be stranded."""
    able = member.walk.rescue
    if not able:
        return "Do not reload; copy a proven image onto it and point the boot settings at it"
    best = able[0]
    return (
        f"Do not reload; point the saved boot settings at {best.place} "
        f"({best.version or 'version not known'}, {best.verdict})"
    )


def _cited(subject: Subject) -> Iterator[tuple[MemberSubject, Candidate, Place, bool]]:
    """The files that settings name, and whether each is the first thing that a start tries."""
    for member in subject.members:
        if member.stranded:
            continue
        first = member.walk.tried[0] if member.walk.tried else None
        for candidate in member.cited:
            if candidate.result in GOES_ON or candidate.result in BROKEN:
                leads = first is not None and candidate.at == first.at
                if candidate.at is not None:
                    yield member, candidate, candidate.at, leads


def _instead(member: MemberSubject) -> str:
    starts = member.walk.starts
    if starts is None:
        return "what starts instead is not known"
    version = f" ({starts.version})" if starts.version else ""
    return f"a reload starts {starts.place}{version} instead"


# What a setting that fails first explains by itself.
_LEADS = (
    "starts-unwanted",
    "next-start-older",
    "reload-pending",
    "boot-order-old-first",
    "bank-runs-other",
    "member-target-missing",
    "no-fallback",
)


@rule(
    "boot-target-missing",
    "warning",
    "A boot setting that names nothing is skipped, and something else starts than was meant.",
    "Copy the file there, or take the entry out of the boot order and save",
    *_LEADS,
    "volume-absent",
    "volume-unreadable",
    stops="boot",
)
def boot_target_missing(subject: Subject) -> Iterator[Said]:
    """A saved boot setting names a file, volume or bank that is not there, or is empty."""
    for member, candidate, place, leads in _cited(subject):
        owner = subject.judged.member(place.member or "")
        held = owner is not None and owner.member.bank(place.path) is not None
        if candidate.result not in GOES_ON or (place.is_bank and held):
            continue
        saw = f"the boot settings name it, but {candidate.why}"
        if raw := _raw(member, candidate):
            saw += f"; the device writes it as {raw!r}"
        if near := nearest(subject.judged, place):
            saw += f"; the nearest name there is {near[0]!r}{near[1]}"
        if member.running_on.sure and place in member.running_on.places:
            saw += "; what runs was started from it and now lives in memory only"
        yield Said(
            member=member.id,
            place=place,
            saw=saw + (f"; {_instead(member)}" if leads else ""),
            severity=_by_consequence(leads),
            whole=leads,
        )


@rule(
    "boot-target-broken",
    "warning",
    "A boot setting that names a file which cannot start fails at the worst moment.",
    "Copy a proven image there, or take the entry out of the boot order and save",
    *_LEADS,
    stops="boot",
)
def boot_target_broken(subject: Subject) -> Iterator[Said]:
    """A saved boot setting names something that is there but cannot start."""
    for member, candidate, place, leads in _cited(subject):
        if candidate.result in BROKEN and candidate.result != "bad":
            saw = f"the boot settings name it, but it cannot start ({candidate.result}): "
            yield Said(
                member=member.id,
                place=place,
                saw=saw
                + candidate.why
                + (f"; {_instead(member)}" if leads else "")
                + (subject.spread(subject.judged.image(candidate.at)) if candidate.at else ""),
                severity=_by_consequence(leads),
                whole=leads,
            )
    for member in subject.members:
        for candidate in member.walk.tried if not member.stranded else ():
            if (
                candidate.origin in SET_ORIGINS
                and candidate.result in BROKEN
                and candidate.result != "bad"
            ):
                yield Said(
                    member=member.id,
                    place=candidate.at,
                    saw=f"it cannot start ({candidate.result}): {candidate.why}; "
                    + _instead(member),
                    do="Write a proven image to it, or choose another bank and save",
                    severity="critical",
                )


def _by_consequence(leads: bool) -> Severity | None:
    """Critical where the first candidate fails: the device would not start what it was told to."""
    return "critical" if leads else None


def _raw(member: MemberSubject, candidate: Candidate) -> str | None:
    """The device's own text of an entry, where that says more than the place."""
    for entry in _order(member) or ():
        if entry.place == candidate.place and entry.raw is not None:
            return None if entry.raw.strip("\n") == entry.place else entry.raw
    return None


@rule(
    "boot-order-empty",
    "warning",
    "Without a boot order the loader takes whatever it finds first.",
    "Put the image that is wanted into the boot order, and save",
    stops="boot",
)
def boot_order_empty(subject: Subject) -> Iterator[Said]:
    """The order is followed, and it is empty."""
    for member in subject.members:
        if _mode(subject, member) == "listed" and _order(member) == ():
            saw = f"the boot order is empty; {_instead(member)}"
            yield Said(member=member.id, place=None, saw=saw)


@rule(
    "boot-target-twice",
    "note",
    "An entry that is there twice gives no second chance.",
    "Take one of the two out of the boot order, and save",
    stops="nothing",
)
def boot_target_twice(subject: Subject) -> Iterator[Said]:
    """The boot order names one file twice."""
    for member in subject.members:
        order = _order(member) or ()
        names = {(each.place or "").rpartition("/")[2].rpartition(":")[2] for each in order}
        if len({name.casefold() for name in names}) == len(order):
            continue  # no two can be one file
        seen = set[object]()
        for entry in order:
            named = _same_file(subject, member, entry)
            if named in seen and isinstance(named, Place):
                saw = "the boot order names it twice"
                yield Said(member=member.id, place=named, saw=saw)
            seen.add(named)


def _same_file(subject: Subject, member: MemberSubject, entry: BootEntry) -> object:
    """What two entries for one file have in common: where it is, if they name a place."""
    if entry.at is None:
        return entry
    place = subject.judged.located(entry.at, member.id)
    owner = subject.judged.member(place.member or "")
    volume = owner.member.volume(place.volume) if owner is not None else None
    return place if volume is None else place._replace(path=volume.folded(place.path))


@rule(
    "boot-entry-unclear",
    "warning",
    "Nobody knows what a boot entry starts that is not understood, and a reload may come to it.",
    "Read the entry on the device; teach the sheet how this kind of device writes a place",
)
def boot_entry_unclear(subject: Subject) -> Iterator[Said]:
    """A boot setting has an entry of which only the device's own text is known."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is None:
            continue
        lists = {
            "once": (boot.once,) if boot.once is not None else (),
            "saved order": boot.order.saved or (),
            "live order": boot.order.live or (),
        }
        told: dict[str, list[str]] = {}
        for name, entries in lists.items():
            for entry in entries:
                if entry.place is None and entry.remote is None:
                    told.setdefault(entry.raw or "", []).append(name)
        for raw, names in told.items():
            where = " and ".join(dict.fromkeys(names))
            yield Said(
                member=member.id,
                place=None,
                saw=f"the entry {raw!r} ({where}) is not understood; no image that it may mean is "
                "offered for deletion",
                severity="critical" if member.walk.outcome == "unknown" else None,
            )


@rule(
    "boot-order-unsaved",
    "warning",
    "A boot setting that was changed but not saved is lost at reload.",
    "Save the boot settings if the live ones are meant, else set them back",
    "boot-mode-unsaved",
    "next-start-older",
    "reload-pending",
    "bank-runs-other",
    stops="settings",
)
def boot_order_unsaved(subject: Subject) -> Iterator[Said]:
    """Live and saved boot settings differ (order or default bank; it names the mode, too)."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is None:
            continue
        order = _named(boot.order.live), _named(boot.order.saved)
        default = (boot.default_bank.live,), (boot.default_bank.saved,)
        if not (_differ(*order) or _differ(*default)):
            continue
        mode = (boot.mode.live,), (boot.mode.saved,)
        differing = [
            f"{name}: live {_joined(live)}, saved {_joined(saved)}"
            for name, (live, saved) in (("mode", mode), ("order", order), ("default bank", default))
            if _differ(live, saved)
        ]
        yield Said(member=member.id, place=None, saw="; ".join(differing) + _then(member))


@rule(
    "boot-mode-unsaved",
    "warning",
    "A boot mode that was changed but not saved is lost at reload.",
    "Save the boot settings if the live mode is meant, else set it back",
    stops="settings",
)
def boot_mode_unsaved(subject: Subject) -> Iterator[Said]:
    """The boot mode differs live and saved, and the device does not say that all is saved."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is None or _is_pending(subject, boot):
            continue
        if _differ((boot.mode.live,), (boot.mode.saved,)):
            saw = f"the boot mode is {boot.mode.live} live and {boot.mode.saved} saved"
            yield Said(member=member.id, place=None, saw=saw + _then(member))


@rule(
    "boot-setting-pending",
    "note",
    "A setting that was saved for the next reload takes effect then, whoever reloads it and when.",
    "Know that the next reload changes it",
)
def boot_setting_pending(subject: Subject) -> Iterator[Said]:
    """A mode, or the reading of the saved configuration, is saved to change at the next reload."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is None or not _is_pending(subject, boot):
            continue
        pending = []
        if _differ((boot.mode.live,), (boot.mode.saved,)):
            pending.append(f"the boot mode is {boot.mode.live} now and {boot.mode.saved}")
        ignores = boot.ignores_saved_config
        if None not in (ignores.live, ignores.saved) and ignores.live != ignores.saved:
            words = {True: "ignored", False: "read"}
            now, then = words[bool(ignores.live)], words[bool(ignores.saved)]
            pending.append(f"the saved configuration was {now} at the last start and is {then}")
        if pending:
            saw = f"{' and '.join(pending)} after the next reload{_then(member)}"
            yield Said(member=member.id, place=None, saw=saw)


def _is_pending(subject: Subject, boot: Boot) -> bool:
    """Whether what is saved differs on purpose: nothing is unsaved, and no order differs."""
    config = subject.judged.device.config
    if config is None or config.unsaved_changes is not False:
        return False
    return not _differ(_named(boot.order.live), _named(boot.order.saved))


def _differ(live: tuple[str | None, ...], saved: tuple[str | None, ...]) -> bool:
    """Whether two settings that are both known differ."""
    return live != saved and None not in live and None not in saved


def _then(member: MemberSubject) -> str:
    starts = member.walk.starts
    if starts is None:
        return ""
    changes = starts.version is not None and member.runs not in (None, starts.version)
    now = f" ({starts.version}; {member.runs} runs now)" if changes else ""
    return f"; a reload starts {starts.place}{now}"


def _joined(names: tuple[str | None, ...]) -> str:
    return ", ".join(name or "" for name in names) or "empty"


def _named(order: tuple[BootEntry, ...] | None) -> tuple[str | None, ...]:
    """What each entry of an order names; (None,) where the order is not known."""
    if order is None:
        return (None,)
    return tuple(each.shown for each in order)


@rule(
    "boot-order-old-first",
    "note",
    "An order that names the old image first starts the old one, however new the second is.",
    "Put the newer image first if it is meant, and save",
    "release-not-target",
    "recommended-newer",
    stops="nothing",
)
def boot_order_old_first(subject: Subject) -> Iterator[Said]:
    """The first entry starts, and a later one is a newer, proven image."""
    target = subject.wanted.target
    for member in subject.members:
        starts = member.walk.starts
        if (
            starts is None
            or len(member.cited) < 2
            or member.walk.tried[-1].origin != "order"
            or (target is not None and subject.order(member.starts, target) == 0)
        ):
            continue
        for candidate in member.cited:
            image = (
                None
                if candidate.result != "proven"
                else subject.judged.image(candidate.at)
                if candidate.at is not None
                else None
            )
            if image is not None and subject.order(image.version, member.starts) == 1:
                wanted = target is not None and subject.order(image.version, target) == 0
                yield Said(
                    member=member.id,
                    place=starts.at,
                    saw=f"the boot order names it ({member.starts}) before {candidate.place} "
                    f"({image.version}" + (", the target)" if wanted else ")"),
                    severity="warning" if wanted else None,
                    whole=wanted,
                )
                break


@rule(
    "boot-mode-ignores-order",
    "note",
    "A loader that takes the first image it finds does not look at the boot order.",
    "Set the boot mode to follow the boot order, and save",
    stops="nothing",
)
def boot_mode_ignores_order(subject: Subject) -> Iterator[Said]:
    """The mode is first-found, and there is an order that nobody follows."""
    for member in subject.members:
        order = _order(member)
        if _mode(subject, member) == "first-found" and order:
            starts = member.walk.starts
            first = order[0].at
            own = None if first is None else subject.judged.located(first, member.id)
            other = starts is not None and starts.at != own
            yield Said(
                member=member.id,
                place=None,
                saw=f"the boot mode is first-found, so the boot order ({_joined(_named(order))}) "
                f"is not followed{_then(member)}",
                severity="warning" if other else None,
            )


@rule(
    "saved-config-ignored",
    "critical",
    "A device that starts without its saved configuration comes up unreachable.",
    "Set the device to read its saved configuration at start, and save that",
    stops="settings",
)
def saved_config_ignored(subject: Subject) -> Iterator[Said]:
    """The next start does not read the saved configuration."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is not None and boot.ignores_saved_config.effective:
            saw = "the next start ignores the saved configuration"
            yield Said(member=member.id, place=None, saw=saw)


@rule(
    "starts-unwanted",
    "warning",
    "What starts only because nothing better was named is what nobody chose.",
    "Name the image that is wanted in the boot settings, and save",
    "boot-order-empty",
    "boot-mode-ignores-order",
    "boot-order-old-first",
    "next-start-older",
    "reload-pending",
    "bank-runs-other",
    "member-starts-differ",
    stops="boot",
)
def starts_unwanted(subject: Subject) -> Iterator[Said]:
    """A fallback starts a version that neither runs nor is the target."""
    for member in subject.members:
        starts = member.walk.starts
        if starts is None or member.walk.tried[-1].origin not in ("first-found", "other-bank"):
            continue
        unwanted = subject.order(member.starts, subject.wanted.target) != 0
        if unwanted and subject.order(member.starts, member.runs) not in (0, None):
            why, do = "the boot mode is first-found", None
            meant = _meant(subject, member)
            if meant is not None:
                do = f"Set the boot mode to follow the boot order, which names {meant}, and save"
            if _mode(subject, member) == "listed":
                named = _joined(_named(_order(member)))
                why = f"the boot order ({named}) starts nothing"
            elif _mode(subject, member) is None:
                why = "the default bank starts nothing"
            yield Said(
                member=member.id,
                place=starts.at,
                saw=f"a reload starts it ({member.starts}), since {why}; {member.runs} runs now "
                "and no setting names this one",
                do=do,
            )


def _meant(subject: Subject, member: MemberSubject) -> str | None:
    """The first of a boot order that nobody follows, where it is what runs or is wanted."""
    order = _order(member)
    if not order or _mode(subject, member) != "first-found" or (first := order[0].at) is None:
        return None
    image = subject.judged.image(subject.judged.located(first, member.id))
    if image is None or image.judgement.verdict in ("altered", "truncated"):
        return None
    good = (member.runs, subject.wanted.target)
    meant = any(subject.order(image.version, each) == 0 for each in good)
    return order[0].place if meant else None


@rule(
    "reload-pending",
    "note",
    "What runs is not what starts next: the next reload, also an unplanned one, changes it.",
    "Reload in a window, and see that every member comes back on it",
    "release-not-target",
    "recommended-newer",
    stops="target",
)
def reload_pending(subject: Subject) -> Iterator[Said]:
    """A newer version starts next than runs now, as the settings say."""
    target = subject.wanted.target
    for member in subject.members:
        starts = member.walk.starts
        if starts is None or subject.order(member.starts, member.runs) in (0, None):
            continue
        meant = subject.order(member.starts, target) == 0
        recommended = subject.wanted.goal_of(member.id) if target is None else None
        best = recommended is not None and (subject.order(member.starts, recommended.version) == 0)
        what = " (the target)" if meant else " (the recommended one)" if best else ""
        yield Said(
            member=member.id,
            place=starts.at,
            saw=f"{member.runs} runs, and a reload starts {member.starts}{what}",
            whole=meant or best,
        )


@rule(
    "boot-needs-server",
    "warning",
    "A start from a server fails when the server or the way to it does, as after a power failure.",
    "Put a proven local image first in the boot order, and save",
    stops="boot",
)
def boot_needs_server(subject: Subject) -> Iterator[Said]:
    """The next start is from a server."""
    for member in subject.members:
        if member.walk.starts is not None and member.walk.tried[-1].result == "remote":
            saw = f"the next start is from a server: {member.walk.starts.place}"
            yield Said(member=member.id, place=None, saw=saw)


@rule(
    "next-boot-unproven",
    "warning",
    "What nobody has proven may start, or may not, and nobody knows what it does then.",
    "Read its digest on the device, and see that catalog/ has the published one",
    stops="boot",
)
def next_boot_unproven(subject: Subject) -> Iterator[Said]:
    """A member would start what is not proven, and no rule on images says why."""
    for member in subject.members:
        if member.walk.outcome != "unproven" or member.walk.tried[-1].result == "remote":
            continue
        if not any(member.starts_on(image) for image in member.unproven if _is_told(image)):
            starts = member.walk.starts
            yield Said(
                member=member.id,
                place=starts.at if starts is not None else None,
                saw=f"the next start is from it, not proven: {member.walk.note}",
            )


def _is_told(image: Image) -> bool:
    """Whether a rule on images tells of an image that is not proven and starts next."""
    return image.judgement.verdict in ("unlisted", "unverified", "disputed")


@rule(
    "running-image-gone",
    "warning",
    "What runs lives in memory only: after a reload there is no way back to it.",
    "Copy the running release back before you reload, or make sure of the next one",
    "no-fallback",
    stops="fallback",
)
def running_image_gone(subject: Subject) -> Iterator[Said]:
    """The image that runs is no longer on its volume, and no boot setting says so."""
    for member in subject.members:
        gone, holds = member.running_on.gone, member.running_on.holds
        if gone is not None and holds is not None:
            yield Said(
                member=member.id,
                place=gone,
                saw=f"{member.runs} runs and was started from it, and it holds {holds.version} by "
                "now: what runs lives in memory only",
            )
        place = member.running_on.place
        if place is None or member.running is not None:
            continue
        owner = subject.judged.member(place.member or "")
        if owner is None:
            continue
        volume = owner.member.volume(place.volume)
        absent = volume is not None and volume.state == "absent"
        if volume is None or (volume.files is None and not absent):
            continue
        named = not member.stranded and any(
            each.result in GOES_ON and each.at == place for each in member.cited
        )
        if not named and (absent or find_file(place.on(None), owner.member) is None):
            yield Said(
                member=member.id,
                place=place,
                saw=f"{member.runs or 'the running image'} runs from it, but it is not there",
            )


@rule(
    "no-fallback",
    "note",
    "Where only one image can start, a fault in that one strands the device.",
    "Keep a second proven image, and name it behind the first in the boot order",
    stops="fallback",
)
def no_fallback(subject: Subject) -> Iterator[Said]:
    """Were the image that starts next missing, nothing would start."""
    start = subject.judged.judge.sheet.boot
    alone = subject.layout.holder == "banks" and start.fallback == "none"
    if subject.policy.keep < 2 or alone:
        return
    for member in subject.members:
        starts = member.walk.starts
        unknown = any(each.result == "unknown" for each in member.cited)
        if (
            starts is not None
            and not unknown
            and not others_that_boot(subject.judged, member.one, member.walk, member.cited)
        ):
            yield Said(
                member=member.id,
                place=starts.at,
                saw="nothing else could start, were this one missing or broken",
            )

"""Rules on the next start: boot settings, what they name, and what starts."""

from collections.abc import Iterator
from typing import TypeVar

from ovek.engine.bootwalk import others_that_boot, walk_device
from ovek.engine.changes import effect
from ovek.engine.nearest import nearest
from ovek.engine.rules import (
    SET_ORIGINS,
    SIGNED_LIST,
    MemberSubject,
    Said,
    Subject,
    is_unsigned,
    rule,
)
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
    "A device at its boot loader forwards no traffic until someone boots it.",
    "Boot it from the boot loader prompt, then read it again: ovek survey",
)
def at_boot_loader(subject: Subject) -> Iterator[Said]:
    """The device was read at the prompt of its boot loader."""
    if subject.up:
        return
    for member in subject.members:
        boots, able = member.walk.boots, member.walk.rescue
        seen = "the device is at its boot loader prompt; no image is running"
        if boots is not None:
            version = f"{boots.version} " if boots.version else ""
            text = f"Boot it: the next boot is {version}from {boots.place}, {boots.verdict}"
        elif able:
            best = able[0]
            text = f"Boot it by hand from {best.place} ({best.version or 'version unknown'}, "
            text += f"{best.verdict}), then set what boots next"
        elif member.stranded:
            text = "Bring a proven image on a stick or over the network, and boot from that"
        else:
            text = "Find out what it boots from: read the device at its boot loader again"
        yield Said(member=member.id, place=None, seen=seen, do=text)
    if not subject.members:
        seen = "the device is at its boot loader prompt; no image is running"
        yield Said(member=None, place=None, seen=seen)


@rule(
    "reload-scheduled",
    "warning",
    "A scheduled reload happens whatever state the device is in, usually with nobody on site.",
    "Cancel the scheduled reload, or fix the next boot before it happens",
    stops="boot",
    reads=("times",),
)
def reload_scheduled(subject: Subject) -> Iterator[Said]:
    """A reload is scheduled on the device, and its next boot is not proven."""
    device, reload = subject.judged.device, subject.walk.next_boot
    if device.reload_at is None or subject.times.clock > device.reload_at or reload == "proven":
        return
    seen = f"a reload is scheduled for {device.reload_at:%Y-%m-%d %H:%M} UTC (device clock), "
    seen += f"and the next boot is {reload}"
    serious: Severity | None = "critical" if reload in ("stranded", "unknown") else None
    yield Said(member=None, place=None, seen=seen, severity=serious)


@rule(
    "boots-from-removable",
    "warning",
    "If someone removes the stick, the device has nothing to boot.",
    "Copy a proven image to a built-in volume, and name it in the boot settings",
    stops="boot",
)
def boots_from_removable(subject: Subject) -> Iterator[Said]:
    """The next boot is from a removable volume, and without it nothing boots."""
    judged = subject.judged
    for member in subject.members:
        at = member.walk.boots.at if member.walk.boots is not None else None
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
            seen = f"the next boot is from {at.volume}, which is removable, and nothing boots "
            yield Said(member=member.id, place=at.on(None), seen=seen + "without it")


@rule(
    "boot-mode-holds",
    "critical",
    "In boot mode hold the loader waits for a person after every reload and power failure.",
    "Set the boot mode to follow the boot order, and save",
    "stranded",
    "boot-order-empty",
    "boot-mode-ignores-order",
    "boot-order-old-first",
    "no-fallback",
    stops="boot",
)
def boot_mode_holds(subject: Subject) -> Iterator[Said]:
    """The saved boot mode is hold: the loader stops and waits."""
    for member in subject.members:
        if _mode(subject, member) == "hold":
            boots = member.walk.boots
            once = f"; only the one-time boot entry boots {boots.place}, once" if boots else ""
            yield Said(
                member=member.id,
                place=None,
                seen=f"the boot mode is hold: the loader stops and waits{once}",
                severity=None if member.stranded else "warning",
            )


@rule(
    "stranded",
    "critical",
    "Nothing the loader would try can boot: after a reload, someone has to go on site.",
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
    "member-boots-differ",
    stops="boot",
)
def stranded(subject: Subject) -> Iterator[Said]:
    """After a reload, a member would stop in its boot loader."""
    for member in subject.members:
        if not member.stranded:
            continue
        tried = "; ".join(_tried(each) for each in member.walk.tried)
        seen = f"after a reload it stops in the boot loader: {tried or member.walk.note}"
        halts = subject.judged.judge.sheet.boot.on_bad_image == "halt"
        if halts and tried and member.walk.tried[-1].result in BROKEN:
            seen += f"; {member.walk.note}"
        yield Said(member=member.id, place=None, seen=seen, do=_way_out(member))


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
        f"({best.version or 'version unknown'}, {best.verdict})"
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
    boots = member.walk.boots
    if boots is None:
        return "what would boot instead is unknown"
    version = f" ({boots.version})" if boots.version else ""
    return f"the device would boot {boots.place}{version} instead"


# What a setting that fails first explains by itself.
_LEADS = (
    "next-boot-unwanted",
    "next-boot-older",
    "reload-pending",
    "boot-order-old-first",
    "bank-runs-other",
    "member-target-missing",
    "no-fallback",
)


@rule(
    "boot-target-missing",
    "warning",
    "The loader skips an entry whose file is missing: the device boots what nobody chose.",
    "Copy the missing file to the device, or remove the entry from the boot order, and save",
    *_LEADS,
    "volume-absent",
    "volume-unreadable",
    stops="boot",
    reads=("files",),
)
def boot_target_missing(subject: Subject) -> Iterator[Said]:
    """A saved boot setting names a file, volume or bank that does not exist, or is empty."""
    for member, candidate, place, leads in _cited(subject):
        owner = subject.judged.member(place.member or "")
        held = owner is not None and owner.member.bank(place.path) is not None
        if candidate.result not in GOES_ON or (place.is_bank and held):
            continue
        seen = f"it is named in the boot settings, but {candidate.why}"
        if raw := _raw(member, candidate):
            seen += f"; the device writes it as {raw!r}"
        if near := nearest(subject.judged, place):
            seen += f"; the most similar file there is {near[0]!r}{near[1]}"
        if member.running_on.sure and place in member.running_on.places:
            seen += "; the running image was booted from it and now exists only in memory"
        yield Said(
            member=member.id,
            place=place,
            seen=seen + (f"; {_instead(member)}" if leads else ""),
            severity=_by_consequence(leads),
            whole=leads,
        )


@rule(
    "boot-target-broken",
    "warning",
    "A boot entry whose image is bad fails during the reload, when it hurts most.",
    "Copy a proven image there, or remove the entry from the boot order, and save",
    *_LEADS,
    stops="boot",
)
def boot_target_broken(subject: Subject) -> Iterator[Said]:
    """A saved boot setting names something that exists but cannot boot."""
    for member, candidate, place, leads in _cited(subject):
        if candidate.result in BROKEN and candidate.result != "bad":
            seen = f"it is named in the boot settings, but it cannot boot ({candidate.result}): "
            yield Said(
                member=member.id,
                place=place,
                seen=seen
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
                    seen=f"it cannot boot ({candidate.result}): {candidate.why}; "
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
    "With an empty boot order the loader boots the first image it finds.",
    "Put the intended image into the boot order, and save",
    stops="boot",
)
def boot_order_empty(subject: Subject) -> Iterator[Said]:
    """The boot mode follows the boot order, and the boot order is empty."""
    for member in subject.members:
        if _mode(subject, member) == "listed" and _order(member) == ():
            seen = f"the boot order is empty; {_instead(member)}"
            yield Said(member=member.id, place=None, seen=seen)


@rule(
    "boot-target-twice",
    "note",
    "A duplicate entry is not a fallback: if the file is bad, both entries fail.",
    "Remove one of the two from the boot order, and save",
    stops="nothing",
)
def boot_target_twice(subject: Subject) -> Iterator[Said]:
    """The boot order names one file twice."""
    for member in subject.members:
        order = _order(member) or ()
        names = {(each.place or "").rpartition("/")[2].rpartition(":")[2] for each in order}
        if len({name.casefold() for name in names}) == len(order):
            continue  # no two can be one file
        earlier = set[object]()
        for entry in order:
            named = _same_file(subject, member, entry)
            if named in earlier and isinstance(named, Place):
                seen = "the boot order names it twice"
                yield Said(member=member.id, place=named, seen=seen)
            earlier.add(named)


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
    "Ovek cannot tell what this boot entry boots, and a reload may use it.",
    "Look at the entry on the device, then extend the sheet to parse it",
)
def boot_entry_unclear(subject: Subject) -> Iterator[Said]:
    """A boot setting has an entry that the sheet cannot parse."""
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
                seen=f"the entry {raw!r} ({where}) cannot be parsed; no image that it may mean is "
                "offered for deletion",
                severity="critical" if member.walk.outcome == "unknown" else None,
            )


@rule(
    "boot-order-unsaved",
    "warning",
    "A boot setting that was changed but not saved is lost at reload.",
    "If the live boot settings are intended, save them; if not, restore the saved ones",
    "boot-mode-unsaved",
    "next-boot-older",
    "reload-pending",
    "bank-runs-other",
    stops="settings",
)
def boot_order_unsaved(subject: Subject) -> Iterator[Said]:
    """The live and the saved boot settings differ (order, default bank or mode)."""
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
        yield Said(member=member.id, place=None, seen="; ".join(differing) + _then(member))


@rule(
    "boot-mode-unsaved",
    "warning",
    "A boot mode that was changed but not saved is lost at reload.",
    "If the live boot mode is intended, save it; if not, restore the saved one",
    stops="settings",
)
def boot_mode_unsaved(subject: Subject) -> Iterator[Said]:
    """The live and the saved boot mode differ, and the device does not say all is saved."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is None or _is_pending(subject, boot):
            continue
        if _differ((boot.mode.live,), (boot.mode.saved,)):
            seen = f"the boot mode is {boot.mode.live} live and {boot.mode.saved} saved"
            yield Said(member=member.id, place=None, seen=seen + _then(member))


@rule(
    "boot-setting-pending",
    "note",
    "A saved setting takes effect at the next reload, even an unplanned one.",
    "Expect the change at the next reload, or restore the setting",
)
def boot_setting_pending(subject: Subject) -> Iterator[Said]:
    """The next reload changes the boot mode, or whether the saved configuration is read."""
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
            pending.append(f"the saved configuration was {now} at the last boot and is {then}")
        if pending:
            seen = f"{' and '.join(pending)} after the next reload{_then(member)}"
            yield Said(member=member.id, place=None, seen=seen)


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
    boots = member.walk.boots
    if boots is None:
        return ""
    changes = boots.version is not None and member.running not in (None, boots.version)
    now = f" ({boots.version}; running {member.running})" if changes else ""
    return f"; the next boot is {boots.place}{now}"


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
    "The loader boots the first entry, even if a later entry is newer.",
    "If the newer image is intended, put it first, and save",
    "release-not-target",
    "recommended-newer",
    stops="nothing",
)
def boot_order_old_first(subject: Subject) -> Iterator[Said]:
    """The first entry boots, and a later one is a newer, proven image."""
    target = subject.wanted.target
    for member in subject.members:
        boots = member.walk.boots
        if (
            boots is None
            or len(member.cited) < 2
            or member.walk.tried[-1].origin != "order"
            or (target is not None and subject.order(member.boots, target) == 0)
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
            if image is not None and subject.order(image.version, member.boots) == 1:
                wanted = target is not None and subject.order(image.version, target) == 0
                yield Said(
                    member=member.id,
                    place=boots.at,
                    seen=f"the boot order names it ({member.boots}) before {candidate.place} "
                    f"({image.version}" + (", the target)" if wanted else ")"),
                    severity="warning" if wanted else None,
                    whole=wanted,
                )
                break


@rule(
    "boot-mode-ignores-order",
    "note",
    "In boot mode first-found the loader ignores the boot order.",
    "Set the boot mode to follow the boot order, and save",
    stops="nothing",
)
def boot_mode_ignores_order(subject: Subject) -> Iterator[Said]:
    """The boot mode is first-found, so the boot order is ignored."""
    for member in subject.members:
        order = _order(member)
        if _mode(subject, member) == "first-found" and order:
            boots = member.walk.boots
            first = order[0].at
            own = None if first is None else subject.judged.located(first, member.id)
            other = boots is not None and boots.at != own
            yield Said(
                member=member.id,
                place=None,
                seen=f"the boot mode is first-found: the boot order ({_joined(_named(order))}) "
                f"is ignored{_then(member)}",
                severity="warning" if other else None,
            )


@rule(
    "saved-config-ignored",
    "critical",
    "A device that boots without its saved configuration is usually unreachable.",
    "Set the device to read its saved configuration at boot, and save that",
    stops="settings",
)
def saved_config_ignored(subject: Subject) -> Iterator[Said]:
    """The next boot does not read the saved configuration."""
    for member in subject.members:
        boot = member.one.member.boot
        if boot is not None and boot.ignores_saved_config.effective:
            seen = "the next boot ignores the saved configuration"
            yield Said(member=member.id, place=None, seen=seen)


@rule(
    "next-boot-unwanted",
    "warning",
    "The device would boot an image that nobody selected.",
    "Name the intended image in the boot settings, and save",
    "boot-order-empty",
    "boot-mode-ignores-order",
    "boot-order-old-first",
    "next-boot-older",
    "reload-pending",
    "bank-runs-other",
    "member-boots-differ",
    stops="boot",
)
def next_boot_unwanted(subject: Subject) -> Iterator[Said]:
    """The next boot falls back to a version that is neither running nor the target."""
    for member in subject.members:
        boots = member.walk.boots
        if boots is None or member.walk.tried[-1].origin not in ("first-found", "other-bank"):
            continue
        unwanted = subject.order(member.boots, subject.wanted.target) != 0
        if unwanted and subject.order(member.boots, member.running) not in (0, None):
            why, do = "the boot mode is first-found", None
            meant = _meant(subject, member)
            if meant is not None:
                do = f"Set the boot mode to follow the boot order, which names {meant}, and save"
            if _mode(subject, member) == "listed":
                named = _joined(_named(_order(member)))
                why = f"the boot order ({named}) boots nothing"
            elif _mode(subject, member) is None:
                why = "the default bank boots nothing"
            yield Said(
                member=member.id,
                place=boots.at,
                seen=f"it is the next boot ({member.boots}) because {why}; running "
                f"{member.running}, "
                "and no boot setting names this image",
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
    good = (member.running, subject.wanted.target)
    meant = any(subject.order(image.version, each) == 0 for each in good)
    return order[0].place if meant else None


@rule(
    "reload-pending",
    "note",
    "The next reload changes the version, even an unplanned one.",
    "Reload in a maintenance window, then check every member: ovek compare",
    "release-not-target",
    "recommended-newer",
    stops="target",
)
def reload_pending(subject: Subject) -> Iterator[Said]:
    """The next boot is newer than the running version, as the boot settings say."""
    target = subject.wanted.target
    for member in subject.members:
        boots = member.walk.boots
        if boots is None or subject.order(member.boots, member.running) in (0, None):
            continue
        meant = subject.order(member.boots, target) == 0
        recommended = subject.wanted.goal_of(member.id) if target is None else None
        best = recommended is not None and (subject.order(member.boots, recommended.version) == 0)
        what = " (the target)" if meant else " (the recommended one)" if best else ""
        yield Said(
            member=member.id,
            place=boots.at,
            seen=f"running {member.running}, next boot {member.boots}{what}",
            whole=meant or best,
        )


@rule(
    "boot-needs-server",
    "warning",
    "A network boot fails if the server or the path to it is down.",
    "Put a proven local image first in the boot order, and save",
    stops="boot",
)
def boot_needs_server(subject: Subject) -> Iterator[Said]:
    """The next boot is from a server."""
    for member in subject.members:
        if member.walk.boots is not None and member.walk.tried[-1].result == "remote":
            seen = f"the next boot is from a server: {member.walk.boots.place}"
            yield Said(member=member.id, place=None, seen=seen)


@rule(
    "next-boot-unproven",
    "warning",
    "An image without proof may fail to boot, or may have been tampered with.",
    "Read its digest on the device, and make sure catalog/ lists the published one",
    stops="boot",
)
def next_boot_unproven(subject: Subject) -> Iterator[Said]:
    """A member would boot an unproven image, and no rule on images says why."""
    for member in subject.members:
        if member.walk.outcome != "unproven" or member.walk.tried[-1].result == "remote":
            continue
        if not any(member.starts_on(image) for image in member.unproven if _is_told(image)):
            boots = member.walk.boots
            unsigned = member.boot_image is not None and is_unsigned(member.boot_image)
            yield Said(
                member=member.id,
                place=boots.at if boots is not None else None,
                seen=f"it is the next boot, and it is unproven: {member.walk.note}",
                do=SIGNED_LIST if unsigned else None,
            )


def _is_told(image: Image) -> bool:
    """Whether a rule on images tells of an image that is not proven and starts next."""
    return image.judgement.verdict in ("unlisted", "unverified", "disputed")


@rule(
    "running-image-gone",
    "warning",
    "The running image exists only in memory; after a reload it is gone.",
    "Copy the running release back to flash before you reload, or prove the next boot image",
    "no-fallback",
    stops="fallback",
)
def running_image_gone(subject: Subject) -> Iterator[Said]:
    """The running image is no longer on flash."""
    for member in subject.members:
        gone, holds = member.running_on.gone, member.running_on.holds
        if gone is not None and holds is not None:
            yield Said(
                member=member.id,
                place=gone,
                seen=f"the device was booted from this file ({member.running}), which is now "
                f"{holds.version}: the running image exists only in memory",
            )
        place = member.running_on.place
        if place is None or member.running_image is not None:
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
                seen="the device was booted from this file "
                f"({member.running or 'version unknown'}), "
                "and the file no longer exists",
            )


@rule(
    "no-fallback",
    "note",
    "If only one image is bootable and it fails, the device stops in its boot loader.",
    "Keep a second proven image, and add it to the boot order after the first",
    stops="fallback",
)
def no_fallback(subject: Subject) -> Iterator[Said]:
    """There is no fallback: if the next boot image is missing, nothing boots."""
    start = subject.judged.judge.sheet.boot
    alone = subject.layout.holder == "banks" and start.fallback == "none"
    if subject.policy.keep < 2 or alone:
        return
    for member in subject.members:
        boots = member.walk.boots
        unknown = any(each.result == "unknown" for each in member.cited)
        if (
            boots is not None
            and not unknown
            and not others_that_boot(subject.judged, member.one, member.walk, member.cited)
        ):
            yield Said(
                member=member.id,
                place=boots.at,
                seen="there is no fallback: if this image is missing or bad, nothing else can boot",
            )

"""Rules on banks: empty, bad, not as policy wants, and what starts from which."""

from collections.abc import Iterator

from ovek.engine.bootwalk import for_other
from ovek.engine.layouts.paired import COMMITTED, TRIAL
from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.verdicts import is_empty
from ovek.model.finding import Severity
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Bank
from ovek.model.verdict import Image


def _at(member: MemberSubject, name: str) -> Place:
    return Place(BANK, name, member.id)


def _leads(member: MemberSubject, bank: Bank) -> bool:
    tried = member.walk.tried
    return bool(tried) and tried[0].at == _at(member, bank.name)


def _banks(subject: Subject, state: str) -> Iterator[tuple[MemberSubject, Bank, bool]]:
    """The banks in a state, and whether each is the first thing that a start tries."""
    for member in subject.members:
        for bank in sorted(member.one.member.banks or (), key=lambda bank: bank.name):
            empty = is_empty(bank)
            text = "empty" if empty else bank.state
            if text == state:
                yield member, bank, _leads(member, bank)


def _way_back(member: MemberSubject) -> bool:
    """Whether some bank besides the one that starts next is proven."""
    boots = member.walk.boots
    return any(
        image.judgement.verdict == "proven"
        for image in member.one.banks.values()
        if boots is None or boots.at != image.place.on(member.id)
    )


# What a bank that cannot start explains by itself.
_EXPLAINED = (
    "no-fallback",
    "bank-rule-broken",
    "next-boot-unwanted",
    "next-boot-older",
    "reload-pending",
    "bank-runs-other",
    "pair-differs",
)


def _first(member: MemberSubject, leads: bool) -> str:
    if not leads:
        return ""
    boots = member.walk.boots
    instead = f"; {boots.place} boots instead" if boots is not None else ""
    return f", and the loader tries it first{instead}"


@rule(
    "bank-empty",
    "warning",
    "Without a second bootable bank there is no fallback.",
    "Write a proven image to it",
    *_EXPLAINED,
    stops="fallback",
    gives_way="stranded",
)
def bank_empty(subject: Subject) -> Iterator[Said]:
    """A bank is empty."""
    for member, bank, leads in _banks(subject, "empty"):
        way_back = _way_back(member)
        yield Said(
            member=member.id,
            place=Place(BANK, bank.name),
            seen=f"the bank is empty{_first(member, leads)}",
            severity="critical" if leads else "note" if way_back else None,
            whole=leads or not way_back,
        )


@rule(
    "bank-bad",
    "warning",
    "The device cannot boot from a bank that it marks as bad.",
    "Write a proven image to it; if it is still marked bad, the flash may be failing",
    *_EXPLAINED,
    stops="fallback",
    gives_way="stranded",
)
def bank_bad(subject: Subject) -> Iterator[Said]:
    """The device marks a bank as bad."""
    for member, bank, leads in _banks(subject, "bad"):
        yield Said(
            member=member.id,
            place=Place(BANK, bank.name),
            seen=f"the device marks this bank as bad{_first(member, leads)}",
            severity="critical" if leads else None,
            whole=leads or not _way_back(member),
        )


def _default(subject: Subject, member: MemberSubject) -> str | None:
    boot = member.one.member.boot
    if boot is None or subject.layout.holder != "banks" or subject.layout.pair:
        return None
    return boot.default_bank.effective


@rule(
    "default-bank-missing",
    "critical",
    "If the default bank does not exist, the loader boots something nobody selected.",
    "Set the default to an existing bank with a proven image, and save",
    *_EXPLAINED,
    stops="boot",
)
def default_bank_missing(subject: Subject) -> Iterator[Said]:
    """The default bank does not exist on the device."""
    for member in subject.members:
        default, banks = _default(subject, member), member.one.member.banks
        if default is None or banks is None or member.one.member.bank(default) is not None:
            continue
        if member.stranded:  # which names every candidate
            continue
        boots = member.walk.boots
        then = f"; {boots.place} boots instead" if boots is not None else ""
        names = ", ".join(sorted(bank.name for bank in banks)) or "none"
        yield Said(
            member=member.id,
            place=Place(BANK, default),
            seen=f"the default bank is set to {default}, but the device has only: {names}" + then,
        )


@rule(
    "bank-cannot-boot",
    "warning",
    "A bank whose image cannot boot on this member is not a fallback.",
    "Write a proven image for this hardware to it",
    "no-fallback",
    "bank-rule-broken",
    "pair-differs",
    stops="fallback",
    gives_way="named",
)
def bank_cannot_boot(subject: Subject) -> Iterator[Said]:
    """A bank contains component firmware, or an image for other hardware."""
    for member in subject.members:
        for name, image in sorted(member.one.banks.items()):
            hardware, foreign = member.one.hardware, image.foreign
            if not image.starts_members:
                message = "it contains component firmware, not a system image"
            elif foreign is not None and image.parts:
                wanted = [*(foreign.hardware or ()), *(foreign.revisions or ())]
                message = for_other(foreign.file, wanted, hardware)
            else:
                continue  # image-wrong-hardware tells of a bank that holds its image itself
            yield Said(member=member.id, place=Place(BANK, name), seen=message)


@rule(
    "bank-rule-broken",
    "warning",
    "The second bank is the fallback; bank_rule in policy.toml says what it must contain.",
    "Write the release that policy wants to the other bank",
    stops="fallback",
)
def bank_rule_broken(subject: Subject) -> Iterator[Said]:
    """The banks break the bank rule: they must match, or the second has the one before."""
    wanted = subject.wanted.bank_rule
    for member in subject.members if wanted is not None else ():
        default = _default(subject, member)
        first = member.one.banks.get(default or "")
        if first is None or first.version is None:
            continue
        others = [
            image
            for name, image in sorted(member.one.banks.items())
            if name != default and image.version is not None
        ]
        orders = [(image, subject.order(image.version, first.version)) for image in others]
        if wanted == "match":
            for image, order in orders:
                if order != 0:
                    do = _to_match(subject, member, first, image)
                    yield _broken(member, first, image, "policy wants both banks the same", do)
            continue
        earlier = [image for image, order in orders if order == -1]
        if others and not earlier:
            do = None
            if subject.order(others[0].version, subject.wanted.target) == 0:
                do = f"Set the default to {others[0].place.path}, save, and reload in a window"
            text = "policy wants the previous release in it"
            yield _broken(member, first, others[0], text, do)
        elif earlier and not any(image.version is None for image in others):
            yield from _too_old(subject, member, first, earlier)


def _to_match(subject: Subject, member: MemberSubject, first: Image, other: Image) -> str | None:
    """What makes two banks the same, where writing to the other one is not the next step."""
    target = subject.wanted.target
    if subject.order(other.version, target) == 0 and subject.order(first.version, target) != 0:
        return (
            f"Set the default to {other.place.path}, save, and reload in a window; then write the "
            f"same to {first.place.path}"
        )
    if subject.order(first.version, member.running) not in (0, None):
        return f"Reload into {first.version} in a window first, then write it to the other bank"
    return None


def _too_old(
    subject: Subject, member: MemberSubject, first: Image, earlier: list[Image]
) -> Iterator[Said]:
    """The other bank holds an earlier release, and a known one lies between."""
    known = subject.judged.judge.releases.for_model(member.one.hardware.model)
    between = {
        release.version
        for release in known
        if release.kind in (None, "system-image")
        and release.status != "withdrawn"
        and subject.order(release.version, first.version) == -1
        and all(subject.order(release.version, image.version) == 1 for image in earlier)
    }
    if between:
        text = ", ".join(sorted(version for version in between if version is not None))
        seen = f"policy wants the release directly before it, and {text} is in between"
        yield _broken(member, first, earlier[0], seen, severity="note")


def _broken(
    member: MemberSubject,
    first: Image,
    other: Image,
    wanted: str,
    do: str | None = None,
    severity: Severity | None = None,
) -> Said:
    return Said(
        do=do,
        severity=severity,
        member=member.id,
        place=other.place,
        seen=f"it contains {other.version}, the default {first.place} {first.version}; {wanted}",
    )


@rule(
    "bank-variant-differs",
    "warning",
    "Booting from the other bank would change the feature set.",
    "Write an image of the same variant to both banks",
    stops="fallback",
)
def bank_variant_differs(subject: Subject) -> Iterator[Said]:
    """Two banks contain different variants."""
    for member in subject.members:
        told: dict[str, Place] = {}
        for name, image in sorted(member.one.banks.items()):
            bank, release = member.one.member.bank(name), image.judgement.release
            variant = (bank and bank.variant) or (release and release.variant)
            if variant:
                told.setdefault(variant, image.place)
        if len(told) > 1:
            seen = ", ".join(f"{place} contains the variant {name}" for name, place in told.items())
            yield Said(member=member.id, place=list(told.values())[1], seen=seen)


@rule(
    "bank-runs-other",
    "warning",
    "The device runs from one bank, but a reload boots the other.",
    "Set the default to the intended bank, and save",
    stops="boot",
)
def bank_runs_other(subject: Subject) -> Iterator[Said]:
    """The running image came from a bank that is not the default for the next boot."""
    for member in subject.members:
        default, running = _default(subject, member), member.running_on.bank
        if running is None or default in (None, running):
            continue
        if subject.order(member.boots, member.running) not in (0, None):
            continue  # the version says more than the bank: see next-boot-older, reload-pending
        yield Said(
            member=member.id,
            place=Place(BANK, running),
            seen=f"running from {BANK}:{running} ({member.running or 'version unknown'}), "
            f"the default is {BANK}:{default} ({member.boots or 'version unknown'})",
        )


@rule(
    "next-boot-older",
    "warning",
    "An unintended downgrade removes features and may lose configuration.",
    "Point the boot settings at the intended release, and save",
    "reload-pending",
    "bank-runs-other",
    "boot-order-old-first",
    "boot-mode-ignores-order",
    stops="boot",
)
def next_boot_older(subject: Subject) -> Iterator[Said]:
    """The next boot is older than the running version, and policy does not ask for it."""
    for member in subject.members:
        boots = member.walk.boots
        if boots is None or subject.order(member.boots, member.running) != -1:
            continue
        if subject.order(member.boots, subject.wanted.target) != 0:
            yield Said(
                member=member.id,
                place=boots.at,
                seen=f"running {member.running}, next boot {member.boots}, which is older",
            )


@rule(
    "trial-not-committed",
    "warning",
    "An uncommitted trial image is rolled back at the next reload.",
    "If the trial image works well, commit it before the next reload",
    "next-boot-older",
    "reload-pending",
    "pair-differs",
    "bank-runs-other",
    "bank-rule-broken",
    "next-boot-unwanted",
    stops="boot",
)
def trial_not_committed(subject: Subject) -> Iterator[Said]:
    """The trial image is running, and a reload returns to the committed image."""
    for member, trial in _committed_starts(subject):
        if _runs_trial(member, trial):
            yield Said(
                member=member.id,
                place=Place(BANK, TRIAL),
                seen=f"the trial image is running ({member.running or trial.version}) but not "
                f"committed; a reload returns to {member.boots or 'the committed image'}",
            )


def _committed_starts(subject: Subject) -> Iterator[tuple[MemberSubject, Image]]:
    """The members of a paired layout whose trial holds something that a reload does not start."""
    if subject.layout.pair:
        for member in subject.members:
            trial, boots = member.one.banks.get(TRIAL), member.walk.boots
            committed = boots is not None and boots.at == _at(member, COMMITTED)
            if trial is not None and committed:
                yield member, trial


def _runs_trial(member: MemberSubject, trial: Image) -> bool:
    running = member.running_on
    place = running.place
    if place is not None and place.member == member.id and place.on(None) in trial.parts:
        return True
    return running.bank == TRIAL


@rule(
    "pair-differs",
    "note",
    "A trial image that is not scheduled is never booted.",
    "Schedule the trial boot, or make both directories the same",
    stops="fallback",
)
def pair_differs(subject: Subject) -> Iterator[Said]:
    """The trial directory differs from the committed one, which is running."""
    for member, trial in _committed_starts(subject):
        if trial.judgement.verdict not in ("altered", "truncated"):
            yield Said(
                member=member.id,
                place=Place(BANK, TRIAL),
                seen=f"it contains {trial.version or 'another image'} and {BANK}:{COMMITTED} "
                f"{member.boots or 'a different one'}; a reload boots the committed image",
            )

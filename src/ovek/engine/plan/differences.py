"""What differs between a device and its aim, in the order in which it is put right.

0 at the boot loader · 1 the configuration · 2 a next boot that is not safe · 3 to 5 an image that
is not there · 6 a digest that was not read · 7 components that must come first · 8 and 9 boot
settings · 10 a reload · 12 a commit, the other bank · 13 the fallback · 14 what is broken, stale or
too full.

What is so already is no difference. One leg comes after another: when a reload has led to the next
install on the way, that is what differs then.
"""

from collections.abc import Iterator

from ovek.engine.bootwalk import others_that_boot
from ovek.engine.components import loaded
from ovek.engine.fit import fit
from ovek.engine.layouts import layout_named, layout_of
from ovek.engine.layouts.paired import COMMITTED, TRIAL
from ovek.engine.plan.aim import (
    Aim,
    Leg,
    fallback_of,
    fallbacks_of,
    leg_of,
    runs_trial,
)
from ovek.engine.plan.digests import readable
from ovek.engine.plan.firmware import components_to_load, is_older, needed_by
from ovek.engine.plan.kinds import Difference, Legs
from ovek.engine.plan.settings import settings_of
from ovek.engine.plan.situation import LazyList, Situation
from ovek.engine.plan.tidy import untidy
from ovek.engine.verdicts import JudgedMember
from ovek.model.fit import REACHING
from ovek.model.place import BANK, Place
from ovek.model.version import compare
from ovek.model.walk import BROKEN, GOES_ON


def legs_of(now: Situation, aim: Aim) -> Legs:
    """What each member is to boot next on the way to the aim."""
    return Legs(of=tuple(leg_of(now, aim.members[one.member.id]) for one in now.members))


def differences(now: Situation, legs: Legs, *, moves: bool = True) -> Iterator[Difference]:
    """Go through what differs, in canonical order; `moves` is that of the aim of these legs."""
    if not now.up:
        yield Difference("at-loader")
        return
    yield from now.once(("of images", moves), lambda: LazyList(_of_images(now, legs)))
    for one, leg in zip(now.members, legs.of, strict=True):
        yield from untidy(now, one, leg)


def _of_images(now: Situation, legs: Legs) -> Iterator[Difference]:
    """What differs in images and settings, whatever other files and free space there are."""
    yield from _config(now)
    for leg in legs.of:
        if not is_safe(now, leg):
            yield Difference("unsafe", leg.member)
    for one, leg in zip(now.members, legs.of, strict=True):
        if leg.release is not None and leg.home is None:
            yield Difference("image", leg.member, release=leg.release)
        elif leg.home is not None and not leg.checked:
            yield Difference("digest", leg.member, leg.home)
        yield from components_to_load(now, one, leg)
        yield from _unread_fallback(now, one, leg)
    for one, leg in zip(now.members, legs.of, strict=True):
        if settings_of(now, one, leg):
            yield Difference("settings", leg.member)
    if reloads(now, legs):
        yield Difference("reload")
    for one, leg in zip(now.members, legs.of, strict=True):
        yield from _behind(now, one, leg)
    for one, leg in zip(now.members, legs.of, strict=True):
        if lacks_fallback(now, one, leg):
            yield Difference("fallback", leg.member)


def _unread_fallback(now: Situation, member: JudgedMember, leg: Leg) -> Iterator[Difference]:
    """The image to fall back to whose digest was not read, where none is proven."""
    if layout_of(now.judged).holder != "files" or now.policy.keep < 2:
        return
    if leg.home is None or fallback_of(now, member, leg) is not None:
        return
    for image in fallbacks_of(now, member, leg, "unverified")[:1]:
        parts = [now.judged.image(part.on(part.member or leg.member)) for part in image.parts]
        for held in parts or [image]:
            if held is not None and held.judgement.verdict == "unverified" and readable(now, held):
                yield Difference("unread", leg.member, held.place.on(leg.member))


def _config(now: Situation) -> Iterator[Difference]:
    config = now.judged.device.config
    unsaved = config is not None and config.unsaved_changes is True
    if now.backup_due:
        yield Difference("backup")
    if unsaved and not runs_without_config(now) and not now.is_accepted("config-unsaved"):
        yield Difference("unsaved")


def runs_without_config(now: Situation) -> bool:
    """Whether a member was booted without its saved configuration: a save would write that over."""
    boots = [one.member.boot for one in now.members if one.member.boot is not None]
    return any(boot.ignores_saved_config.live is True for boot in boots)


def is_safe(now: Situation, leg: Leg) -> bool:
    """Whether the next boot of a member is proven, and compatible with what runs."""
    walk = now.walk_of(leg.member)
    if walk.outcome != "proven":
        return False
    first = walk.tried[0]
    if first.origin == "once" and (first.result in GOES_ON or first.result in BROKEN):
        return False
    return may_boot(now, leg.member)


def may_boot(now: Situation, member: str) -> bool:
    """Whether what a member boots next may surely be loaded over what it runs, or is that."""
    running, image = now.runs_on(member), now.starting(member)
    release = image.judgement.release if image is not None else None
    if release is None or (image is not None and image.version == running.version):
        return True
    standing = now.standing(member)
    if standing is None:
        return True
    conditions = fit(standing, release).conditions
    return not any(each.of in REACHING and each.holds is False for each in conditions)


def reloads(now: Situation, legs: Legs) -> bool:
    """Whether some member has to be reloaded, and what it boots then is its leg."""
    for leg in legs.of:
        one = now.judged.member(leg.member)
        assert one is not None
        running, boots = now.runs_on(leg.member), now.walk_of(leg.member).boots
        image = now.starting(leg.member)
        scheme = now.judged.judge.sheet.versions.pattern
        known = leg.version is not None and running.version is not None
        if known and compare(running.version or "", leg.version or "", scheme) != 0:
            return True
        if leg.release is None or image is None or boots is None or boots.at != leg.home:
            continue
        component_scheme = now.judged.judge.sheet.versions.components.pattern
        needs = needed_by(now, one, leg.release)
        for each in loaded(now.judged, one, None):
            need = needs.get(each.component.component)
            if need is not None and each.place is not None and each.then is not None:
                late = is_older(each.component.version, need, component_scheme)
                if late and not is_older(each.then, need, component_scheme):
                    return True
    return False


def _behind(now: Situation, one: JudgedMember, leg: Leg) -> Iterator[Difference]:
    """A trial that is not committed, and the other bank."""
    layout, member = layout_of(now.judged), one.member.id
    if layout.holder != "banks" or leg.release is None or leg.home is None:
        return
    if layout.pair:
        if runs_trial(now, one) and not _same_pair(one):
            yield Difference("commit", member)
        elif now.wanted.bank_rule == "match" and not now.is_accepted("pair-differs"):
            trial = one.banks.get(TRIAL)
            if trial is not None and not leg.release.same_bytes(trial.judgement.release):
                yield Difference("other-bank", member, Place(BANK, TRIAL, member))
        return
    scheme = now.judged.judge.sheet.versions.pattern
    waived = now.is_accepted("bank-rule-broken")
    for bank in sorted(one.member.banks or (), key=lambda bank: bank.name):
        place = Place(BANK, bank.name, member)
        if place == leg.home:
            continue
        image = one.banks.get(bank.name)
        good = image is not None and image.judgement.verdict in ("proven", "unverified")
        good = good and image is not None and image.starts_members and image.suits is not False
        good = good and bank.state != "bad"
        order = None
        if good and image is not None and image.version is not None and leg.version is not None:
            order = compare(image.version, leg.version, scheme)
        lacks = not good and now.policy.keep > 1 and not _other_good(one, leg)
        waived_here = now.is_accepted("bank-bad" if bank.state == "bad" else "bank-empty", place)
        differs = lacks and not waived_here
        if now.wanted.bank_rule == "match" and not waived:
            variants = {
                bank.variant
                or (image and image.judgement.release and image.judgement.release.variant),
                leg.release.variant,
            } - {None}
            differs = not good or order not in (0, None) or len(variants) > 1
        elif now.wanted.bank_rule == "previous" and not waived and not differs:
            differs = order in (0, 1) and not _has_earlier(now, one, leg)
        if differs:
            yield Difference("other-bank", member, place)


def _other_good(member: JudgedMember, leg: Leg) -> bool:
    """Whether some bank besides that of the leg holds what could boot the member, proven."""
    return any(
        image.judgement.verdict == "proven"
        and image.starts_members
        and image.suits is not False
        and Place(BANK, name, member.member.id) != leg.home
        for name, image in member.banks.items()
    )


def _has_earlier(now: Situation, member: JudgedMember, leg: Leg) -> bool:
    """Whether some other bank of a member holds an earlier release."""
    scheme = now.judged.judge.sheet.versions.pattern
    return any(
        image.version is not None
        and Place(BANK, name, member.member.id) != leg.home
        and compare(image.version, leg.version or "", scheme) == -1
        for name, image in member.banks.items()
    )


def _same_pair(member: JudgedMember) -> bool:
    """Whether both directories of a pair hold the same, proven."""
    trial, committed = member.banks.get(TRIAL), member.banks.get(COMMITTED)
    if trial is None or committed is None:
        return False
    verdicts = {trial.judgement.verdict, committed.judgement.verdict}
    release = trial.judgement.release
    same = release is not None and release.same_bytes(committed.judgement.release)
    return verdicts == {"proven"} and same


def lacks_fallback(now: Situation, member: JudgedMember, leg: Leg) -> bool:
    """Whether nothing but the image of the leg could boot a member, and another is wanted."""
    start = now.judged.judge.sheet.boot
    layout = layout_named(start.layout)
    if now.policy.keep < 2 or layout.holder == "banks" or leg.home is None or not leg.last:
        return False
    if now.is_accepted("no-fallback"):
        return False
    walk = now.walk_of(member.member.id)
    if walk.outcome != "proven" or walk.boots is None or walk.boots.at != leg.home:
        return False
    return not others_that_boot(now.judged, member, walk)

"""How each difference is put right: its candidates, the best first, or why there are none."""

from collections.abc import Callable, Iterator
from typing import Any

from msgspec.structs import replace

from ovek.engine.bootwalk import reads_config, rescue
from ovek.engine.changes import content_of
from ovek.engine.fit import fit_all
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.paired import TRIAL
from ovek.engine.plan.aim import Leg, fallbacks_of, homes
from ovek.engine.plan.barred import barred_by
from ovek.engine.plan.bringing import bring, brought_by, case_for, deletions, image_changes, is_last
from ovek.engine.plan.differences import may_boot
from ovek.engine.plan.digests import checks_of, digests_of, readable
from ovek.engine.plan.kinds import Changes, Difference, Kind, Legs
from ovek.engine.plan.meant import meant_by
from ovek.engine.plan.settings import order_for, ordered, settings_of
from ovek.engine.plan.situation import Situation, Trial, begin, tried
from ovek.engine.plan.space_choices import Goal, choices_for, choose_on
from ovek.engine.plan.tidy import broken_images, going_units
from ovek.engine.releases import brought
from ovek.engine.room import sized
from ovek.engine.verdicts import JudgedMember
from ovek.engine.wanted import may_be_for
from ovek.model.change import (
    BackUp,
    BootByHand,
    Change,
    CheckDigest,
    Commit,
    Copy,
    CopyBank,
    LoadComponent,
    Reload,
    Save,
    SetComponent,
    SetOnce,
    WriteBank,
)
from ovek.model.place import BANK, Place
from ovek.model.runbook import Barred
from ovek.model.snapshot import BootEntry
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare

_WANTED_EARLIER = "Import an earlier release (ovek catalog import), or set keep = 1 in policy.toml"


def _digest(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    assert difference.place is not None
    image = now.judged.image(difference.place)
    checks = (
        ()
        if image is None
        else tuple(checks_of(now, now.member(difference.member), image, difference.place))
    )
    if not checks and image is not None:
        leg = legs.member(difference.member or "")
        known = digests_of(now, leg.release) if leg.release is not None else None
        if known is not None and image.judgement.verdict == "unverified" and not image.parts:
            checks = (CheckDigest(place=difference.place, digests=known),)
    if checks:
        yield checks
        return
    why = (
        f"{difference.place.on(None)} is not proven: the catalog has no digest that the device "
        "can compute"
    )
    yield barred_by(difference, why, "Import a list of digests (ovek catalog import)", unknown=True)


def _component(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    """Load the firmware of a component, or have it loaded from a newer file at the next reload."""
    component, release, one = (
        difference.component,
        difference.release,
        now.member(difference.member),
    )
    assert component is not None
    assert release is not None
    about: dict[str, Any] = {
        "member": one.member.id, "component": component.component, "slot": component.slot,
    }  # fmt: skip
    if component.place is None:
        version = release.carries[component.component]
        yield (
            LoadComponent(version=version, image=release.file, minutes=release.minutes, **about),
        )
        return
    there = [
        image
        for image in one.images.values()
        if release.same_bytes(image.judgement.release)
        and image.judgement.verdict in ("proven", "unverified")
    ]
    there.sort(key=lambda image: (image.judgement.verdict != "proven", image.place[:2]))
    if not there:
        yield from _firmware_file(now, one, difference, release)
    elif there[0].judgement.verdict == "proven":
        yield (SetComponent(place=there[0].place.on(one.member.id), **about),)
    else:
        yield tuple(checks_of(now, one, there[0], there[0].place.on(one.member.id)))


def _firmware_file(
    now: Situation, member: JudgedMember, difference: Difference, release: KnownRelease
) -> Iterator[Changes | Barred]:
    """Copy a component image beside the one that the component is loaded from now."""
    assert difference.component is not None
    assert difference.component.place is not None
    old = now.judged.located(difference.component.place, member.member.id)
    front, slash, _ = old.path.rstrip("/").rpartition("/")
    release = sized(brought(release, now.judged.judge.naming), now.judged, now.sizes)
    volume = member.member.volume(old.volume)
    if volume is None or volume.free is None or not release.sizes:
        yield barred_by(
            difference, f"it is unknown whether {release.file} fits on {old.volume}", unknown=True
        )
        return
    chosen = choose_on(case_for(now, member, release), volume, Goal(wanted=max(release.sizes)))
    if not chosen.enough:
        yield barred_by(difference, f"{release.file} does not fit on {old.volume}")
        return
    place = Place(old.volume, f"{front}{slash}{release.file}", member.member.id)
    bare = replace(content_of(release), digests=None)
    yield (*deletions(now, member, chosen.going), Copy(place=place, content=bare))


def _settings(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    one = now.member(difference.member)
    leg = legs.member(one.member.id)
    yield settings_of(now, one, leg)
    if layout_of(now.judged).holder != "files":
        return
    order = order_for(now, one, leg)
    if order is not None and leg.checked:
        yield ordered(one, order)


def _reload(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    """Reload once every member boots its leg, proven, compatible and with its configuration."""
    minutes = list[int | None]()
    for leg in legs.of:
        walk, reads = now.walk_of(leg.member), reads_config(now.judged, now.member(leg.member))
        at = walk.boots.at if walk.boots is not None else None
        if walk.outcome != "proven" or at is None or at != leg.home or not leg.checked:
            text = f"member {leg.member} would not boot a proven {leg.version}"
            yield barred_by(difference, text)
            return
        if not may_boot(now, leg.member):
            yield barred_by(
                difference, f"{leg.version} may not be installed over the running version"
            )
            return
        if reads is not True:
            would = "the saved configuration would be ignored"
            unsure = "it is unknown whether the next boot reads the saved configuration"
            yield barred_by(difference, would if reads is False else unsure, unknown=reads is None)
            return
        release = release_at(now, at)
        minutes.append(release.minutes if release is not None else None)
    known = [difference for difference in minutes if difference is not None]
    yield (Reload(minutes=max(known) if known and len(known) == len(minutes) else None),)


def _commit(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    one = now.member(difference.member)
    trial = one.banks.get(TRIAL)
    if trial is None or trial.judgement.verdict != "proven":
        yield barred_by(difference, "the running trial image is not proven")
        return
    commit, boot = Commit(member=one.member.id), one.member.boot
    alone = tried(begin(now), (commit,), meant_by(now, legs, (commit,)), difference.kind)
    exposed = isinstance(alone, Trial) and alone.exposed
    if exposed and (boot is None or boot.once is None):
        entry = BootEntry(place=f"{BANK}:{TRIAL}")  # half of it, the trial boots again
        yield (SetOnce(member=one.member.id, entry=entry), commit)
    yield (commit,)


def _other_bank(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    """Write to the other bank what the bank rule, or a fallback, wants there."""
    one, place = now.member(difference.member), difference.place
    assert place is not None
    leg = legs.member(one.member.id)
    running = now.runs_on(one.member.id)
    layout = layout_of(now.judged)
    scheme = now.judged.judge.sheet.versions.pattern
    settled = leg.version is not None and running.version is not None
    if (
        not settled
        or compare(running.version or "", leg.version or "", scheme) != 0
        or not leg.checked
    ):
        yield barred_by(
            difference, "this has to wait until the device runs its target from the other bank"
        )
        return
    bank = one.member.bank(place.path)
    held, home = one.banks.get(place.path), leg.home
    assert bank is not None
    assert home is not None
    if place in running.places or not (running.sure or running.own):
        yield barred_by(difference, f"bank {place.path} is running, or may be running")
        return
    rule = now.wanted.bank_rule
    if rule == "previous":
        yield from _previous(now, one, difference, leg)
        return
    source = one.banks.get(home.path) if home.is_bank else None
    if source is None or layout.pair or source.parts or bank.places is not None:
        yield from _same_files(now, one, difference, leg)
        return
    changes = list[Change]()
    if held is not None and is_last(now, one, held):
        changes.append(BackUp(place=place, size=bank.size))
    changes.append(CopyBank(member=one.member.id, source=home.path, bank=place.path))
    yield tuple(changes)


def _same_files(
    now: Situation, member: JudgedMember, difference: Difference, leg: Leg
) -> Iterator[Changes | Barred]:
    """Bring the image of a leg to a bank that is made of files, as well."""
    if leg.release is None or difference.place is None:
        yield barred_by(difference, "it is unknown which image it should contain", unknown=True)
        return
    case = case_for(now, member, leg.release)
    found = choices_for(case, leg.release)
    if isinstance(found, str):
        yield barred_by(difference, found)
        return
    for chosen in found:
        spot = chosen.spot
        if (
            chosen.able
            and spot is not None
            and spot.bank == difference.place.path
            and not spot.there
        ):
            yield brought_by(now, member, leg.release, chosen)
    yield barred_by(difference, f"{difference.place.on(None)} cannot be written to at present")


def _previous(
    now: Situation, one: JudgedMember, difference: Difference, leg: Leg
) -> Iterator[Changes | Barred]:
    """Write an earlier release to the other bank, which holds its image itself."""
    assert difference.place is not None
    release = earlier_release(now, one, leg.version)
    if release is not None and not _of_files(one, difference.place.path):
        bare = replace(content_of(release), digests=None)
        yield (WriteBank(member=one.member.id, bank=difference.place.path, content=bare),)
        return
    yield barred_by(difference, "the catalog has no earlier release for it", _WANTED_EARLIER)


def _of_files(member: JudgedMember, bank: str) -> bool:
    held = member.member.bank(bank)
    return held is not None and held.places is not None


def earlier_release(
    now: Situation, member: JudgedMember, version: str | None
) -> KnownRelease | None:
    """The newest system image for a member that is earlier than a version."""
    scheme = now.judged.judge.sheet.versions.pattern
    standing = now.standing(member.member.id)
    if version is None or standing is None:
        return None
    able = [
        release
        for release in now.judged.judge.releases.for_model(member.hardware.model)
        if release.kind == "system-image"
        and release.version is not None
        and release.hardware is not None
        and release.within is None
        and compare(release.version, version, scheme) == -1
        and may_be_for(fit_all((standing,), release))
        and digests_of(now, release) is not None
    ]
    newest: KnownRelease | None = None
    for release in able:
        if newest is None or compare(release.version or "", newest.version or "", scheme) == 1:
            newest = release
    return newest


def _fallback(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    """Bring an image to fall back to, or read the digest of one that is there."""
    one = now.member(difference.member)
    leg = legs.member(one.member.id)
    for image in sorted(homes(now, one), key=lambda image: image.place[:2]):
        place = image.place.on(one.member.id)
        if place != leg.home and image.judgement.verdict == "unverified" and image.suits is True:
            checks = tuple(checks_of(now, one, image, place))
            if checks:
                yield checks
                return
    release = earlier_release(now, one, leg.version)
    if release is not None:
        release = sized(brought(release, now.judged.judge.naming), now.judged, now.sizes)
        if release.sizes:
            yield from bring(now, one, release, difference, leg)
            return
    yield barred_by(difference, "the catalog has no earlier release for it", _WANTED_EARLIER)


def _broken(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    one = now.member(difference.member)
    places = broken_images(now, one, legs.member(one.member.id))
    yield tuple(deletions(now, one, going_units(now, one, places)))


def _unread(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    assert difference.place is not None
    image = now.judged.image(difference.place)
    digests = readable(now, image) if image is not None else None
    if digests is not None:
        yield (CheckDigest(place=difference.place, digests=digests),)


def _old_proof(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    assert difference.place is not None
    image = now.judged.image(difference.place)
    if image is not None and image.file is not None and image.file.digests is not None:
        yield (CheckDigest(place=difference.place, digests=image.file.digests),)


def _reserve(now: Situation, legs: Legs, difference: Difference) -> Iterator[Changes | Barred]:
    assert difference.place is not None
    one = now.member(difference.member)
    volume = one.member.volume(difference.place.volume)
    assert volume is not None
    reserve = now.policy.reserve_of(volume.capacity)
    if volume.files is None or reserve is None:
        return
    case = case_for(now, one, None)
    chosen = choose_on(case, volume, Goal(wanted=reserve))
    ordinary = all(unit.tier < 5 for unit in chosen.going)
    if chosen.enough and ordinary:
        yield tuple(deletions(now, one, chosen.going))


RESOLVE: dict[
    Kind, Callable[[Situation, Legs, Difference], Iterator[Changes | Barred]]
] = {
    "backup": lambda now, legs, each: iter(((BackUp(),),)),
    "unsaved": lambda now, legs, each: iter(((Save(member=None),),)),
    "image": image_changes,
    "digest": _digest,
    "component": _component,
    "settings": _settings,
    "reload": _reload,
    "commit": _commit,
    "other-bank": _other_bank,
    "fallback": _fallback,
    "broken": _broken,
    "unread": _unread,
    "old-proof": _old_proof,
    "reserve": _reserve,
}  # fmt: skip


def boot_by_hand(trial: Trial) -> Trial | Barred:
    """Boot every member by hand, from what it boots by itself or from the best there is."""
    now, places = trial.now, list[Place]()
    for one in now.members:
        member = one.member.id
        walk, able = now.walk_of(member), rescue(now.judged, one)
        goal = now.wanted.goal_of(member)
        wanted = [
            each
            for each in able
            if goal is not None
            and each.verdict == "proven"
            and each.at is not None
            and goal.reached_from is None
            and goal.same_bytes(release_at(now, each.at))
        ]
        best = walk.boots if walk.outcome == "proven" else None
        best = best or next(iter(wanted), None) or next(iter(able), None)
        if best is None or best.at is None or best.verdict != "proven":
            return Barred(
                part="boot loader",
                member=member,
                unknown=best is not None,
                why="the device has no proven image to boot",
                words="Bring a proven image on a stick or over the network, and boot from that",
            )
        places.append(best.at)
    if not places:
        why = "its members are unknown"
        return Barred(part="boot loader", member=None, unknown=True, why=why, words="Read it again")
    done = tried(trial, (BootByHand(places=tuple(places)),), frozenset(places), "at-loader")
    if isinstance(done, str):
        return Barred(part="boot loader", member=None, unknown=False, why=done, words="")
    return done


def release_at(now: Situation, place: Place | None) -> KnownRelease | None:
    """The release that lies at a place, where one is known."""
    image = now.judged.image(place) if place is not None else None
    return image.judgement.release if image is not None else None


def to_safety(now: Situation, leg: Leg) -> Iterator[tuple[Place, Changes]]:
    """Where a member may safely boot from, with the digests that have to be read for it."""
    one, walk, member = now.member(leg.member), now.walk_of(leg.member), leg.member
    boots = walk.boots.at if walk.boots is not None else None
    image, running = now.judged.image(boots) if boots is not None else None, now.runs_on(member)
    if image is not None and boots is not None and walk.outcome == "unproven":
        checks = tuple(checks_of(now, one, image, boots))
        if checks and image.version in (leg.version, running.version):
            yield boots, checks
    same = boots is not None and running.sure and boots in running.places
    if same and image is not None and image.judgement.verdict not in ("altered", "truncated"):
        return  # it boots what it runs: nothing else is safer for all that is known
    places = [leg.home] if leg.home is not None and leg.checked else []
    places += running.places if running.sure else ()
    places += [image.place.on(member) for image in fallbacks_of(now, one, leg, "proven")]
    for place in dict.fromkeys(places):
        held = now.judged.image(place)
        if held is not None and held.judgement.verdict == "proven":
            yield place, ()
    for image in fallbacks_of(now, one, leg, "unverified"):
        place = image.place.on(member)
        checks = tuple(checks_of(now, one, image, place))
        if checks:
            yield place, checks

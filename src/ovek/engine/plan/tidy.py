"""What is left to tidy on a member: what is broken or stale, not read, or too full."""

from collections.abc import Iterator

from ovek.engine.choose import DropUnit
from ovek.engine.layouts.writing import image_volume
from ovek.engine.plan.aim import (
    Leg,
    fallback_of,
)
from ovek.engine.plan.digests import readable
from ovek.engine.plan.firmware import is_older
from ovek.engine.plan.kinds import Difference
from ovek.engine.plan.situation import Situation
from ovek.engine.tier import Tiers
from ovek.engine.times import proof_is_old
from ovek.engine.units import cluster_of, units_of
from ovek.engine.verdicts import JudgedMember
from ovek.model.place import Place
from ovek.model.verdict import Image


def untidy(now: Situation, one: JudgedMember, leg: Leg) -> Iterator[Difference]:
    """What is broken or stale on a member, not read, or too full, in this order."""
    member = one.member.id
    if broken_images(now, one, leg):
        yield Difference("broken", member)
    parts = {part for image in one.sets.values() for part in image.parts}
    old = old_proofs(now, one)
    for image in sorted(
        (*one.images.values(), *one.banks.values()), key=lambda image: image.place[:2]
    ):
        place = image.place.on(member)
        if place in old:
            yield Difference("old-proof", member, place)
        elif (
            image.judgement.verdict == "unverified"
            and not (image.place.is_bank and image.parts)
            and (image.starts_members or image.place in parts)
            and readable(now, image)
            and not now.is_accepted("image-unverified", image.place, member)
        ):
            yield Difference("unread", member, place)
    volume = image_volume(now.judged.judge.sheet, one.member)
    if volume is not None and volume.free is not None and volume.state == "ok":
        reserve = now.policy.reserve_of(volume.capacity)
        short = reserve is not None and volume.free < reserve
        if short and not now.is_accepted("free-space-low", Place(volume.name, ""), member):
            yield Difference("reserve", member, Place(volume.name, "", member))


def old_proofs(now: Situation, one: JudgedMember) -> set[Place]:
    """The images of a member whose digests were read longer ago than policy wants."""
    found, member, policy = set[Place](), one.member.id, now.policy
    boots, running = now.walk_of(member).boots, now.runs_on(member)
    at = boots.at if boots is not None else None
    wholes = [*one.sets.values(), *(bank for bank in one.banks.values() if bank.parts)]
    booted = {image.place for image in wholes if image.place.on(member) == at}
    for image in one.images.values():
        file = image.file
        if file is None or file.digests_at is None or image.judgement.verdict != "proven":
            continue
        used = image is running.image or image.place.on(member) == at
        used = used or any(image.place in w.parts for w in wholes if w.place in booted)
        most = policy.oldest_start_digest if used else policy.oldest_digest
        old = proof_is_old(now.times, file.digests_at, most, policy.oldest_snapshot)
        if old and not now.is_accepted("proof-old", image.place, member):
            found.add(image.place.on(member))
    return found


def broken_images(now: Situation, one: JudgedMember, leg: Leg) -> list[Place]:
    """The images of a member that are no good to it, and component images that nothing loads."""
    member, found = one.member.id, list[Place]()
    back = fallback_of(now, one, leg)
    variant = now.wanted.variant or now.runs_on(member).variant
    for image in sorted(one.images.values(), key=lambda image: image.place[:2]):
        judgement, place = image.judgement, image.place.on(member)
        release = judgement.release
        if place == leg.home or image is back:
            continue
        rules = list[str]()
        if judgement.verdict == "altered":
            rules.append("image-forged" if judgement.forged else "image-altered")
        elif judgement.verdict == "truncated":
            rules.append("image-truncated")
        elif judgement.verdict == "proven" and release is not None:
            if image.suits is False:
                rules.append("image-wrong-hardware")
            elif release.status == "withdrawn":
                rules.append("image-withdrawn")
            elif (
                variant is not None
                and release.variant not in (None, variant)
                and image.role == "system-image"
            ):
                rules.append("image-other-variant")
            elif image.role == "component-image" and _superseded(now, one, image):
                rules.append("component-image")
        if rules and not now.is_accepted(rules[0], image.place, member):
            found.append(place)
    return found


def _superseded(now: Situation, member: JudgedMember, image: Image) -> bool:
    """Whether a component that an image is for is loaded from another, newer one, and runs that."""
    release = image.judgement.release
    scheme = now.judged.judge.sheet.versions.components.pattern
    return release is not None and any(
        component.place is not None
        and now.judged.located(component.place, member.member.id)
        != image.place.on(member.member.id)
        and component.version is not None
        and is_older(release.carries.get(component.component), component.version, scheme)
        for component in member.member.components or ()
        if component.component in release.carries
    )


def going_units(now: Situation, one: JudgedMember, places: list[Place]) -> list[DropUnit]:
    """The units in which places go, of those that nothing protects, in their order."""
    member, holds = one.member.id, now.holds()
    told = holds.of_member(one)
    tiers = Tiers(one, told, now.shelf or frozenset(), frozenset())
    found = list[DropUnit]()
    for volume in one.member.volumes or ():
        if all(place.volume != volume.name for place in places):
            continue
        cluster = cluster_of(volume, now.judged.judge.sheet.capacity.cluster)
        for unit in units_of(one, volume, told, tiers, cluster):
            if unit.tier < 5 and any(place.on(member) in places for place in unit.places):
                found.append(unit)
    return found

"""Rules on images that no boot rule speaks of: what they are, and what is odd about them."""

from collections.abc import Iterator
from datetime import datetime

from ovek.engine.bootwalk import for_other
from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.times import proof_is_old
from ovek.model.age import show_age
from ovek.model.digest import STRONGEST_FIRST, TITLES, Digests
from ovek.model.finding import Severity
from ovek.model.place import Place
from ovek.model.plain_word import typed
from ovek.model.verdict import Image, Verdict


def _images(subject: Subject, verdict: Verdict) -> Iterator[tuple[MemberSubject, Image, bool]]:
    """Every image with this verdict, and whether its member starts on it."""
    for member in subject.members:
        for image in member.unproven:
            if image.judgement.verdict == verdict:
                yield member, image, member.starts_on(image)


@rule(
    "image-altered",
    "warning",
    "A file that does not match its published image may be damaged or tampered with.",
    "Do not boot it: delete it, or replace it with a proven copy",
    stops="nothing",
    gives_way="named",
)
def image_altered(subject: Subject) -> Iterator[Said]:
    """An image does not match the published digest of its name; no boot setting names it."""
    for member, image, boots in _images(subject, "altered"):
        if image.judgement.forged:
            continue
        yield Said(
            member=member.id,
            place=image.place,
            seen=image.judgement.why + subject.spread(image),
            severity="critical" if boots else None,
        )
    for member in subject.members:
        for image in member.wholes:
            broken = image.judgement.verdict == "altered"
            by_itself = not any(
                member.one.images[part].judgement.verdict == "altered"
                for part in image.parts
                if part in member.one.images
            )
            if broken and by_itself:
                what, again = ("bank", "write") if image.place.is_bank else ("set", "install")
                yield Said(
                    member=member.id,
                    place=image.place,
                    seen=f"the {what} is incomplete: {image.judgement.why}",
                    do=f"Do not boot it: {again} the {what} again, or delete it",
                )


@rule(
    "image-forged",
    "critical",
    "A matching MD5 with a different SHA digest is what a forged (collision) file looks like.",
    "Do not boot it. Copy it off the device as evidence, and find out who put it there",
    stops="nothing",
    gives_way="named",
)
def image_forged(subject: Subject) -> Iterator[Said]:
    """An image matches a published weak digest but not the stronger one."""
    for member, image, _ in _images(subject, "altered"):
        if image.judgement.forged:
            yield Said(member=member.id, place=image.place, seen=image.judgement.why)


@rule(
    "image-truncated",
    "warning",
    "An interrupted transfer leaves a file that looks like an image but cannot boot.",
    "Do not boot it: delete it, or copy it again",
    stops="nothing",
    gives_way="named",
)
def image_truncated(subject: Subject) -> Iterator[Said]:
    """An image is smaller than published; no boot setting names it."""
    for member, image, boots in _images(subject, "truncated"):
        yield Said(
            member=member.id,
            place=image.place,
            seen=image.judgement.why,
            severity="critical" if boots else None,
        )


@rule(
    "image-unlisted",
    "note",
    "No catalog source lists this image, so it cannot be verified.",
    "Import its published digest (ovek catalog import), or replace it with a listed release",
    gives_way="named",
)
def image_unlisted(subject: Subject) -> Iterator[Said]:
    """An image that no catalog source lists."""
    for member, image, boots in _images(subject, "unlisted"):
        yield Said(
            member=member.id,
            place=image.place,
            seen=image.judgement.why + ("; it is the next boot image" if boots else ""),
            severity="warning" if boots else None,
        )


@rule(
    "image-unverified",
    "note",
    "Without a published digest and one read on the device, it may be any file of that name.",
    "Read its digest on the device, and make sure catalog/ lists the published one",
    stops="proof",
)
def image_unverified(subject: Subject) -> Iterator[Said]:
    """Images that could not be verified because a digest is missing."""
    rest: dict[str, list[Image]] = {}
    for member, image, boots in _images(subject, "unverified"):
        if boots:
            seen, do = _never_asked(subject, image) or (image.judgement.why, None)
            yield Said(
                member=member.id,
                place=image.place,
                seen=f"{seen}; it is the next boot image",
                do=do,
                severity="warning",
            )
        else:
            rest.setdefault(member.id, []).append(image)
    for name, images in rest.items():
        seen, do = _never_asked(subject, images[0]) or (images[0].judgement.why, None)
        if len(images) > 1:
            others = ", ".join(str(image.place) for image in images[1:])
            seen += f"; also: {others}"
        also = tuple(image.place for image in images[1:])
        yield Said(member=name, place=images[0].place, seen=seen, do=do, also=also)


def _never_asked(subject: Subject, image: Image) -> tuple[str, str] | None:
    """What to say where the catalog has only digests that the device is never asked for."""
    release, sheet = image.judgement.release, subject.judged.judge.sheet
    reading = sheet.reading
    asked = set(reading.digest_program if reading.sftp else reading.digests)
    if release is None or not release.digests or not asked or asked & release.digests.keys():
        return None
    if image.judgement.verdict != "unverified" or image.file is None or image.file.path_cut:
        return None
    there = [name for name in STRONGEST_FIRST if name in release.digests]
    ours = [TITLES[name] for name in STRONGEST_FIRST if name in asked]
    seen = f"{release.file} is published with {' and '.join(TITLES[name] for name in there)} only, "
    seen += f"and the device is asked for {' and '.join(ours)}"
    key = "reading.digest_program" if reading.sftp else "reading.digests"
    do = f"Add {there[0]} to {key} of the sheet {sheet.name}, if the device can work it out; "
    return seen, do + f"or import a list that has the {' or the '.join(ours)}"


@rule(
    "proof-old",
    "note",
    "Flash can go bad without any change in name, size or date: an old digest proves little.",
    "Read the digest again: ovek survey DEVICE --fresh",
    stops="proof",
    reads=("times", "name"),
)
def proof_old(subject: Subject) -> Iterator[Said]:
    """Images whose digests are older than policy allows."""
    device, policy, times = subject.judged.device, subject.policy, subject.times
    for member in subject.members:
        old: dict[bool, list[tuple[datetime, Place]]] = {}
        for image in member.proven:
            at = image.file.digests_at if image.file is not None else None
            if at is None:
                continue
            used = image is member.running_image or member.starts_on(image)
            most = policy.oldest_start_digest if used else policy.oldest_digest
            if proof_is_old(times, at, most, policy.oldest_snapshot):
                old.setdefault(used, []).append((at, image.place))
        for used, images in old.items():
            images.sort(key=lambda each: (each[0], each[1][:2]))
            at, place = images[0]
            most = policy.oldest_start_digest if used else policy.oldest_digest
            seen = f"its digest is {(times.now - at).shown()} old; "
            seen += f"policy allows {show_age(most)}"
            if len(images) > 1:
                seen += f"; also: {', '.join(str(each) for _, each in images[1:])}"
            severity: Severity | None = "warning" if used else None
            do = f"Read the digest again: ovek survey {typed(device.device, 'DEVICE')} --fresh"
            also = tuple(each for _, each in images[1:])
            yield Said(
                member=member.id, place=place, seen=seen, do=do, severity=severity, also=also
            )


@rule(
    "image-disputed",
    "note",
    "The catalog sources disagree on this digest, so none can be trusted alone.",
    "Ask the publisher which digest is right, and correct the wrong source in catalog/",
    gives_way="named",
)
def image_disputed(subject: Subject) -> Iterator[Said]:
    """An image whose published digest is in doubt."""
    for member, image, boots in _images(subject, "disputed"):
        yield Said(
            member=member.id,
            place=image.place,
            seen=image.judgement.why,
            severity="warning" if boots else None,
        )


@rule(
    "image-weakly-proven",
    "note",
    "MD5 detects damage, not tampering: a file can be crafted to have a given MD5.",
    "Read a stronger digest on the device, or import one; see weakest_digest in policy.toml",
)
def image_weakly_proven(subject: Subject) -> Iterator[Said]:
    """Images that are proven only by MD5."""
    for member in subject.members:
        weak = [image for image in member.proven if image.judgement.by == "md5"]
        if weak:
            seen = f"only an {TITLES['md5']} digest proves it"
            if len(weak) > 1:
                seen += f"; also: {', '.join(str(image.place) for image in weak[1:])}"
            yield Said(member=member.id, place=weak[0].place, seen=seen)


@rule(
    "image-withdrawn",
    "note",
    "A withdrawn release left on flash may one day be booted as a fallback.",
    "Delete it once no boot setting uses it (ovek cleanup checks that)",
    stops="nothing",
)
def image_withdrawn(subject: Subject) -> Iterator[Said]:
    """An image that its publisher withdrew, and that is neither running nor the next boot."""
    for member in subject.members:
        for image in member.odd:
            release = image.judgement.release
            used = image is member.running_image or image is member.boot_image
            if release is not None and release.status == "withdrawn" and not used:
                seen = f"its publisher has withdrawn {release.file}"
                yield Said(member=member.id, place=image.place, seen=seen)


@rule(
    "image-wrong-hardware",
    "warning",
    "An image for other hardware does not boot here, even if its digest is correct.",
    "Delete it, or find out who copied it here and why",
    stops="nothing",
    gives_way="named",
)
def image_wrong_hardware(subject: Subject) -> Iterator[Said]:
    """A proven image that is for other hardware; no boot setting names it."""
    for member in subject.members:
        hardware = member.one.hardware
        for image in member.odd:
            release = image.judgement.release
            if release is None or image.suits is not False:
                continue
            wanted = [*(release.hardware or ()), *(release.revisions or ())]
            seen = for_other(release.file, wanted, hardware)
            yield Said(member=member.id, place=image.place, seen=seen)


@rule(
    "image-other-variant",
    "note",
    "An image of another variant boots, but with a different feature set.",
    "Keep images of the running variant",
    "bank-variant-differs",
    stops="nothing",
)
def image_other_variant(subject: Subject) -> Iterator[Said]:
    """A system image of another variant than the running or wanted one.

    If it is the next boot, it is a warning: a reload would change the variant.
    """
    releases = subject.judged.judge.releases
    if not releases.by_variant and subject.layout.holder == "files":
        return
    for member in subject.members:
        running = member.running_on.variant
        variant = subject.wanted.variant or running
        which = f"{'running' if variant == running else 'wanted'} is {variant}"
        for image in member.proven if variant is not None else ():
            release, boots = image.judgement.release, member.starts_on(image)
            if image.role != "system-image" or release is None:
                continue
            own = release.variant
            if image.place.is_bank:
                bank = member.one.member.bank(image.place.path)
                own = ((bank.variant if bank is not None else None) or own) if boots else None
            if own in (None, variant):
                continue
            yield Said(
                member=member.id,
                place=image.place,
                seen=f"this is the variant {own}, {which}"
                + (", and it is the next boot" if boots else ""),
                do=f"Put an image of the variant {variant} first in the boot settings, and save"
                if boots
                else None,
                severity="warning" if boots else None,
            )


@rule(
    "image-renamed",
    "note",
    "A renamed image is still proven, but people and scripts expect the published name.",
    "Rename it to its published name, or accept it in waivers.toml",
    stops="nothing",
)
def image_renamed(subject: Subject) -> Iterator[Said]:
    """A proven image whose file has another name than its release."""
    for member in subject.members:
        copies = _copies(member)
        for image in member.odd:
            release = image.judgement.release
            if release is None or image.file is None or image in copies:
                continue
            name = image.place.name
            volume = member.one.member.volume(image.place.volume)
            blind = volume is not None and volume.case_blind
            same = name.casefold() == release.file.casefold() if blind else name == release.file
            if image.file.path_cut and release.file.casefold().startswith(name.casefold()):
                continue
            if same:
                continue
            severity: Severity | None = None
            seen = f"it is {release.file} under another name"
            others = subject.judged.judge.releases.named(name, case_blind=blind)
            if any(release.same_bytes(other) for other in others):
                continue
            if others:
                seen = f"the file is named {others[0].file}, but its content is {release.file}"
                cited = {each.at for each in member.cited}
                boots = member.starts_on(image) or image.place.on(member.id) in cited
                severity = "warning" if boots else None
            yield Said(member=member.id, place=image.place, seen=seen, severity=severity)


@rule(
    "image-second-copy",
    "note",
    "A second copy on the same volume uses space and is not a fallback.",
    "Delete the copy that no boot setting uses (ovek cleanup shows which)",
    stops="nothing",
)
def image_second_copy(subject: Subject) -> Iterator[Said]:
    """One image is on a volume twice."""
    for member in subject.members:
        for image, first in _copies(member).items():
            seen = f"it is the same image as {first}"
            yield Said(member=member.id, place=image.place, seen=seen)


def _copies(member: MemberSubject) -> dict[Image, Place]:
    """The second copies on one volume, each with the first; what a bank holds is no copy."""
    by_release: dict[tuple[str, int | None, str, str | None], list[Image]] = {}
    for image in member.proven:
        release = image.judgement.release
        if release is not None and image.file is not None:
            family = release.file if release.family is None else ""
            key = (image.place.volume, release.family, family, release.publisher if family else "")
            by_release.setdefault(key, []).append(image)
    copies: dict[Image, Place] = {}
    for images in by_release.values():
        if len(images) < 2:
            continue
        release = images[0].judgement.release
        name = release.file if release is not None else ""
        banked = {part for bank in member.one.banks.values() for part in bank.parts}
        cited = [each.at for each in member.cited if each.at is not None]
        named = {at.on(None) for at in cited if at.member == member.id}

        def first(
            image: Image,
            banked: set[Place] = banked,
            named: set[Place] = named,
            name: str = name,
        ) -> tuple[bool, bool, bool, bool, bool, tuple[str, str]]:
            """The one that is used, named or published so is the first, whatever their order."""
            place = image.place
            used = (
                member.starts_on(image),
                image is member.running_image,
                place in banked,
                place in named,
            )
            return (*(not each for each in used), place.name != name, place[:2])  # type: ignore[return-value]

        images = sorted(images, key=first)
        for image in images[1:]:
            if image.place not in banked:
                copies[image] = images[0].place
    return copies


@rule(
    "image-not-on-shelf",
    "note",
    "An image that is on no shelf cannot be put back when the flash fails.",
    "Copy it from the device to the shelf, or download it again",
    stops="nothing",
)
def image_not_on_shelf(subject: Subject) -> Iterator[Said]:
    """The running image has no copy on the shelf."""
    shelf = subject.shelf
    if shelf is None or shelf.unread:
        return
    told = set[Image]()
    for member in subject.members:
        running = member.running_image
        release = running.judgement.release if running is not None else None
        if running is None or running.parts or running in told:
            continue
        told.add(running)
        if release is None or release.trust == "own":
            known = {digest for _, digest in _digests_of(member, running)}
            if known and not known & shelf.held:
                seen = f"it is running, no publisher lists it, and {shelf.named} has no copy of it"
                do = "Copy it from the device to the shelf, and find out where it came from"
                yield Said(member=member.id, place=running.place, seen=seen, do=do)
            continue
        known = {digest for values in release.digests.values() for digest in values}
        if not known & shelf.proven:
            seen = f"it is running, and {shelf.named} has no proven copy of {release.file}"
            yield Said(member=member.id, place=running.place, seen=seen)


def _digests_of(member: MemberSubject, image: Image) -> Digests:
    """The digests of a file, or of what a bank holds itself."""
    if image.file is not None:
        return image.file.digests or Digests()
    bank = member.one.member.bank(image.place.path) if image.place.is_bank else None
    return (bank.digests if bank is not None else None) or Digests()


@rule(
    "image-broken-inside",
    "warning",
    "A file with internal damage cannot boot, even if it was published that way.",
    "Do not boot it: get the image from its publisher again",
    stops="nothing",
)
def image_broken_inside(subject: Subject) -> Iterator[Said]:
    """An image is the same as a file on the shelf that has internal damage."""
    shelf = subject.shelf
    if shelf is None or not shelf.broken:
        return
    for member in subject.members:
        for image in (*member.unproven, *member.proven):
            for _, digest in (image.file.digests or ()) if image.file is not None else ():
                if digest in shelf.broken:
                    yield Said(
                        member=member.id,
                        place=image.place,
                        seen=f"the shelf has the same file, and it is {shelf.broken[digest]}",
                        severity="critical" if member.starts_on(image) else None,
                    )
                    break

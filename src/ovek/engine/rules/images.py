"""Rules on images that no boot rule speaks of: altered, cut short, unlisted, unmeasured."""

from collections.abc import Iterator

from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.model.verdict import Image, Verdict


def _images(subject: Subject, verdict: Verdict) -> Iterator[tuple[MemberSubject, Image, bool]]:
    """Every image with this verdict, and whether its member starts on it."""
    for member in subject.members:
        for image in member.unproven:
            if image.judgement.verdict == verdict and not subject.told(member, image.place):
                yield member, image, _starts_on(member, image)


def _starts_on(member: MemberSubject, image: Image) -> bool:
    """Whether the next start is from this image, or from a set or bank that it is part of."""
    starts = member.walk.starts
    if starts is None:
        return False
    wholes = (*member.one.sets.values(), *member.one.banks.values())
    places = {str(image.place), *(str(w.place) for w in wholes if image.place in w.parts)}
    return starts.place in places


@rule(
    "image-altered",
    "warning",
    "A file under a published name that is not what was published may stop a start, or worse.",
)
def image_altered(subject: Subject) -> Iterator[Said]:
    """An image is not what its name was published as; no boot setting names it."""
    for member, image, starts in _images(subject, "altered"):
        yield Said(
            member=member.id,
            place=image.place,
            saw=image.judgement.why,
            do="Do not start on it; delete it, or copy it again from a proven file",
            severity="critical" if starts or image.judgement.forged else None,
        )
    for member in subject.members:
        for image in member.one.sets.values():
            broken = image.judgement.verdict == "altered"
            by_itself = not any(
                member.one.images[part].judgement.verdict == "altered"
                for part in image.parts
                if part in member.one.images
            )
            if broken and by_itself and not subject.told(member, image.place):
                yield Said(
                    member=member.id,
                    place=image.place,
                    saw=f"the set is not whole: {image.judgement.why}",
                    do="Do not start on it; install the set again, or delete it",
                )


@rule(
    "image-cut-short",
    "warning",
    "A transfer that broke off leaves a file that looks like an image and cannot start.",
)
def image_cut_short(subject: Subject) -> Iterator[Said]:
    """An image is smaller than published; no boot setting names it."""
    for member, image, starts in _images(subject, "cut-short"):
        yield Said(
            member=member.id,
            place=image.place,
            saw=image.judgement.why,
            do="Do not start on it; delete it, or copy it again",
            severity="critical" if starts else None,
        )


@rule(
    "image-unlisted",
    "note",
    "Nobody known published this image, so nothing tells whether it is what it should be.",
)
def image_unlisted(subject: Subject) -> Iterator[Said]:
    """An image that no source publishes."""
    for member, image, starts in _images(subject, "unlisted"):
        yield Said(
            member=member.id,
            place=image.place,
            saw=image.judgement.why + ("; the next start is from it" if starts else ""),
            do="Put its published digest into catalog/, or replace it with a listed release",
            severity="warning" if starts else None,
        )


@rule(
    "image-unmeasured",
    "note",
    "An image without a digest on both sides may be anything of that name.",
)
def image_unmeasured(subject: Subject) -> Iterator[Said]:
    """Images that no digest speaks for: the one that starts, then the rest of a member as one."""
    do = "Read its digest on the device, and see that catalog/ has the published one"
    rest: dict[str, list[Image]] = {}
    for member, image, starts in _images(subject, "unmeasured"):
        if starts:
            yield Said(
                member=member.id,
                place=image.place,
                saw=f"{image.judgement.why}; the next start is from it",
                do=do,
                severity="warning",
            )
        else:
            rest.setdefault(member.id, []).append(image)
    for name, images in rest.items():
        saw = images[0].judgement.why
        if len(images) > 1:
            others = ", ".join(str(image.place) for image in images[1:])
            saw += f"; the same holds for {others}"
        yield Said(member=name, place=images[0].place, saw=saw, do=do)


@rule(
    "image-disputed",
    "note",
    "Where sources disagree on a digest, no source may be taken by itself.",
)
def image_disputed(subject: Subject) -> Iterator[Said]:
    """An image whose published digest is in doubt."""
    for member, image, starts in _images(subject, "disputed"):
        yield Said(
            member=member.id,
            place=image.place,
            saw=image.judgement.why,
            do="Ask the publisher which digest is right and correct the wrong source in catalog/",
            severity="warning" if starts else None,
        )

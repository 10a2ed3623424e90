"""Rules on who signed the lists that images of a device are held against.

A rule says it once for each list. An image that a list with a good signature proves says nothing.
Without `require_signature` in policy a list without a signature is none of their business.
"""

from collections.abc import Iterable, Iterator

from ovek.engine.releases import ReleaseIndex
from ovek.engine.rules import SIGNED_LIST, Said, Subject, is_unsigned, rule
from ovek.engine.verdicts import ProofRule
from ovek.model.finding import Severity
from ovek.model.signature import TITLES, SignatureState
from ovek.model.verdict import Image, KnownRelease, SourceList

_SHOWN = 3  # images that are named
_WITHOUT: tuple[SignatureState | None, ...] = (None, "unknown-key", "unchecked")


def _by_list(
    subject: Subject, states: tuple[SignatureState | None, ...]
) -> Iterator[tuple[SourceList, list[Image]]]:
    """The lists whose signature is in one of these states, with the images that rest on them.

    The best signed list of a release counts. An image that is proven where policy requires a
    signature has one.
    """
    proof, releases = subject.judged.judge.proof, subject.judged.judge.releases
    if None not in states and not releases.has_signatures:
        return
    resting: dict[SourceList, list[Image]] = {}
    for member in subject.members:
        for image in (*member.proven, *member.unproven):
            release = image.judgement.release
            source = _best_list(releases, release) if release is not None else None
            if source is None or release is None:
                continue
            if image.judgement.verdict == "proven" and proof.requires_signature(release):
                continue
            state = source.signature.state if source.signature is not None else None
            if state in states:
                resting.setdefault(source, []).append(image)
    yield from sorted(resting.items(), key=lambda item: item[0].file)


def _best_list(releases: ReleaseIndex, release: KnownRelease) -> SourceList | None:
    """The best signed list of a release; None where its signature is good, or it is our own."""
    if release.trust == "own" or not release.lists or releases.has_signed(release):
        return None
    return release.lists[0]


def _names(images: Iterable[Image]) -> str:
    """The images by their names, the first few."""
    names = list(dict.fromkeys(_name(image) for image in images))
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return ", ".join(names[:_SHOWN]) + more


def _name(image: Image) -> str:
    release = image.judgement.release
    return release.file if release is not None else str(image.place)


def _severity(subject: Subject, images: Iterable[Image]) -> Severity:
    """A warning where policy requires a signature of one of them, else a note."""
    proof: ProofRule = subject.judged.judge.proof
    releases = (image.judgement.release for image in images)
    required = any(one is not None and proof.requires_signature(one) for one in releases)
    return "warning" if required else "note"


@rule(
    "unsigned-source",
    "warning",
    "Without a signature anybody who can write to a list can make a bad image look proven.",
    SIGNED_LIST,
    stops="nothing",
)
def unsigned_source(subject: Subject) -> Iterator[Said]:
    """An image rests on a list without a good signature, and policy requires one."""
    proof = subject.judged.judge.proof
    if proof.signed_by is False:
        return
    for source, images in _by_list(subject, _WITHOUT):
        resting = [
            image
            for image in images
            if (release := image.judgement.release) is not None
            and proof.requires_signature(release)
        ]
        if not resting:
            continue
        seen = f"{_names(resting)}: the list {source.file} "
        check = source.signature
        seen += "is not signed" if check is None else f"has a {TITLES[check.state]} ({check.why})"
        yield Said(member=None, place=None, seen=seen)
    releases = subject.judged.judge.releases
    for member in subject.members:
        for image in member.unproven:
            release = image.judgement.release
            if is_unsigned(image) and release is not None and releases.has_signed(release):
                yield Said(member=member.id, place=image.place, seen=image.judgement.why)


@rule(
    "signature-bad",
    "warning",
    "A list that does not fit its signature was changed on the way, by accident or on purpose.",
    "Get the list and its signature again from the publisher: ovek catalog check",
    stops="nothing",
)
def signature_bad(subject: Subject) -> Iterator[Said]:
    """A list that names an image has a bad signature, or one of another publisher's key."""
    releases = subject.judged.judge.releases
    for source, images in _by_list(subject, ("wrong-publisher",)):
        check = source.signature
        why = check.why if check is not None else ""
        seen = f"{_names(images)}: the list {source.file} is not signed by its publisher: {why}"
        yield Said(member=None, place=None, seen=seen, severity=_severity(subject, images))
    if not releases.refused:
        return
    by_file: dict[str, tuple[str, list[Image]]] = {}
    for member in subject.members:
        for image in member.unproven:
            digests = image.file.digests if image.file is not None else None
            keys = [image.place.name.casefold(), *(digest for _, digest in digests or ())]
            for entry in (each for key in keys for each in releases.refused.get(key, ())):
                check = entry.signature
                text = f"{TITLES[check.state]}: {check.why}" if check is not None else ""
                _, images = by_file.setdefault(entry.origin.file, (text, []))
                if image not in images:
                    images.append(image)
    for file, (why, images) in sorted(by_file.items()):
        seen = f"{_names(images)}: the list {file} is ignored ({why})"
        yield Said(member=None, place=None, seen=seen)


@rule(
    "signature-weak",
    "note",
    "A signature over MD5 or SHA-1 can be made to fit another list.",
    "Ask the publisher for a signature over SHA-256 or better",
    stops="nothing",
)
def signature_weak(subject: Subject) -> Iterator[Said]:
    """The list that an image rests on is signed over MD5, SHA-1 or RIPEMD-160."""
    for source, images in _by_list(subject, ("weak",)):
        check = source.signature
        seen = f"{_names(images)}: the signature of {source.file} is weak: "
        seen += check.why if check is not None else ""
        yield Said(member=None, place=None, seen=seen, severity=_severity(subject, images))


@rule(
    "key-expired",
    "note",
    "After a key has expired or was revoked, another person may sign with it.",
    "Ask the publisher for a list that is signed with a current key",
    stops="nothing",
)
def key_expired(subject: Subject) -> Iterator[Said]:
    """The list that an image rests on is signed with a key that had expired, or was revoked."""
    states: tuple[SignatureState | None, ...] = ("expired", "revoked")
    for source, images in _by_list(subject, states):
        check = source.signature
        seen = f"{_names(images)}: the signature of {source.file} does not count: "
        seen += check.why if check is not None else ""
        yield Said(member=None, place=None, seen=seen, severity=_severity(subject, images))

"""Rules on what is not known."""

from collections.abc import Iterator

from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.rules.space import image_volume


@rule(
    "facts-missing",
    "warning",
    "What is not known is not passed: somebody has to look, or read the device again.",
)
def facts_missing(subject: Subject) -> Iterator[Said]:
    """Facts that the audit needs and the snapshot does not have, one finding a member."""
    if subject.judged.members is None:
        saw = "not known: its members, so neither its images nor its next start"
        yield Said(member=None, place=None, saw=saw, do="Read the device again")
    for member in subject.members:
        missing = list(_missing(subject, member))
        if missing:
            yield Said(
                member=member.id,
                place=None,
                saw="not known: " + "; ".join(missing),
                do="Read the device again, and see what its sheet asks for",
                severity=None if member.walk.outcome == "unknown" else "note",
            )


def _missing(subject: Subject, member: MemberSubject) -> Iterator[str]:
    if member.walk.outcome == "unknown":
        yield f"what starts next ({member.walk.note})"
    running = subject.judged.device.running
    if running.version is None and member.one.member.running_version is None:
        yield "the running version"
    if subject.judged.device.hardware.model is None:
        yield "the hardware model"
    if member.one.member.volumes is None:
        if subject.judged.judge.sheet.start.layout == "files":
            yield "the volumes"
        return
    volume = image_volume(subject, member.one.member)
    if volume is None or volume.state in ("absent", "unreadable"):
        return
    if volume.files is None:
        yield f"the files of {volume.name}:"
    if volume.free is None:
        yield f"the free space of {volume.name}:"
    elif volume.capacity is None and subject.policy.reserve_of(None) is None:
        yield f"the capacity of {volume.name}:, which the reserve of {subject.policy.reserve} is of"

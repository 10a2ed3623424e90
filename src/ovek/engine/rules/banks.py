"""Rules on banks: empty, bad."""

from collections.abc import Iterator

from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Bank


def _told_by_stranded(member: MemberSubject, bank: Bank) -> bool:
    name = f"{BANK}:{bank.name}"
    return member.walk.outcome == "stranded" and any(
        each.place == name for each in member.walk.tried
    )


def _leads(member: MemberSubject, bank: Bank) -> bool:
    tried = member.walk.tried
    return bool(tried) and tried[0].place == f"{BANK}:{bank.name}"


def _banks(subject: Subject, state: str) -> Iterator[tuple[MemberSubject, Bank, bool]]:
    """The banks in a state, and whether each is the first thing that a start tries."""
    for member in subject.members:
        for bank in member.one.member.banks or ():
            if bank.state == state and not _told_by_stranded(member, bank):
                yield member, bank, _leads(member, bank)


def _way_back(member: MemberSubject) -> bool:
    """Whether some bank besides the one that starts next is proven."""
    starts = member.walk.starts
    return any(
        image.judgement.verdict == "proven"
        for image in member.one.banks.values()
        if starts is None or starts.place != str(image.place)
    )


@rule("bank-empty", "warning", "With no second bank to start from there is no way back.")
def bank_empty(subject: Subject) -> Iterator[Said]:
    """A bank holds nothing."""
    for member, bank, leads in _banks(subject, "empty"):
        first = ", and it is the first that a start tries" if leads else ""
        yield Said(
            member=member.id,
            place=Place(BANK, bank.name),
            saw=f"the bank is empty{first}",
            do="Write a proven image to it",
            severity="critical" if leads else "note" if _way_back(member) else None,
        )


@rule("bank-bad", "warning", "A bank that the device calls bad cannot be started from.")
def bank_bad(subject: Subject) -> Iterator[Said]:
    """The device itself calls a bank bad."""
    for member, bank, leads in _banks(subject, "bad"):
        first = ", and it is the first that a start tries" if leads else ""
        yield Said(
            member=member.id,
            place=Place(BANK, bank.name),
            saw=f"the device itself calls the bank bad{first}",
            do="Write a proven image to it; if it stays bad, suspect the flash",
            severity="critical" if leads else None,
        )

"""Which bank an image is written to, why, and what that costs.

Never the one that runs, nor the one that starts next, nor the only proven one; empty and bad ones
first. Of a pair it is always the trial, unless it runs and is not committed, is scheduled, or what
is committed is not proven. Where what runs or starts is not known, none may be written.
"""

from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.place import BANK, parse_place
from ovek.model.plan import Room
from ovek.model.snapshot import Member
from ovek.model.walk import MemberWalk

TRIAL, COMMITTED = "trial", "committed"


def holds_its_image(judged: JudgedDevice, member: Member) -> bool:
    """Whether images go into banks that hold them, not onto a volume."""
    if judged.judge.sheet.start.layout == "files":
        return False
    return bool(member.banks) and not any(bank.places for bank in member.banks or ())


def writes_a_bank(judged: JudgedDevice, one: JudgedMember, room: Room) -> bool:
    """Whether what is asked for ends in a bank that is written."""
    if judged.judge.sheet.start.layout == "files":
        return False
    return room.release is not None or holds_its_image(judged, one.member)


def bank_to_write(
    judged: JudgedDevice, one: JudgedMember, walk: MemberWalk
) -> tuple[str | None, str]:
    """The bank to write to and why; None where there is none, and why not."""
    if walk.outcome == "unknown":
        return None, f"what starts next is not known ({walk.note}), so none may be written"
    if judged.judge.sheet.start.layout == "paired":
        return _of_pair(judged, one, walk)
    running = judged.device.running.bank
    starts = walk.starts.place.removeprefix(f"{BANK}:") if walk.starts else None
    if running is None:
        return None, "which bank runs is not known, so none may be written"
    proven = [name for name, i in one.banks.items() if i.judgement.verdict == "proven"]
    states = {"empty": 0, "bad": 1}
    for bank in sorted(one.member.banks or (), key=lambda bank: states.get(bank.state or "", 2)):
        if bank.name not in (running, starts) and [bank.name] != proven:
            return bank.name, f"write to bank {bank.name}: it neither runs nor starts next"
    return None, "every bank runs, starts next or is the only proven one"


def _of_pair(judged: JudgedDevice, one: JudgedMember, walk: MemberWalk) -> tuple[str | None, str]:
    running, boot = judged.device.running, one.member.boot
    committed, trial = one.banks.get(COMMITTED), one.banks.get(TRIAL)
    if running.place is None and running.bank is None:
        return None, "which directory runs is not known, so none may be written"
    if committed is None or committed.judgement.verdict != "proven":
        return None, "what is committed is not proven: there would be nothing to go back to"
    if boot is not None and boot.once is not None and boot.once.place == f"{BANK}:{TRIAL}":
        return None, "a trial start is scheduled: let it run, or take it back first"
    runs = running.bank == TRIAL
    if running.place is not None and trial is not None:
        runs = runs or parse_place(running.place).on(None) in trial.parts
    same = walk.starts is not None and walk.starts.place == f"{BANK}:{TRIAL}"
    if runs and not same:
        return None, "the trial runs and is not committed: commit it or give it up first"
    return TRIAL, "write to the trial directory: what is committed stays and starts if it fails"


def said_of_bank(one: JudgedMember, name: str, shelf: frozenset[str]) -> str:
    """What is lost by writing to a bank, in words."""
    bank, image = one.member.bank(name), one.banks.get(name)
    if bank is None or image is None:
        state = bank.state if bank is not None else "not there"
        return f"nothing: the bank is {state}"
    told = f"{image.version or 'a version that is not known'} ({image.judgement.verdict})"
    if _elsewhere(one, name, shelf):
        return f"{told}, which is also elsewhere"
    return f"{told}, which is not known to be anywhere else: back it up first"


def _elsewhere(one: JudgedMember, name: str, shelf: frozenset[str]) -> bool:
    """Whether what a bank holds is on the shelf, or proven in another bank of the member."""
    image = one.banks[name]
    release = image.judgement.release
    if image.judgement.verdict != "proven" or release is None:
        return False
    known = {digest for values in release.digests.values() for digest in values}
    others = (other for bank, other in one.banks.items() if bank != name)
    return bool(known & shelf) or any(
        other.judgement.verdict == "proven" and other.judgement.release is release
        for other in others
    )

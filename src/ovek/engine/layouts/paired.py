"""`paired`: two directories, one committed and one on trial.

1. A once trial start; else trial where trial and committed hold the same files with the same
   digests, else committed; then the other one where the fallback is `other-bank`.
2. An image is written to the trial directory and scheduled: what is committed stays, and starts if
   the trial fails. Not while a trial runs that is not committed, or is scheduled; nor where what is
   committed is not proven, or shares a file with the trial.
3. While both hold the same, one half is as good as the other: then the trial may be written though
   it runs, or starts next.
"""

from collections.abc import Iterator

from ovek.engine.layouts.interface import Attempt, Layout, NotKnownError, Seen
from ovek.engine.layouts.writing import (
    Spot,
    Unwritable,
    Writing,
    bank_spot,
    files_of,
    not_known,
    shared,
)
from ovek.engine.verdicts import CUT, find_file, is_empty, several_begin
from ovek.model.change import Change, SetOnce
from ovek.model.place import BANK, Place
from ovek.model.snapshot import BootEntry, File, Member

TRIAL, COMMITTED = "trial", "committed"


class Paired(Layout):
    """A committed and a trial directory."""

    start_facts = ("bank.bank", "boot.once")
    holder = "banks"
    pair = True

    def candidates(self, seen: Seen) -> Iterator[Attempt]:
        """A scheduled trial, or the trial where it is the same as what is committed."""
        once = seen.boot.once
        seen.used = True
        yield from seen.once()
        tried = once is not None and _is_trial(once, seen.member)
        same = not tried and _same(seen)
        if same:
            yield Attempt("trial", Place(BANK, TRIAL))
            if seen.scheme.fallback == "none":
                return
        yield Attempt("committed", Place(BANK, COMMITTED))
        if not same and not tried and seen.scheme.fallback == "other-bank":
            yield Attempt("other-bank", Place(BANK, TRIAL))

    def spots(self, writing: Writing) -> list[Spot] | Unwritable:
        """The trial directory, unless something speaks against it."""
        if why := not_known(writing, "directory"):
            return Unwritable(why)
        one, walk = writing.one, writing.member_walk
        member, boots = one.member, walk.boots.at if walk.boots is not None else None
        committed, trial = one.banks.get(COMMITTED), member.bank(TRIAL)
        next_up = boots is not None and writing.holds(writing.judged.image(boots))
        if committed is not None and writing.holds(committed) and next_up:
            why = "the committed image is this image already, and is the next boot"
            return [Spot(place=None, bank=COMMITTED, why=why, there=True)]
        no_way_back = "there would be no fallback"
        if committed is None or committed.judgement.verdict != "proven":
            return Unwritable(f"the committed image is not proven: {no_way_back}")
        if committed.suits is False or not committed.starts_members:
            return Unwritable(f"the committed image cannot boot: {no_way_back}")
        if member.boot is not None and _is_trial(member.boot.once, member):
            return Unwritable("a trial boot is scheduled: let it happen, or cancel it first")
        if trial is None:
            return Unwritable("there is no trial directory")
        same = boots == Place(BANK, TRIAL, member.id)
        if files_of(writing, trial) & frozenset(writing.own.places) and not same:
            return Unwritable(
                "the running trial image is not committed: commit it or roll it back first"
            )
        return self._trial(writing)

    def _trial(self, writing: Writing) -> list[Spot] | Unwritable:
        """The trial directory, which neither runs nor starts by itself."""
        trial = writing.one.member.bank(TRIAL)
        assert trial is not None
        if writing.holds(writing.one.banks.get(TRIAL)):
            why = "the trial directory has this image already, and only has to be booted"
            return [Spot(place=None, bank=TRIAL, why=why, there=True)]
        if both := shared(writing, trial):
            names = ", ".join(str(place.on(None)) for place in sorted(both))
            return Unwritable(
                f"trial and committed share {names}, so neither can be written to safely"
            )
        files = files_of(writing, trial)
        kept = sorted(
            str(place.on(None))
            for place in files & writing.kept
            if place.on(None) in writing.one.images
        )
        if kept:
            return Unwritable(f"the trial directory contains {', '.join(kept)}, which is kept")
        why = (
            "write to the trial directory: the committed image stays, and boots if the trial fails"
        )
        return [bank_spot(writing, trial, why)]

    def point(self, member: Member, spot: Spot) -> tuple[Change, ...]:
        """Schedule the trial start."""
        if spot.bank != TRIAL:
            return ()
        return (SetOnce(member=member.id, entry=BootEntry(place=f"{BANK}:{TRIAL}")),)

    def settings_known(self, member: Member) -> bool:
        """Whether its directories are known."""
        return member.banks is not None


def _is_trial(entry: BootEntry | None, member: Member) -> bool:
    """Whether an entry is a start of this member's trial."""
    place = None if entry is None else entry.at
    if place is None:
        return False
    return place.on(None) == Place(BANK, TRIAL) and place.member in (None, member.id)


def _same(seen: Seen) -> bool:
    """Whether trial and committed hold the same files with the same digests."""
    if seen.member.banks is None:
        raise NotKnownError("the trial and committed directories are unknown")
    trial = _contents(seen, TRIAL)
    committed = _contents(seen, COMMITTED) if trial else None
    if not trial or not committed:
        return False
    if trial.keys() != committed.keys():
        if any(file.path_cut for file in (*trial.values(), *committed.values())):
            raise NotKnownError(f"a name in trial or committed is incomplete: {CUT}")
        return False
    same = True
    for name, file in trial.items():
        other = committed[name]
        if not _may_be_as_long(file, other):
            return False
        ours, theirs = dict(file.digests or ()), dict(other.digests or ())
        common = [algorithm for algorithm in ours if algorithm in theirs]
        if any(ours[algorithm] != theirs[algorithm] for algorithm in common):
            return False
        same = same and bool(common)
    if not same:
        raise NotKnownError(
            "it is unknown whether trial and committed have the same files: a digest is missing"
        )
    for name in (TRIAL, COMMITTED):
        bank = seen.member.bank(name)
        if bank is not None and bank.state is None:
            raise NotKnownError(f"the state of bank {name} is unknown")
    return True


def _contents(seen: Seen, name: str) -> dict[str, File] | None:
    """The files of a directory by their own names; None where it holds no whole image."""
    bank = seen.member.bank(name)
    if bank is None or is_empty(bank) or bank.state == "bad":
        return None
    if bank.places is None:
        raise NotKnownError(f"the files of bank:{name} are unknown")
    files = {}
    for place in bank.files:
        volume = seen.member.volume(place.volume)
        if volume is not None and seen.scheme.holds_nothing(volume):
            return None
        if volume is not None and volume.files is None:
            raise NotKnownError(f"the files on {place.volume} are unknown")
        file = find_file(place.on(None), seen.member)
        if file is None:
            return None
        if why := several_begin(place.on(None), seen.member):
            raise NotKnownError(why)
        key = place.path.rpartition("/")[2]
        files[key.casefold() if volume is not None and volume.case_blind else key] = file
    return files


def _may_be_as_long(file: File, other: File) -> bool:
    """Whether two files may have the same size, as far as is known."""
    most, others = file.most, other.most
    return most is None or others is None or (file.least <= others and other.least <= most)


LAYOUT = Paired()

"""The simulated next start of a device, candidate by candidate.

What counts is what is saved: an unsaved change is lost at reload. Where only the live setting is
known, that is walked, and the walk says so.

1. `files`: a once entry; then by mode the order and the fallback (`listed`), the first image on
   the default volume in directory order (`first-found`), or nothing (`hold`).
2. `banks`: once, the default bank, then the others where the fallback is `other-bank`.
3. `paired`: a once trial start; else trial where trial and committed hold the same files with the
   same digests, else committed; then the other one where the fallback is `other-bank`.
4. A candidate that is missing, empty, or on an absent or unreadable volume: the loader goes on.
5. A candidate that is there but broken (no image, for other hardware, altered, cut short, a bad
   bank): `on_bad_image` decides.
6. `proven` starts, proven; unmeasured, unlisted, disputed or remote starts, unproven.
7. No candidate left: stranded. A fact that the walk needs and nobody knows: unknown.
"""

from collections.abc import Iterator
from typing import Literal, TypeVar

from msgspec import Struct

from ovek.engine.verdicts import (
    JudgedDevice,
    JudgedMember,
    find_file,
    find_image,
    fits,
)
from ovek.model.place import BANK, Place, parse_place
from ovek.model.sheet import Start
from ovek.model.snapshot import BootEntry, File, Setting, Volume
from ovek.model.verdict import WORST_FIRST, Image, Judgement
from ovek.model.walk import (
    BROKEN,
    GOES_ON,
    RELOADS_WORST_FIRST,
    Candidate,
    CandidateOrigin,
    DeviceWalk,
    MemberWalk,
    Reload,
    Result,
    Started,
)

T = TypeVar("T")
TRIAL, COMMITTED = "trial", "committed"


class _NotKnownError(Exception):
    """A fact that the walk needs is not known; the text says which."""


class _Try(Struct, frozen=True):
    """A candidate before it is tried: a place, or what stands in its stead."""

    origin: CandidateOrigin
    place: Place | None
    entry: BootEntry | None = None


def walk_device(judged: JudgedDevice) -> DeviceWalk:
    """Walk the next start of every member of a device."""
    device = judged.device
    walks = tuple(_walk_member(judged, member) for member in judged.members or ())
    outcomes: set[Reload] = {walk.outcome for walk in walks} or {"unknown"}
    reload = next(name for name in RELOADS_WORST_FIRST if name in outcomes)
    runs = device.running.version
    return DeviceWalk(
        device=device.device,
        reload=reload,
        runs=runs,
        changes=_changes(judged, walks),
        members_differ=_members_differ(walks),
        members=walks,
    )


def _walk_member(judged: JudgedDevice, one: JudgedMember) -> MemberWalk:
    walk = _Walk(judged, one)
    tried: list[Candidate] = []
    started: Started | None = None
    outcome: Reload = "stranded"
    note = ""
    try:
        for candidate in walk.candidates():
            result, why, image = walk.attempt(candidate)
            shown = _shown(candidate)
            tried.append(Candidate(place=shown, origin=candidate.origin, result=result, why=why))
            if result in GOES_ON or result in BROKEN:
                if result in BROKEN and walk.start.on_bad_image == "halt":
                    note = "the loader halts at an image that it cannot start"
                    break
                continue
            if result == "unknown":
                outcome, note = "unknown", why
                break
            started = _started(shown, image)
            outcome = "ready" if result == "proven" else "unproven"
            note = why
            break
        else:
            note = walk.stranded_note(tried)
    except _NotKnownError as unknown:
        outcome, note = "unknown", str(unknown)
    return MemberWalk(
        member=one.member.id,
        from_=walk.from_,
        outcome=outcome,
        starts=started,
        tried=tuple(tried),
        note=note,
        rescue=_rescue(judged, one) if outcome == "stranded" else (),
    )


def _rescue(judged: JudgedDevice, one: JudgedMember) -> tuple[Started, ...]:
    """What a person could start a stranded member from, on whatever volume or bank it lies."""
    able = [
        image
        for image in (*one.images.values(), *one.sets.values(), *one.banks.values())
        if image.role in ("system-image", "set-file")
        and image.judgement.verdict in ("proven", "unmeasured", "disputed", "unlisted")
        and (
            image.judgement.release is None
            or fits(image.judgement.release, judged.device.hardware) is not False
        )
    ]
    able.sort(key=lambda image: -WORST_FIRST.index(image.judgement.verdict))
    return tuple(_started(str(image.place), image) for image in able)


def cited_candidates(
    judged: JudgedDevice, one: JudgedMember, walked: MemberWalk
) -> Iterator[Candidate]:
    """Try every candidate that the settings of a member name, also those behind the first start.

    The settings are the once entry and the saved order (the live one where only that is known).
    """
    walk = _Walk(judged, one)
    boot = one.member.boot
    if boot is None:
        return
    order = walk.setting(boot.order) if walk.start.layout == "files" else None
    tried = {(candidate.origin, candidate.place): candidate for candidate in walked.tried}
    entries: list[tuple[CandidateOrigin, BootEntry]] = []
    if boot.once is not None:
        entries.append(("once", boot.once))
    entries += [("order", entry) for entry in order or ()]
    for origin, entry in entries:
        candidate = _Try(origin, parse_place(entry.place) if entry.place else None, entry)
        shown = _shown(candidate)
        if (origin, shown) in tried:
            yield tried[origin, shown]
        else:
            result, why, _ = walk.attempt(candidate)
            yield Candidate(place=shown, origin=origin, result=result, why=why)


class _Walk:
    """What one member's walk knows. `used` is whether any setting was read yet."""

    def __init__(self, judged: JudgedDevice, one: JudgedMember) -> None:
        self.judged, self.one, self.member = judged, one, one.member
        self.start: Start = judged.judge.sheet.start
        self.used = False
        self.only_live = False

    @property
    def from_(self) -> Literal["saved", "live"] | None:
        """Which settings were walked; None where none was read."""
        return None if not self.used else "live" if self.only_live else "saved"

    def setting(self, setting: Setting[T]) -> T | None:
        """What the next start reads; the live value where the saved one is not known."""
        if setting.saved is not None:
            self.used = True
            return setting.saved
        if setting.live is not None:
            self.used = self.only_live = True
        return setting.live

    def candidates(self) -> Iterator[_Try]:
        if self.member.boot is None:
            raise _NotKnownError("the boot settings are not known")
        if self.start.layout == "files":
            return self._of_files()
        return self._of_banks() if self.start.layout == "banks" else self._of_pair()

    def _once(self) -> Iterator[_Try]:
        boot = self.member.boot
        if boot is not None and boot.once is not None:
            self.used = True
            place = None if boot.once.place is None else parse_place(boot.once.place)
            yield _Try("once", place, boot.once)

    def _of_files(self) -> Iterator[_Try]:
        boot = self.member.boot
        assert boot is not None
        yield from self._once()
        mode = self.setting(boot.mode) or self.start.mode
        if mode is None:
            raise _NotKnownError("the boot mode is not known")
        if mode == "hold":
            return
        tried: list[Place] = []
        if mode == "listed":
            order = self.setting(boot.order)
            if order is None:
                raise _NotKnownError("the boot order is not known")
            for entry in order:
                place = None if entry.place is None else parse_place(entry.place)
                if place is not None and place.member in (None, self.member.id):
                    tried.append(find_image(place.on(None), self.member, self.one.images)[0])
                yield _Try("order", place, entry)
        if mode == "first-found" or self.start.fallback == "first-found":
            self.used = True
            for place in self._first_found():
                if place not in tried:
                    yield _Try("first-found", place)

    def _first_found(self) -> Iterator[Place]:
        """The images of the default volume that could start a member, in directory order."""
        volume = self.default_volume()
        if volume.state in ("absent", "unreadable"):
            return
        if volume.files is None:
            raise _NotKnownError(f"the files of {volume.name}: are not known")
        for file in volume.files:
            place = Place(volume.name, file.path)
            image = self.one.sets.get(place) or self.one.images.get(place)
            if image is not None and image.role in ("system-image", "set-file"):
                yield place

    def default_volume(self) -> Volume:
        volumes = self.member.volumes
        if volumes is None:
            raise _NotKnownError("the volumes are not known")
        name = self.start.default_volume or (volumes[0].name if volumes else "")
        return self.member.volume(name) or Volume(name=name or "none", state="absent")

    def _of_banks(self) -> Iterator[_Try]:
        boot = self.member.boot
        assert boot is not None
        once = next(self._once(), None)
        if once is not None:
            yield once
        default = self.setting(boot.default_bank)
        if default is None:
            raise _NotKnownError("the default bank is not known")
        yield _Try("default-bank", Place(BANK, default))
        if self.start.fallback == "other-bank":
            if self.member.banks is None:
                raise _NotKnownError("the banks are not known")
            for bank in self.member.banks:
                if bank.name != default:
                    yield _Try("other-bank", Place(BANK, bank.name))

    def _of_pair(self) -> Iterator[_Try]:
        boot = self.member.boot
        assert boot is not None
        self.used = True
        tried_trial = False
        if boot.once is not None:
            yield from self._once()
            tried_trial = boot.once.place == f"{BANK}:{TRIAL}"
        same = not tried_trial and self.pair_is_same()
        if same:
            yield _Try("trial", Place(BANK, TRIAL))
            if self.start.fallback == "none":
                return
        yield _Try("committed", Place(BANK, COMMITTED))
        if not same and not tried_trial and self.start.fallback == "other-bank":
            yield _Try("other-bank", Place(BANK, TRIAL))

    def pair_is_same(self) -> bool:
        """Whether trial and committed hold the same files with the same digests."""
        if self.member.banks is None:
            raise _NotKnownError("the trial and committed directories are not known")
        contents = [self._contents(name) for name in (TRIAL, COMMITTED)]
        if None in contents:
            return False
        trial, committed = contents
        assert trial is not None and committed is not None
        if trial.keys() != committed.keys():
            return False
        same = True
        for name, file in trial.items():
            other = committed[name]
            if None not in (file.size, other.size) and file.size != other.size:
                return False
            ours, theirs = dict(file.digests or ()), dict(other.digests or ())
            common = [algorithm for algorithm in ours if algorithm in theirs]
            if any(ours[algorithm] != theirs[algorithm] for algorithm in common):
                return False
            same = same and bool(common)
        if not same:
            raise _NotKnownError("no digest tells whether trial and committed hold the same files")
        return True

    def _contents(self, name: str) -> dict[str, File] | None:
        bank = self.member.bank(name)
        if bank is None or bank.state in ("empty", "bad"):
            return None
        if bank.places is None:
            raise _NotKnownError(f"the files of bank:{name} are not known")
        files = {}
        for text in bank.places:
            place = parse_place(text).on(None)
            file = find_file(place, self.member)
            if file is None:
                return None
            files[place.name] = file
        return files

    def attempt(self, candidate: _Try) -> tuple[Result, str, Image | None]:
        """Try one candidate: the result, why, and the image that it is."""
        if candidate.place is None:
            entry = candidate.entry
            if entry is not None and entry.remote is not None:
                return "remote", "it comes from a server, which nobody can prove from here", None
            return "unknown", "the device's own text of this entry was not understood", None
        if candidate.place.is_bank:
            return self._attempt_bank(candidate.place)
        return self._attempt_file(candidate.place)

    def _attempt_bank(self, place: Place) -> tuple[Result, str, Image | None]:
        banks = self.member.banks
        bank = self.member.bank(place.path)
        if banks is None:
            return "unknown", "the banks are not known", None
        if bank is None:
            return "missing", f"there is no bank {place.path}", None
        if bank.state == "empty":
            return "empty", "the bank is empty", None
        if bank.state == "bad":
            return "bad", "the device itself calls the bank bad", None
        image = self.one.banks[bank.name]
        nothing_known = bank.state is None and not bank.places and bank.version is None
        if nothing_known and image.judgement.verdict == "unmeasured":
            return "unknown", "what the bank holds is not known", None
        return self._by_image(image)

    def _attempt_file(self, place: Place) -> tuple[Result, str, Image | None]:
        one = self.one
        if place.member not in (None, one.member.id):
            other = self.judged.member(place.member)
            if other is None:
                return "absent", f"there is no member {place.member}", None
            one = other
        place = place.on(None)
        member = one.member
        if member.volumes is None:
            return "unknown", "the volumes are not known", None
        volume = member.volume(place.volume)
        if volume is None or volume.state == "absent":
            return "absent", f"the volume {place.volume}: is absent", None
        if volume.state == "unreadable":
            return "unreadable", f"the volume {place.volume}: cannot be read", None
        if volume.files is None:
            return "unknown", f"the files of {place.volume}: are not known", None
        file = find_file(place, member)
        if file is None:
            return "missing", "there is no such file", None
        if file.size == 0:
            return "empty", "the file is empty (0 bytes)", None
        spelled, image = find_image(place, member, one.images)
        if spelled in one.sets:
            return self._by_image(one.sets[spelled])
        if image is None or image.role not in ("system-image", "set-file"):
            what = "no image" if image is None else f"a {image.role}, no system image"
            return "not-an-image", f"it is {what}", None
        return self._by_image(image)

    def _by_image(self, image: Image) -> tuple[Result, str, Image | None]:
        judgement: Judgement = image.judgement
        release, hardware = judgement.release, self.judged.device.hardware
        suits = True if release is None else fits(release, hardware)
        if judgement.verdict in ("altered", "cut-short"):
            return judgement.verdict, judgement.why, image
        if release is not None and suits is False:
            wanted = " ".join([*(release.fits or ()), *(release.revisions or ())])
            model = f"{hardware.model or ''} {hardware.revision or ''}".strip()
            return "wrong-hardware", f"{release.file} is for {wanted}, this is {model}", image
        if suits is None and judgement.verdict == "proven":
            why = f"{judgement.why}, but whether it is for this hardware is not known"
            return "unmeasured", why, image
        return judgement.verdict, judgement.why, image

    def stranded_note(self, tried: list[Candidate]) -> str:
        """Why nothing starts, in one line."""
        boot = self.member.boot
        if boot is not None and (boot.mode.saved or boot.mode.live) == "hold":
            return "the boot mode is hold: the loader waits for a person"
        if not tried:
            return "the boot order is empty and there is no fallback that holds an image"
        return "no candidate is left; the member stops in its boot loader"


def _shown(candidate: _Try) -> str:
    entry = candidate.entry
    if candidate.place is not None:
        return entry.place if entry is not None and entry.place else str(candidate.place)
    assert entry is not None
    return entry.remote or entry.raw or ""


def _started(shown: str, image: Image | None) -> Started:
    if image is None:
        return Started(place=shown)
    judgement = image.judgement
    by = judgement.by if judgement.verdict == "proven" else None
    return Started(place=shown, version=image.version, verdict=judgement.verdict, by=by)


def _changes(judged: JudgedDevice, walks: tuple[MemberWalk, ...]) -> bool | None:
    """Whether some member starts another version than it runs, as far as is known."""
    running, changes = judged.device.running.version, False
    for one, walk in zip(judged.members or (), walks, strict=True):
        runs = one.member.running_version or running
        if walk.starts is None or walk.starts.version is None or runs is None:
            return None
        changes = changes or walk.starts.version != runs
    return changes if walks else None


def _members_differ(walks: tuple[MemberWalk, ...]) -> bool | None:
    versions = {walk.starts.version if walk.starts else None for walk in walks}
    return None if None in versions or not walks else len(versions) > 1

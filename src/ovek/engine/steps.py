"""A plan step by step: what is expected after each, so that a stop at any point is known.

1. Back up what exists nowhere else.
2. Check the digest of what must stay and start.
3. Delete, the lowest tier first; of a set its set file first, so that no half set is tried.
4. Check the free space.
5. For an image: copy it, check its digest, point the boot settings at it, reload in a window. For
   a bank: write it, check it, make it the default. For a pair: copy, check, schedule the trial.

After each step the boot walk is walked again on the device as it would be. The *stretch* is from
the first step after which a power cut would leave the device worse than it is, to the last.
"""

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.banks import COMMITTED, TRIAL, said_of_bank
from ovek.engine.bootwalk import walk_device
from ovek.engine.choose import Unit
from ovek.engine.roles import Standing
from ovek.engine.verdicts import JudgedDevice, JudgedMember, judge_device
from ovek.model.digest import STRONGEST_FIRST, TITLES, Digests
from ovek.model.place import BANK, Place, parse_place
from ovek.model.plan import Room, Step
from ovek.model.sheet import StepKind
from ovek.model.size import show_size
from ovek.model.snapshot import Bank, Boot, BootEntry, Device, File, Member, Setting, Volume
from ovek.model.verdict import Image, KnownRelease
from ovek.model.walk import RELOADS_WORST_FIRST, DeviceWalk


class Explained(Struct, frozen=True, kw_only=True):
    """The steps of a plan, and the first and last of those in which a power cut does harm."""

    steps: tuple[Step, ...]
    stretch: tuple[int, int] | None


def started(walk: DeviceWalk, member: str) -> str | None:
    """What a member starts next, in words; None: nothing, or not known."""
    starts = next(each.starts for each in walk.members if each.member == member)
    if starts is None:
        return None
    return f"{starts.version} from {starts.place}" if starts.version else starts.place


class _Track:
    """The device as it is after the steps so far, and those steps."""

    def __init__(
        self, judged: JudgedDevice, one: JudgedMember, volume: Volume | None, before: DeviceWalk
    ) -> None:
        self.judge, self.before = judged.judge, before
        self.device: Device = judged.device
        self.member_id = one.member.id
        self.volume_name = volume.name if volume is not None else None
        self.walk = before
        self.steps: list[Step] = []

    @property
    def member(self) -> Member:
        return next(m for m in self.device.members or () if m.id == self.member_id)

    @property
    def volume(self) -> Volume | None:
        return self.member.volume(self.volume_name) if self.volume_name is not None else None

    def change(self, member: Member) -> None:
        """The device becomes another; walk it again."""
        members = self.device.members or ()
        changed = tuple(member if each.id == member.id else each for each in members)
        self.device = replace(self.device, members=changed)
        self.walk = walk_device(judge_device(self.device, self.judge))

    def change_volume(self, volume: Volume) -> None:
        """One volume becomes another."""
        member = self.member
        volumes = tuple(volume if v.name == volume.name else v for v in member.volumes or ())
        self.change(replace(member, volumes=volumes))

    def add(self, kind: StepKind, what: str, on_the_way: bool = True, /, **words: str) -> None:
        """Write a step down, with what is expected now; `on_the_way` is safe till it is done."""
        line = self.judge.sheet.worded(kind, {"member": self.member_id, **words})
        volume = self.volume
        self.steps.append(
            Step(
                kind=kind,
                what=what,
                line=line,
                free=volume.free if volume is not None else None,
                reload=self.walk.reload,
                starts=started(self.walk, self.member_id),
                safe=on_the_way and self.is_safe(),
            )
        )

    def is_safe(self) -> bool:
        """Whether a power cut now leaves the device no worse than it was."""
        rank = RELOADS_WORST_FIRST.index
        was, now = (
            next(each for each in walk.members if each.member == self.member_id)
            for walk in (self.before, self.walk)
        )
        return rank(now.outcome) >= rank(was.outcome)

    def explained(self) -> Explained:
        harm = [number for number, step in enumerate(self.steps, 1) if not step.safe]
        return Explained(steps=tuple(self.steps), stretch=(harm[0], harm[-1]) if harm else None)


def steps_of(
    judged: JudgedDevice,
    one: JudgedMember,
    volume: Volume,
    walks: tuple[DeviceWalk, DeviceWalk],
    going: list[Unit],
    found: list[Standing],
    room: Room,
    bank: str | None,
) -> Explained:
    """The steps of a plan on a volume; `walks` are those before it and after it."""
    track = _Track(judged, one, volume, walks[0])
    files = {standing.place: standing.file for standing in found}
    roles = {standing.place: standing.role for standing in found}
    images = ("system-image", "set-file", "package", "part-image")
    for unit in going:
        if unit.tier >= 4 and roles[unit.places[0]] in images:
            for place in unit.places:
                what = f"Back up {place} off the device: it is not known to be anywhere else"
                track.add("back-up", what, volume=place.volume, path=place.path)
    gone = {place for unit in going for place in unit.places}
    for at, walk in enumerate(walks):
        if not at or started(walk, track.member_id) != started(walks[0], track.member_id):
            _check_what_starts(track, one, walk, gone)
    cluster = volume.cluster or judged.judge.sheet.capacity.cluster or 1
    for unit in going:
        for place in unit.places:
            frees = -(-(files[place].size or 0) // cluster) * cluster
            _delete(track, place, frees)
            what = f"Delete {place} ({show_size(frees)}, tier {unit.tier}: {unit.why})"
            track.add("delete", what, volume=place.volume, path=place.path)
    after = track.volume
    free = after.free if after is not None else None
    told = f"{show_size(free)} ({free} bytes)" if free is not None else "more"
    track.add("check-free", f"Check that {volume.name}: has {told} free", volume=volume.name)
    if room.release is not None:
        there = next(
            (
                place
                for place, image in one.images.items()
                if image.judgement.verdict == "proven"
                and image.judgement.release is room.release
                and place.volume == volume.name
                and place not in gone
            ),
            None,
        )
        _bring(track, room.release, there, bank, cluster)
    return track.explained()


def _check_what_starts(
    track: _Track, one: JudgedMember, walk: DeviceWalk, gone: set[Place]
) -> None:
    """Check the image that a walk starts and that stays, where a digest of it is known."""
    starts = next(each.starts for each in walk.members if each.member == one.member.id)
    if starts is None or "://" in starts.place:
        return
    place = parse_place(starts.place).on(None)
    image = one.banks.get(place.path) if place.is_bank else one.sets.get(place)
    parts = image.parts if image is not None and image.parts else (place,)
    for part in parts:
        held = one.images.get(part)
        digest = _digest(held)
        if held is None or digest is None or part in gone:
            continue
        algorithm, value = digest
        what = f"Check that the {TITLES[algorithm]} of {part} is {value}"  # type: ignore[index]
        track.add(
            "check-digest",
            what,
            volume=part.volume,
            path=part.path,
            algorithm=algorithm,
            digest=value,
        )


def _digest(image: Image | None) -> tuple[str, str] | None:
    """The strongest digest of a proven image."""
    if image is None or image.judgement.verdict != "proven" or image.file is None:
        return None
    return next(((name, value) for name, value in image.file.digests or ()), None)


def _published(release: KnownRelease) -> tuple[str, str] | None:
    """The strongest digest of a release on which its sources agree."""
    for name in STRONGEST_FIRST:
        if name in release.digests and name not in release.disputed:
            return name, min(release.digests[name])
    return None


def _delete(track: _Track, place: Place, frees: int) -> None:
    volume = track.volume
    assert volume is not None
    free = None if volume.free is None else volume.free + frees
    if free is not None and volume.capacity is not None:
        free = min(free, volume.capacity)
    left = replace(
        volume,
        files=tuple(file for file in volume.files or () if file.path != place.path),
        sets=None
        if volume.sets is None
        else tuple(each for each in volume.sets if each.set_file != place.path),
        free=free,
    )
    track.change_volume(left)


def _bring(
    track: _Track, release: KnownRelease, there: Place | None, bank: str | None, cluster: int
) -> None:
    """Copy an image onto the volume, unless it is there, proven; check it and have it started."""
    volume = track.volume
    assert volume is not None
    path = release.file
    if bank is not None:
        path = f"{_folder(track.member, bank)}{release.file}"
    elif there is not None:
        path = there.path
    place = Place(volume.name, path)
    if there is None or bank is not None:
        size = max(release.sizes, default=0)
        takes = -(-size // cluster) * cluster
        fits = volume.free is not None and volume.free >= takes
        half = File(path=path, size=max(size - 1, 0))
        # A copy that broke off must do no harm either; what is safe half-way is safe when whole.
        added = File(path=path, size=size, digests=_all_published(release))
        on_the_way = True
        for file in (half, added):
            changed = replace(
                volume,
                files=(*(f for f in volume.files or () if f.path != path), file),
                free=(volume.free or 0) - takes if fits else volume.free,
            )
            track.change_volume(changed)
            if bank is not None:
                _point_bank(track, bank, place)
            on_the_way = on_the_way and track.is_safe()
        what = f"Copy {release.file} to {place}"
        words = {"volume": volume.name, "path": path, "file": release.file}
        track.add("copy", what, on_the_way, **words)
    digest = _published(release)
    if digest is not None:
        algorithm, value = digest
        track.add(
            "check-digest",
            f"Check that the {TITLES[algorithm]} of {place} is {value}",  # type: ignore[index]
            volume=volume.name,
            path=path,
            file=release.file,
            algorithm=algorithm,
            digest=value,
        )
    if bank is None:
        _order_first(track, place)
        what = f"Put {place} first in the boot order, save, and see: {_bootwalk(track)}"
        track.add("set-boot", what, volume=volume.name, path=path, file=release.file)
    else:
        _boot_from(track, bank)
        what = f"{_boots(bank)}, and see: {_bootwalk(track)}"
        track.add("set-boot", what, volume=volume.name, path=path, bank=bank, file=release.file)
    _reload(track, release)


def _all_published(release: KnownRelease) -> Digests:
    known = {name: min(values) for name, values in release.digests.items()}
    return Digests(**{name: value for name, value in known.items() if name not in release.disputed})


def _folder(member: Member, bank: str) -> str:
    """The folder of a bank that is made of files, with its slash."""
    there = member.bank(bank)
    texts = (there.places if there is not None else None) or ()
    for text in texts:
        front, slash, _ = parse_place(text).path.rpartition("/")
        return front + slash
    return f"{bank}/"


def _point_bank(track: _Track, name: str, place: Place) -> None:
    bank = Bank(name=name, state="ok", places=(str(place),))
    member = track.member
    banks = tuple(bank if each.name == name else each for each in member.banks or ())
    track.change(replace(member, banks=banks))


def _order_first(track: _Track, place: Place) -> None:
    """The boot order, live and saved, begins with a place."""
    boot = track.member.boot or Boot()
    order = boot.order.saved if boot.order.saved is not None else boot.order.live
    entries = (
        BootEntry(place=str(place)),
        *(entry for entry in order or () if entry.place != str(place)),
    )
    mode = Setting(live="listed", saved="listed")
    changed = replace(boot, order=Setting(live=entries, saved=entries), mode=mode, once=None)
    track.change(replace(track.member, boot=changed))


def _boot_from(track: _Track, bank: str) -> None:
    """The bank is the default, or the trial is scheduled."""
    boot = track.member.boot or Boot()
    if bank == TRIAL and track.judge.sheet.start.layout == "paired":
        changed = replace(boot, once=BootEntry(place=f"{BANK}:{TRIAL}"))
    else:
        changed = replace(boot, default_bank=Setting(live=bank, saved=bank), once=None)
    track.change(replace(track.member, boot=changed))


def _boots(bank: str) -> str:
    if bank == TRIAL:
        return "Schedule the trial start"
    return f"Make {BANK}:{bank} the default, and save"


def _bootwalk(track: _Track) -> str:
    return f"ovek bootwalk {track.device.device}"


def _reload(track: _Track, release: KnownRelease) -> None:
    after = f"; then: ovek compare OLD --expect {release.version}" if release.version else ""
    commit = ""
    if track.judge.sheet.start.layout == "paired":
        commit = f", and commit the trial to bank:{COMMITTED} if it does well"
    track.add("reload", f"Reload in a window{commit}{after}", file=release.file)


def bank_steps(
    judged: JudgedDevice,
    one: JudgedMember,
    before: DeviceWalk,
    bank: str,
    room: Room,
    shelf: frozenset[str],
) -> Explained:
    """The steps of writing an image to a bank that holds its image itself."""
    track, release = _Track(judged, one, None, before), room.release
    lost = said_of_bank(one, bank, shelf)
    if lost.endswith("back it up first"):
        track.add("back-up", f"Back up {BANK}:{bank}: {lost}", bank=bank)
    _write(track, Bank(name=bank, state="bad"))  # a power cut while it is written
    name = release.file if release is not None else "the image"
    words = {"bank": bank, "file": name}
    track.add("write-bank", f"Write {name} to {BANK}:{bank}; half written, it is bad", **words)
    digests = _all_published(release) if release is not None else None
    if release is None:
        return track.explained()
    size = max(release.sizes, default=None)
    _write(
        track,
        Bank(name=bank, state="ok", version=release.version, digests=digests, size=size),
    )
    digest = _published(release)
    if digest is not None:
        algorithm, value = digest
        what = f"Check that the {TITLES[algorithm]} of {BANK}:{bank} is {value}"  # type: ignore[index]
        track.add("check-digest", what, algorithm=algorithm, digest=value, **words)
    _boot_from(track, bank)
    what = f"{_boots(bank)}, and see: {_bootwalk(track)}"
    track.add("set-boot", what, **words)
    _reload(track, release)
    return track.explained()


def _write(track: _Track, bank: Bank) -> None:
    member = track.member
    banks = tuple(bank if each.name == bank.name else each for each in member.banks or ())
    track.change(replace(member, banks=banks))

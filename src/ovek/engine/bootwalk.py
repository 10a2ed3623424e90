"""The simulated next start of a device, candidate by candidate.

What counts is what is saved: an unsaved change is lost at reload. Where only the live setting is
known, that is walked, and the walk says so. Which candidates there are, and in which order, is the
layout's (see `layouts/`). Each is tried alike:

1. One that is missing, empty, or on an absent or unreadable volume: the loader goes on.
2. One that is there but broken (no image, for other hardware, altered, cut short, a bad bank):
   `on_bad_image` decides.
3. `proven` starts, proven; unverified, unlisted, disputed or remote starts, unproven.
4. A fact that this needs and nobody knows (the state of a bank or volume among them): unknown.
5. No candidate left: stranded.

A place with a member in front is that member's, for a file and a bank alike.
"""

from collections.abc import Iterable, Iterator
from functools import cmp_to_key
from typing import NamedTuple

from ovek.engine.layouts import layout_of
from ovek.engine.layouts.interface import Attempt, NotKnownError, Seen
from ovek.engine.runs import runs_of, version_of
from ovek.engine.verdicts import (
    CUT,
    JudgedDevice,
    JudgedMember,
    find_file,
    is_empty,
    several_begin,
    suits_on,
)
from ovek.model.place import Place
from ovek.model.sheet import BootScheme
from ovek.model.snapshot import File, Hardware
from ovek.model.verdict import WORST_FIRST, Image, Judgement
from ovek.model.version import compare
from ovek.model.walk import (
    BROKEN,
    GOES_ON,
    RELOADS_WORST_FIRST,
    STARTS,
    Candidate,
    CandidateResult,
    DeviceWalk,
    MemberWalk,
    NextBoot,
    Started,
)


class Tried(NamedTuple):
    """What became of a candidate: the result, why, the image that it is, and where that lies."""

    result: CandidateResult
    why: str
    image: Image | None = None
    at: Place | None = None


def walk_device(judged: JudgedDevice) -> DeviceWalk:
    """Walk the next start of every member of a device."""
    device = judged.device
    walks = tuple(_walk_member(judged, member) for member in judged.members or ())
    outcomes: set[NextBoot] = {walk.outcome for walk in walks} or {"unknown"}
    return DeviceWalk(
        device=device.device,
        next_boot=next(name for name in RELOADS_WORST_FIRST if name in outcomes),
        running=device.running.version,
        changes=_changes(judged, walks),
        members_differ=_members_differ(walks),
        members=walks,
    )


def _walk_member(judged: JudgedDevice, one: JudgedMember) -> MemberWalk:
    seen, layout = Seen(judged, one), layout_of(judged)
    tried: list[Candidate] = []
    started: Started | None = None
    outcome: NextBoot = "stranded"
    note = ""
    try:
        for attempt in layout.candidates(seen):
            found = try_it(seen, attempt)
            tried.append(_candidate(attempt, found))
            if found.result in GOES_ON or found.result in BROKEN:
                if found.result in BROKEN and seen.scheme.on_bad_image == "halt":
                    note = "this loader stops at a bad image; it does not try the next one"
                    break
                continue
            if found.result == "unknown":
                outcome, note = "unknown", found.why
                break
            started = _started(_shown(attempt), found.image, found.at)
            outcome = "proven" if found.result == "proven" else "unproven"
            note = found.why
            break
        else:
            note = _stranded_note(seen, tried)
    except NotKnownError as unknown:
        outcome, note = "unknown", str(unknown)
    return MemberWalk(
        member=one.member.id,
        from_=None if not seen.used else "live" if seen.only_live else "saved",
        outcome=outcome,
        boots=started,
        tried=tuple(tried),
        note=note,
        rescue=rescue(judged, one) if outcome == "stranded" else (),
    )


def rescue(judged: JudgedDevice, member: JudgedMember) -> tuple[Started, ...]:
    """What a person could start a stranded member from, on whatever volume or bank it lies.

    The best proven first, of those what runs, then the newest.
    """
    able = [
        image
        for image in (*member.images.values(), *member.sets.values(), *member.banks.values())
        if image.starts_members and image.judgement.verdict in STARTS and image.suits is not False
    ]
    scheme = judged.judge.sheet.versions.pattern
    running = {place for each in runs_of(judged) for place in each.places}

    def better_first(image: Image, other: Image) -> int:
        ranks = [WORST_FIRST.index(each.judgement.verdict) for each in (other, image)]
        now = [each.place.on(member.member.id) in running for each in (other, image)]
        order = compare(other.version or "", image.version or "", scheme) or 0
        by_name = -1 if image.place[:2] < other.place[:2] else 1
        return ranks[0] - ranks[1] or now[0] - now[1] or order or by_name

    able.sort(key=cmp_to_key(better_first))
    return tuple(
        _started(str(image.place), image, image.place.on(member.member.id)) for image in able
    )


def cited_candidates(
    judged: JudgedDevice, member: JudgedMember, walked: MemberWalk
) -> Iterator[Candidate]:
    """Try every candidate that the settings of a member name, also those behind the first start.

    The settings are the once entry and the saved order (the live one where only that is known).
    """
    if member.member.boot is None:
        return
    seen, layout = Seen(judged, member), layout_of(judged)
    tried = {(candidate.origin, candidate.place): candidate for candidate in walked.tried}
    for attempt in layout.named(seen):
        known = tried.get((attempt.origin, _shown(attempt)))
        yield known or _candidate(attempt, try_it(seen, attempt))


def others_that_boot(
    judged: JudgedDevice,
    member: JudgedMember,
    walked: MemberWalk,
    cited: Iterable[Candidate] | None = None,
) -> bool:
    """Whether a boot would come to something else that boots, were the first one missing."""
    boots = walked.boots.at if walked.boots is not None else None
    first = judged.image(boots) if boots is not None else None

    def another(image: Image) -> bool:
        other = image is not first and image.starts_members
        return other and image.judgement.verdict in STARTS

    for each in cited_candidates(judged, member, walked) if cited is None else cited:
        if each.result == "remote" and first is not None:
            return True
        image = judged.image(each.at) if each.result in STARTS and each.at else None
        if image is not None and another(image):
            return True
    others = layout_of(judged).others(Seen(judged, member))
    return any(map(another, others))


def behind(judged: JudgedDevice, member: JudgedMember) -> Iterator[Place]:
    """What a member comes to where its first start, which nobody has proven, fails after all.

    Everything behind it that may start, up to the first that surely does, with the member in front.
    Raises NotKnownError where that needs a fact that nobody knows.
    """
    seen, layout = Seen(judged, member), layout_of(judged)
    for attempt in layout.candidates(seen):
        found = try_it(seen, attempt)
        if found.result == "unknown":
            raise NotKnownError(found.why)
        if found.at is not None and found.result in STARTS:
            yield found.at
        if found.result == "proven":
            return


def try_it(seen: Seen, attempt: Attempt) -> Tried:
    """Try one candidate."""
    place = attempt.place
    if place is None:
        if attempt.entry is not None and attempt.entry.remote is not None:
            return Tried("remote", "it comes from a server, so it cannot be verified on the device")
        return Tried("unknown", "the sheet cannot parse this entry")
    one = seen.one
    if place.member not in (None, one.member.id):
        other = seen.judged.member(place.member)
        if other is None:
            return Tried("absent", f"member {place.member} does not exist", at=place)
        one = other
    at = seen.judged.located(place, one.member.id)
    if place.is_bank:
        return _try_bank(seen, one, at)
    return _try_file(seen, one, place, at)


def _try_bank(seen: Seen, member: JudgedMember, at: Place) -> Tried:
    banks, bank = member.member.banks, member.member.bank(at.path)
    if banks is None:
        return Tried("unknown", "the banks are unknown", at=at)
    if bank is None:
        return Tried("missing", f"bank {at.path} does not exist", at=at)
    if is_empty(bank):
        return Tried("empty", "the bank is empty", at=at)
    if bank.state == "bad":
        return Tried("bad", "the device marks this bank as bad", at=at)
    if bank.state is None:
        return Tried("unknown", f"the state of bank {bank.name} is unknown", at=at)
    volumes = {place.volume for place in member.banks[bank.name].parts if place.member is None}
    for name in sorted(volumes):
        if (tried := _of_volume(member, name, at, seen.scheme)) is not None:
            return tried
    return _by_image(seen, member, member.banks[bank.name], at)


def _of_volume(member: JudgedMember, name: str, at: Place, start: BootScheme) -> Tried | None:
    """Why nothing on a volume can be tried; None where it can."""
    if member.member.volumes is None:
        return Tried("unknown", "the volumes are unknown", at=at)
    volume = member.member.volume(name)
    if volume is None or volume.state == "absent":
        return Tried("absent", f"volume {name} is absent", at=at)
    if volume.state == "unreadable":
        return Tried("unreadable", f"volume {name} cannot be read", at=at)
    if not start.can_read(volume.filesystem):
        why = f"volume {name} is {volume.filesystem}, which this device cannot read"
        return Tried("unreadable", why, at=at)
    if volume.state is None:
        return Tried("unknown", f"it is unknown whether volume {name} can be read", at=at)
    if volume.files is None:
        return Tried("unknown", f"the files on {name} are unknown", at=at)
    return None


def _try_file(seen: Seen, member: JudgedMember, place: Place, at: Place) -> Tried:
    if (tried := _of_volume(member, place.volume, at, seen.scheme)) is not None:
        return tried
    bare = at.on(None)
    image = member.images.get(bare)
    file = image.file if image is not None else find_file(bare, member.member)
    if file is None:
        return Tried("missing", "the file does not exist", at=at)
    if file.path_cut:
        return _try_cut(seen, member, place, at, file)
    if file.path != place.path and member.member.volume(place.volume).filesystem is None:  # type: ignore[union-attr]
        why = f"it is unknown whether this is {file.path}, because the file system is unknown"
        return Tried("unknown", why, at=at)
    if file.is_empty:
        return Tried("empty", "the file is empty (0 bytes)", at=at)
    if _is_unread_set(seen, member, bare):
        return Tried("unknown", f"the packages of {at.path} are unknown", at=at)
    found = _by_image(seen, member, member.sets.get(bare) or image, at)
    may_be_empty = file.size is not None and file.least == 0
    if may_be_empty and found.result in BROKEN and seen.scheme.on_bad_image == "halt":
        why = "it is unknown whether the file is empty: the listing rounds its size"
        return Tried("unknown", why, at=at)
    return found


def _is_unread_set(seen: Seen, member: JudgedMember, place: Place) -> bool:
    """Whether a file is a set file by its name, on a volume whose sets nobody knows."""
    volume = member.member.volume(place.volume)
    if volume is None or volume.sets is not None:
        return False
    naming = seen.judged.judge.naming
    return naming.role(place.path, case_blind=volume.case_blind) == "set-file"


def _try_cut(seen: Seen, member: JudgedMember, place: Place, at: Place, file: File) -> Tried:
    """Try a file that the listing shows with the beginning of its name: it is never missing."""
    bare = at.on(None)
    image = member.sets.get(bare) or member.images.get(bare)
    release = image.judgement.release if image is not None else None
    if why := several_begin(place.on(None), member.member):
        return Tried("unknown", why, at=at)
    volume = member.member.volume(place.volume)
    blind = volume is not None and volume.case_blind
    if volume is not None and volume.filesystem is None and not place.path.startswith(at.path):
        why = f"it is unknown whether it begins with {at.path}, because the file system is unknown"
        return Tried("unknown", why, at=at)
    if file.is_empty:
        return Tried("empty", "the file is empty (0 bytes)", at=at)
    if (
        release is not None
        and not _is_called(release.file, place.name, blind=blind)
        and place.path != at.path
    ):
        return Tried("unknown", f"{CUT}: it may be {release.file}", at=at)
    return _by_image(seen, member, image, at)


def _is_called(name: str, other: str, *, blind: bool) -> bool:
    return name == other or (blind and name.casefold() == other.casefold())


def _by_image(seen: Seen, member: JudgedMember, image: Image | None, at: Place) -> Tried:
    """What a start makes of an image, on the member that starts; `member` is where it lies."""
    if image is None or not image.starts_members:
        what = "not an image" if image is None else f"a {image.role}, not a system image"
        return Tried("not-an-image", f"it is {what}", at=at)
    judgement: Judgement = image.judgement
    if judgement.verdict in ("altered", "truncated"):
        return Tried(judgement.verdict, judgement.why, image, at)
    suits, foreign = image.suits, image.foreign
    if member is not seen.one and member.hardware != seen.one.hardware:
        suits, foreign = suits_on(image, member, seen.one.hardware)
    if suits is False:
        why = "it is for other hardware"
        if foreign is not None:
            why = for_other(foreign.file, [*(foreign.hardware or ()), *(foreign.revisions or ())],
                            seen.one.hardware)  # fmt: skip
        return Tried("wrong-hardware", why, image, at)
    if suits is None and judgement.verdict == "proven":
        why = f"{judgement.why}, but it is unknown whether it is for this hardware"
        return Tried("unverified", why, image, at)
    return Tried(judgement.verdict, judgement.why, image, at)


def for_other(file: str, wanted: list[str], hardware: Hardware) -> str:
    """What to say of a release that is for other hardware.

    >>> for_other("ap.img", ["AP*", "B*"], Hardware(model="SW10", revision="A1"))
    'ap.img is for AP* B*; this is SW10 A1'
    """
    model = f"{hardware.model or ''} {hardware.revision or ''}".strip()
    return f"{file} is for {' '.join(wanted)}; this is {model}"


def _candidate(attempt: Attempt, found: Tried) -> Candidate:
    return Candidate(
        place=_shown(attempt),
        origin=attempt.origin,
        result=found.result,
        why=found.why,
        at=found.at,
    )


def _stranded_note(seen: Seen, tried: list[Candidate]) -> str:
    """Why nothing starts, in one line."""
    boot = seen.member.boot
    if boot is not None and (boot.mode.saved or boot.mode.live) == "hold":
        return "boot mode hold: the loader waits for a person"
    if not tried:
        return "the boot order is empty, and there is no fallback with an image"
    return "no more candidates: the member stops in its boot loader"


def _shown(attempt: Attempt) -> str:
    entry = attempt.entry
    if attempt.place is not None:
        return entry.place if entry is not None and entry.place else str(attempt.place)
    assert entry is not None
    return entry.shown


def reads_config(judged: JudgedDevice, member: JudgedMember) -> bool | None:
    """Whether the next boot of a member reads the saved configuration; None: it is not known.

    Where the sheet does not ask, there is no such setting.
    """
    boot = member.member.boot
    ignores = boot.ignores_saved_config.effective if boot is not None else None
    if ignores is not None:
        return not ignores
    settings = {"boot.ignores_saved_config.saved", "boot.ignores_saved_config.live"}
    return None if settings & judged.judge.asks.keys() else True


def started_from(judged: JudgedDevice, place: Place) -> Started:
    """A boot from a place that a person names, with the member in front."""
    return _started(str(place.on(None)), judged.image(place), place)


def _started(shown: str, image: Image | None, at: Place | None) -> Started:
    if image is None:
        return Started(place=shown, at=at)
    judgement = image.judgement
    by = judgement.by if judgement.verdict == "proven" else None
    return Started(place=shown, version=image.version, verdict=judgement.verdict, by=by, at=at)


def _changes(judged: JudgedDevice, walks: tuple[MemberWalk, ...]) -> bool | None:
    """Whether some member starts another version than it runs, as far as is known."""
    changes = False
    for one, walk in zip(judged.members or (), walks, strict=True):
        running = version_of(judged, one)
        if walk.boots is None or walk.boots.version is None or running is None:
            return None
        changes = changes or walk.boots.version != running
    return changes if walks else None


def _members_differ(walks: tuple[MemberWalk, ...]) -> bool | None:
    versions = {walk.boots.version if walk.boots else None for walk in walks}
    return None if None in versions or not walks else len(versions) > 1

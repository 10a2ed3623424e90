"""What each file of a member is for, why it is held, and in which tier it may go.

Role: by the release that proves it, else the sheet's globs and naming, else the catalog, else the
boot settings, sets and pointers; else `unknown`.

A file is held while it is: running; what the boot walk starts on; named in the saved or live
order or the once entry; a package of a held set, or its set file; a part's pointer target;
configuration, licence or key; pinned by policy; of role unknown. A file whose use depends on a
fact that is not known is held too. Running and kept-fallback images can be unlocked by name: the
fallback where nothing else holds it, the running image also where it is what starts next and what
the order names, since it is both nearly always.

Tiers of what is not held: 1 leftovers; 2 a second copy of a file that stays; 3 an old image that
the shelf holds; 4 an old image found nowhere else; 5 the kept fallback; 6 the running image.
"""

from datetime import timedelta
from functools import cmp_to_key, lru_cache

from msgspec import Struct

from ovek.engine.verdicts import JudgedDevice, JudgedMember, find_file, find_image, fits
from ovek.model.digest import Digests
from ovek.model.naming import Naming, glob_pattern
from ovek.model.place import Place, parse_place
from ovek.model.plan import LOCKED, TIERS, Tier, Unlock
from ovek.model.policy import Policy
from ovek.model.sheet import Role
from ovek.model.snapshot import File
from ovek.model.verdict import Image
from ovek.model.version import compare
from ovek.model.walk import MemberWalk

RUNNING = "running"
STARTS_NEXT = "the next start"
KEPT_FALLBACK = "kept fallback"
WANTED = "the image that room is made for"
IN_ORDER = "named in the boot order"
POINTED = "a part is loaded from it"
PINNED = "pinned by policy"
KEPT_BY_NAME = "kept by --keep"

# What may hold the running image and still be unlocked with it.
_OF_RUNNING = frozenset({RUNNING, STARTS_NEXT, IN_ORDER})

LOG_IS_OLD = timedelta(days=30)


# The reasons that hold a file as they are shown, each with what it comes down to: a package is held
# for the reasons of its set.
Reasons = dict[str, frozenset[str]]


class Standing(Struct, frozen=True, kw_only=True, gc=False):
    """One file of a volume: its role, the reasons that hold it, and the tier if it may go."""

    place: Place
    file: File
    role: Role
    held: tuple[str, ...]
    tier: Tier | None
    why: str


def standings(
    judged: JudgedDevice,
    one: JudgedMember,
    walk: MemberWalk,
    policy: Policy,
    *,
    shelf: frozenset[str] = frozenset(),
    room_for: str | None = None,
    unlocked: frozenset[Unlock] = frozenset(),
    keep: tuple[str, ...] = (),
    replaced: frozenset[Place] = frozenset(),
    offered_only: bool = False,
) -> list[Standing]:
    """Tell role, holds and tier of every file on every volume of a member.

    `shelf` are the digests of the images that the shelf holds, proven; `room_for` is the file
    name of the image that room is made for; `keep` are globs of files that a person keeps;
    `replaced` are the files of a bank that is written anew, which nothing holds. `offered_only`
    leaves out what is held beyond unlocking.
    """
    holds = _Holds(judged, one, walk, policy, room_for, keep, replaced)
    told, naming = [], judged.judge.naming
    for volume in one.member.volumes or ():
        name, blind = volume.name, volume.case_blind
        for file in volume.files or ():
            place = Place(name, file.path)
            role = role_of(place, blind, naming, one)
            told.append((place, file, role, holds.of(place, file, role)))
    staying: dict[str, list[tuple[Place, File]]] = {}
    locked: dict[Place, tuple[Tier, str] | None] = {}
    for place, file, _, reasons in told:
        if not reasons:
            continue
        if place in holds.reasons:  # what runs or is kept is among these
            locked[place] = _locked_tier(reasons)
        may_go = locked.get(place)
        # What may go after all is no reason to let its copy go.
        if file.digests is not None and (may_go is None or LOCKED[may_go[0]] not in unlocked):
            for _, digest in file.digests:
                staying.setdefault(digest, []).append((place, file))
    found = []
    for place, file, role, reasons in told:
        tier: Tier | None
        if reasons:
            tier, why = locked.get(place) or (None, "")
            if tier is None and offered_only:
                continue
        else:
            image = one.sets.get(place) or one.images.get(place)
            tier, why = _tier(file, role, image, staying, shelf)
        held = tuple(reasons)
        found.append(Standing(place=place, file=file, role=role, held=held, tier=tier, why=why))
    return found


def role_of(place: Place, case_blind: bool, naming: Naming, one: JudgedMember) -> Role:
    """The role of one file; `case_blind` is whether its volume is."""
    image = one.images.get(place)
    if image is not None and image.judgement.verdict == "proven":
        return image.role
    named = naming.of(place.path, case_blind=case_blind)
    if named.role != "unknown":
        return named.role
    if place in one.sets:
        return "set-file"
    return image.role if image is not None else "unknown"


@lru_cache(maxsize=256)
def _one(reason: str) -> Reasons:
    """A reason by itself, which comes down to nothing but itself. Not to be changed."""
    return {reason: frozenset({reason})}


_NOTHING: Reasons = {}
_LOG = _one("a log that may still be written")


class _Holds:
    """The reasons that hold files of one member."""

    def __init__(
        self,
        judged: JudgedDevice,
        one: JudgedMember,
        walk: MemberWalk,
        policy: Policy,
        room_for: str | None,
        keep: tuple[str, ...],
        replaced: frozenset[Place],
    ) -> None:
        self.one, self.member, self.replaced = one, one.member, replaced
        self.pinned = glob_pattern(policy.pinned) if policy.pinned else None
        self.named = glob_pattern(keep) if keep else None
        self.reasons: dict[Place, Reasons] = {}
        self.logs_before = judged.device.taken_at - LOG_IS_OLD
        self.start_known = walk.outcome != "unknown" and self._order_known(judged)
        self.pointers_known = self.member.pointers is not None
        volumes = self.member.volumes or ()
        self.unlisted_sets = {volume.name for volume in volumes if volume.sets is None}
        # The reason that every file of a role shares.
        self.of_role: dict[Role, Reasons] = {
            role: _one(role) for role in ("configuration", "licence", "key")
        }
        self.of_role["unknown"] = _one("what it is for is not known")
        if not self.pointers_known:
            self.of_role["part-image"] = _one("which file its part is loaded from is not known")
        if not self.start_known:
            for role in ("system-image", "set-file"):
                self.of_role[role] = _one("what starts next is not known")
        kept = self._hold_boot(judged, walk)
        for pointer in self.member.pointers or ():
            self._hold(parse_place(pointer.place), f"{POINTED} ({pointer.part})")
        self._hold_fallback(judged, kept, policy, room_for)
        self._hold_sets()

    def of(self, place: Place, file: File, role: Role) -> Reasons:
        """Every reason that holds a file; none means that it may go. Not to be changed."""
        if place in self.replaced:
            return _NOTHING
        reasons = self.of_role.get(role, _NOTHING)
        if role == "log" and (file.modified is None or file.modified > self.logs_before):
            reasons = _LOG
        if role in ("package", "set-file") and place.volume in self.unlisted_sets:
            reasons = {**reasons, **_one("which packages belong to which set is not known")}
        elif role == "set-file" and place not in self.one.sets:
            reasons = {**reasons, **_one("its packages are not known")}
        if self.pinned is not None and self.pinned.match(place.path):
            reasons = {**reasons, **_one(PINNED)}
        if self.named is not None and self.named.match(place.path):
            reasons = {**reasons, **_one(KEPT_BY_NAME)}
        others = self.reasons.get(place)
        return reasons if others is None else {**others, **reasons}

    def _hold(self, place: Place, reason: str, basics: frozenset[str] | None = None) -> None:
        if place.member not in (None, self.member.id):
            return
        spelled, _ = find_image(place.on(None), self.member, self.one.images)
        reasons = self.reasons.setdefault(spelled, {})
        reasons.setdefault(reason, basics or frozenset({reason}))

    def _order_known(self, judged: JudgedDevice) -> bool:
        boot = self.member.boot
        if judged.judge.sheet.start.layout != "files":
            return self.member.banks is not None
        return boot is not None and not (boot.order.saved is None and boot.order.live is None)

    def _hold_boot(self, judged: JudgedDevice, walk: MemberWalk) -> set[Place]:
        """Hold what runs, what starts and what the settings name; return the first two."""
        kept = set[Place]()
        for place in self._running(judged):
            self._hold(place, RUNNING)
            kept.add(place)
        if walk.starts is not None:
            started = _local(walk.starts.place)
            if started is not None:
                for place in self._files_at(started):
                    self._hold(place, STARTS_NEXT)
                    kept.add(place)
        for place in self.one.cited:
            self._hold(place, IN_ORDER)
        for bank in self.member.banks or ():
            for text in bank.places or ():
                self._hold(parse_place(text), f"bank {bank.name} points to it")
        return kept

    def _running(self, judged: JudgedDevice) -> set[Place]:
        """The files that run, or may run where nobody knows which does."""
        running, own = judged.device.running, self.member.running_version
        if running.bank is not None and own in (None, running.version):
            return set(self._files_at(Place("bank", running.bank)))
        if running.place is not None and own in (None, running.version):
            place = parse_place(running.place)
            return set(self._files_at(place)) if place.member in (None, self.member.id) else set()
        version = own or running.version
        candidates = [*self.one.images.values(), *self.one.sets.values()]
        return {
            image.place
            for image in candidates
            if image.role in ("system-image", "set-file")
            and (version is None or image.version in (None, version))
        }

    def _files_at(self, place: Place) -> list[Place]:
        if place.is_bank:
            bank = self.member.bank(place.path)
            return [parse_place(text).on(None) for text in (bank.places or ())] if bank else []
        return [find_image(place.on(None), self.member, self.one.images)[0]]

    def _hold_fallback(
        self, judged: JudgedDevice, kept: set[Place], policy: Policy, room_for: str | None
    ) -> None:
        """Keep the newest other proven images until the policy's number is reached."""
        names = {place.name for place in kept if find_file(place, self.member) is not None}
        number = len(names | ({room_for} if room_for else set()))
        taken = {self._identity(place) for place in kept}
        scheme = judged.judge.sheet.versions.pattern
        candidates = [
            image
            for image in (*self.one.images.values(), *self.one.sets.values())
            if image.role in ("system-image", "set-file")
            and image.judgement.verdict == "proven"
            and image.place not in kept
            and not (image.role == "system-image" and image.place in self.one.sets)
            and not self._withdrawn_or_foreign(image, judged)
        ]

        def newer_first(one: Image, other: Image) -> int:
            order = 0
            if one.version is not None and other.version is not None:
                order = compare(other.version, one.version, scheme) or 0
            ours, theirs = _modified(one), _modified(other)
            return order or (theirs > ours) - (theirs < ours)

        for image in candidates:
            if self._identity(image.place) == room_for:
                self._hold(image.place, WANTED)  # it is there already: one copy of it stays
                break
        for image in sorted(candidates, key=cmp_to_key(newer_first)):
            if number >= policy.keep:
                return
            identity = self._identity(image.place)
            if identity in taken or identity == room_for:
                continue
            self._hold(image.place, KEPT_FALLBACK)
            taken.add(identity)
            number += 1

    def _identity(self, place: Place) -> str:
        """What makes two files the same image: the release that proves them, else the place."""
        image = self.one.sets.get(place) or self.one.images.get(place)
        if image is not None and image.role == "set-file":
            return str(place)
        proven = image is not None and image.judgement.verdict == "proven"
        release = image.judgement.release if image is not None and proven else None
        return release.file if release is not None else str(place)

    def _withdrawn_or_foreign(self, image: Image, judged: JudgedDevice) -> bool:
        release = image.judgement.release
        if release is None:
            return False
        return release.status == "withdrawn" or fits(release, judged.device.hardware) is False

    def _hold_sets(self) -> None:
        """Hold the packages of a held set."""
        for place, image in self.one.sets.items():
            reasons = self.reasons.get(place)
            if reasons:
                basics = frozenset[str]().union(*reasons.values())
                for package in image.parts:
                    self._hold(package, f"a package of {place} ({', '.join(reasons)})", basics)


def _locked_tier(reasons: Reasons) -> tuple[Tier, str] | None:
    """The tier of a held file that can be unlocked by name; None for all others."""
    basics = frozenset[str]().union(*reasons.values())
    if RUNNING in basics and basics <= _OF_RUNNING:
        return 6, TIERS[6]
    return (5, TIERS[5]) if basics == {KEPT_FALLBACK} else None


def _tier(
    file: File,
    role: Role,
    image: Image | None,
    staying: dict[str, list[tuple[Place, File]]],
    shelf: frozenset[str],
) -> tuple[Tier, str]:
    """The tier of a file that nothing holds, and why."""
    if role in ("crash-file", "leftover", "log"):
        return 1, f"a {role} that nothing refers to"
    judgement = image.judgement if image is not None else None
    if judgement is not None and judgement.verdict in ("altered", "cut-short"):
        return 1, f"{judgement.verdict} and nothing refers to it: {judgement.why}"
    for _, digest in file.digests or ():
        for other, stays in staying.get(digest, ()):
            if _same(file.digests, stays.digests):
                return 2, f"the same digest as {other}, which stays"
    if any(digest in shelf for _, digest in file.digests or ()):
        return 3, "an old image that the shelf holds, proven"
    return 4, "an old image; no shelf that was read holds it, so back it up first"


def _same(one: Digests | None, other: Digests | None) -> bool:
    """Whether two files have a digest in common and none that differs."""
    theirs = dict(other or ())
    common = [digest == theirs[name] for name, digest in one or () if name in theirs]
    return bool(common) and all(common)


def _local(text: str) -> Place | None:
    """The place of a started candidate; None where it is a server's."""
    try:
        return parse_place(text).on(None) if "://" not in text else None
    except ValueError:
        return None


def _modified(image: Image) -> float:
    modified = image.file.modified if image.file is not None else None
    return modified.timestamp() if modified is not None else 0.0

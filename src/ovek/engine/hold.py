"""What may never go, and why: the reasons that hold the files of a device.

A hold counts whoever's it is: what *any* member runs, starts from or names holds a file on whatever
member's volume it lies, under every spelling. A file is held while

1. it runs, or may be what runs; the next start is from it; it is named in the saved or live order
   or the once entry; a bank is made of it; a part is loaded from it, or from the folder it is in;
2. it is configuration, a licence, a key, a log that may still be written, or of a role not known;
3. it is pinned by policy or kept by a person; a kept fallback; the image that room is made for;
4. it is a package of a held set, or of a set one of whose packages is held;
5. a fact is missing that would tell: what starts next, what a boot entry means, what parts are
   loaded from, what banks and sets are made of. Where the sheet asks for that fact, any file may be
   what it would name; else only what it usually names.

Nothing cancels a hold. What is running and the kept fallback can be unlocked by name (see `tier`).
"""

from collections.abc import Iterator
from datetime import timedelta
from functools import lru_cache
from typing import Literal, NamedTuple

from msgspec import Struct

from ovek.engine.bootwalk import behind
from ovek.engine.fallback import Wanted, fallbacks
from ovek.engine.layouts import layout_of
from ovek.engine.layouts.interface import NotKnownError
from ovek.engine.layouts.writing import image_volume
from ovek.engine.roles import role_of
from ovek.engine.runs import Runs
from ovek.engine.verdicts import JudgedDevice, JudgedMember, find_file, is_empty
from ovek.model.naming import IMAGE_ROLES, glob_pattern
from ovek.model.place import Place, parse_place
from ovek.model.policy import Policy
from ovek.model.sheet import Role
from ovek.model.snapshot import BootEntry, File, Member, Volume
from ovek.model.verdict import KnownRelease
from ovek.model.walk import DeviceWalk

HoldKind = Literal[
    "running",
    "starts-next",
    "in-order",
    "bank",
    "pointed",
    "role",
    "log",
    "pinned",
    "kept-by-name",
    "kept-fallback",
    "wanted",
    "not-known",
]
LOG_IS_OLD = timedelta(days=30)
_BOOTED: frozenset[Role] = frozenset({"system-image", "set-file", "package"})


class Reason(NamedTuple):
    """One reason that holds a file: in words, and what it comes down to.

    A package is held for the reasons of its set.
    """

    text: str
    kinds: frozenset[HoldKind]


Reasons = tuple[Reason, ...]


class Wishes(Struct, frozen=True, kw_only=True):
    """What policy and a person want to stay: `keep` are globs, `release` is what room is for."""

    policy: Policy
    keep: tuple[str, ...] = ()
    release: KnownRelease | None = None


class Told(NamedTuple):
    """One file of a member: where it is (without member), its role, and what holds it."""

    place: Place
    file: File
    role: Role
    reasons: Reasons


@lru_cache(maxsize=512)
def _because(text: str, kind: HoldKind) -> Reason:
    return Reason(text, frozenset({kind}))


_LOG = (_because("a log that may still be written", "log"),)


class Holds:
    """The reasons that hold the files of one device.

    `everything` holds every file there is, `of_role` every file of a role, `of_places` the files
    that are named (member in front), `folders` all that is in a folder.
    """

    def __init__(
        self, judged: JudgedDevice, walk: DeviceWalk, runs: tuple[Runs, ...], wishes: Wishes
    ) -> None:
        self.judged, self.wishes = judged, wishes
        self.everything: Reasons = ()
        self.of_role: dict[Role, Reasons] = {
            role: (_because(role, "role"),) for role in ("configuration", "licence", "key")
        }
        self.of_role["unknown"] = (_because("what it is for is not known", "role"),)
        self.of_places: dict[Place, dict[Reason, None]] = {}
        self.folders: list[tuple[str, str, str, Reason]] = []
        self.raw: list[str] = []
        self._globs = (
            (wishes.policy.pinned, _because("pinned by policy", "pinned")),
            (wishes.keep, _because("kept by --keep", "kept-by-name")),
        )
        self._logs_before = judged.device.taken_at - LOG_IS_OLD
        used = self._hold_used(walk, runs)
        self._hold_behind(walk)
        for one in judged.members or ():
            self._hold_named(one.member)
            self._hold_unknown(one.member)
        if any(member.outcome == "unknown" for member in walk.members):
            self._missing("what starts next is not known", _BOOTED)
        for one in judged.members or ():
            self._hold_kept(one, used)
        self._hold_sets()

    def of_member(self, one: JudgedMember) -> list[Told]:
        """Every file of a member with its role and the reasons that hold it."""
        naming = self.judged.judge.naming
        told = []
        for volume in one.member.volumes or ():
            name = volume.name
            for file in volume.files or ():
                place = Place(name, file.path)
                role = role_of(place, volume, naming, one)
                told.append(Told(place, file, role, self.of(one, volume, file, role)))
        return told

    def of(self, one: JudgedMember, volume: Volume, file: File, role: Role) -> Reasons:
        """Every reason that holds a file; none means that it may go."""
        member, path = one.member.id, file.path
        reasons = self.of_role.get(role, ())
        if role == "log" and (file.modified is None or file.modified > self._logs_before):
            reasons = _LOG
        if self.everything:
            reasons += self.everything
        if volume.sets is None and role in ("package", "set-file"):
            reasons += (_because("which packages belong to which set is not known", "not-known"),)
        elif role == "set-file" and Place(volume.name, path) not in one.sets:
            reasons += (_because("its packages are not known", "not-known"),)
        for globs, reason in self._globs:
            if globs and glob_pattern(globs, volume.case_blind).match(path):
                reasons += (reason,)
        if self.folders:
            reasons += tuple(self._of_folders(member, volume, path))
        if self.raw:
            reasons += tuple(self._of_raw(path))
        named = self.of_places.get(Place(volume.name, path, member))
        return reasons if named is None else (*named, *reasons)

    def _of_folders(self, member: str, volume: Volume, path: str) -> Iterator[Reason]:
        for owner, name, folder, reason in self.folders:
            ours = (owner, name) == (member, volume.name)
            if ours and volume.folded(path).startswith(volume.folded(folder)):
                yield reason

    def _of_raw(self, path: str) -> Iterator[Reason]:
        name = path.rpartition("/")[2].casefold()
        if any(name in raw for raw in self.raw):
            yield _because("a boot entry that is not understood may mean it", "not-known")

    def _hold(self, place: Place, reason: Reason) -> None:
        """Hold what is at a place with its member in front, and all that it is made of."""
        self.of_places.setdefault(place, {})[reason] = None
        image = self.judged.image(place)
        for part in image.parts if image is not None and place.is_bank else ():
            where = part if part.member is not None else part.on(place.member)
            self.of_places.setdefault(self.judged.located(where, where.member or ""), {})[
                reason
            ] = None

    def _hold_used(self, walk: DeviceWalk, runs: tuple[Runs, ...]) -> set[Place]:
        """Hold what runs, or may, and what starts; return what surely does."""
        used = set[Place]()
        for each in runs:
            for place in each.places:
                self._hold(place, _because("running", "running"))
                if each.sure:
                    used.add(place)
        for member in walk.members:
            if member.starts is not None and member.starts.at is not None:
                self._hold(member.starts.at, _because("the next start", "starts-next"))
                if member.outcome == "ready":
                    used.add(member.starts.at)
        return used

    def _hold_behind(self, walk: DeviceWalk) -> None:
        """Hold what starts instead, where it is not sure that the next start succeeds."""
        for one, member in zip(self.judged.members or (), walk.members, strict=True):
            if member.outcome != "unproven":
                continue
            try:
                for place in behind(self.judged, one):
                    self._hold(place, _because("starts if the next start fails", "starts-next"))
            except NotKnownError:
                self._missing("what starts if the next start fails is not known", _BOOTED)

    def _hold_named(self, member: Member) -> None:
        """Hold what the settings, pointers and banks of a member name."""
        for entry in _entries(member):
            if entry.place is not None:
                place = self.judged.located(parse_place(entry.place), member.id)
                self._hold(place, _because("named in the boot order", "in-order"))
            elif entry.remote is None:
                self.raw.append((entry.raw or "").casefold())
        for bank in member.banks or ():
            reason = _because(f"bank {bank.name} points to it", "bank")
            for text in bank.places or ():
                self._hold(self.judged.located(parse_place(text), member.id), reason)
        for pointer in member.pointers or ():
            reason = _because(f"a part is loaded from it ({pointer.part})", "pointed")
            place = self.judged.located(parse_place(pointer.place), member.id)
            self._hold(place, reason)
            # A folder that is written without its slash is a folder all the same.
            folder = place.path.rstrip("/") + "/"
            self.folders.append((place.member or "", place.volume, folder, reason))

    def _hold_unknown(self, member: Member) -> None:
        """Hold what a fact may name that is missing."""
        asks, sheet = self.judged.judge.asks, self.judged.judge.sheet
        layout, boot = layout_of(sheet.start.layout), member.boot
        if boot is None or not layout.settings_known(member):
            asked = any(field in asks for field in layout.start_facts)
            self._missing("what starts next is not known", None if asked else _BOOTED)
        elif None in (boot.order.live, boot.order.saved) and "order.place" in asks:
            self._missing("half of the boot order is not known", None)
        if boot is not None:
            saved, field = boot.mode.saved is not None, "boot.mode.saved"
            if layout.holder == "banks":
                saved, field = boot.default_bank.saved is not None, "boot.default_bank.saved"
            if not saved and field in asks:
                self._missing("what starts next is known by the live settings only", _BOOTED)
        if self.raw:
            told = "a boot entry that is not understood may mean it"
            self._missing(told, frozenset({*IMAGE_ROLES, "set-file"}))
        if member.pointers is None:
            told = "which file its part is loaded from is not known"
            asked = "pointer.place" in asks
            self._missing(told, None if asked else frozenset({"part-image"}))
        unmade = any(bank.places is None and not is_empty(bank) for bank in member.banks or ())
        if unmade and ("bank.place" in asks or sheet.reading.slots):
            self._missing("which files make up its banks is not known", None)

    def _missing(self, told: str, roles: frozenset[Role] | None) -> None:
        """Hold the files of some roles, or of all, for want of a fact."""
        reason = _because(told, "not-known")
        if roles is None:
            if reason not in self.everything:
                self.everything += (reason,)
            return
        for role in roles:
            if reason not in self.of_role.get(role, ()):
                self.of_role[role] = (*self.of_role.get(role, ()), reason)

    def _hold_kept(self, one: JudgedMember, used: set[Place]) -> None:
        """Hold one copy of the image that room is made for, and the kept fallback."""
        member, release = one.member, self.wishes.release
        volume = image_volume(self.judged.judge.sheet, member)
        there = sorted(
            image.place
            for image in one.images.values()
            if release is not None
            and image.judgement.verdict == "proven"
            and image.judgement.release is release
            and volume is not None
            and image.place.volume == volume.name
        )
        for place in there[:1]:
            reason = _because("the image that room is made for", "wanted")
            self._hold(place.on(member.id), reason)
        ours = sorted(place for place in used if place.member == member.id)
        kept = [p for p in ours if p.is_bank or find_file(p.on(None), member) is not None]
        wanted = Wanted(keep=self.wishes.policy.keep, release=release)
        for place in fallbacks(self.judged, one, kept, wanted):
            self._hold(place.on(member.id), _because("kept fallback", "kept-fallback"))

    def _hold_sets(self) -> None:
        """A set is held with its packages, and they with it."""
        for one in self.judged.members or ():
            named = [(place, list(self._of_packages(one, place))) for place in sorted(one.sets)]
            for place, found in named:
                for package, reasons in found:
                    texts = ", ".join(reason.text for reason in reasons)
                    kinds = frozenset[HoldKind]().union(*(reason.kinds for reason in reasons))
                    reason = Reason(f"its package {package} is held ({texts})", kinds)
                    self.of_places.setdefault(place.on(one.member.id), {})[reason] = None
            for place in sorted(one.sets):
                self._hold_packages(one, place)

    def _of_packages(self, one: JudgedMember, place: Place) -> Iterator[tuple[Place, Reasons]]:
        """The packages of a set that something holds."""
        volume = one.member.volume(place.volume)
        for package in one.sets[place].parts:
            file = find_file(package, one.member)
            if file is not None and volume is not None:
                role = role_of(package, volume, self.judged.judge.naming, one)
                reasons = self.of(one, volume, file, role)
                if reasons:
                    yield package, reasons

    def _hold_packages(self, one: JudgedMember, place: Place) -> None:
        volume = one.member.volume(place.volume)
        file, image = find_file(place, one.member), one.sets[place]
        named = tuple(self.of_places.get(place.on(one.member.id), ()))
        reasons = named
        if file is not None and volume is not None:
            reasons = self.of(one, volume, file, "set-file")
        if reasons:
            texts = ", ".join(reason.text for reason in reasons)
            kinds = frozenset[HoldKind]().union(*(reason.kinds for reason in reasons))
            reason = Reason(f"a package of {place} ({texts})", kinds)
            for package in image.parts:
                self.of_places.setdefault(package.on(one.member.id), {})[reason] = None


def _entries(member: Member) -> Iterator[BootEntry]:
    """Every entry of a member's saved and live order, and the once entry."""
    boot = member.boot
    if boot is None:
        return
    if boot.once is not None:
        yield boot.once
    for order in (boot.order.saved, boot.order.live):
        yield from order or ()

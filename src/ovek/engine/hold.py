"""What may never go, and why: the reasons that hold the files of a device.

A hold counts whoever's it is: what *any* member runs, starts from or names holds a file on whatever
member's volume it lies, under every spelling. A file is held while

1. it runs, or may be what runs; the next start is from it; it is named in the saved or live order
   or the once entry; a bank is made of it; a component is loaded from it, or from its folder;
2. it is configuration, a licence, a key, a log that may still be written, or of a role not known;
3. it is pinned by policy or kept by a person; a kept fallback; the image that room is made for;
4. it is a package of a held set, or of a set one of whose packages is held;
5. a fact is missing that would tell: what starts next, what a boot entry means, what components are
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
from ovek.engine.fallback import WantedFallbacks, fallbacks
from ovek.engine.layouts import layout_named
from ovek.engine.layouts.interface import NotKnownError
from ovek.engine.layouts.writing import image_volume
from ovek.engine.roles import Roles
from ovek.engine.runs import Runs
from ovek.engine.verdicts import CUT, JudgedDevice, JudgedMember, find_file, is_empty
from ovek.model.naming import IMAGE_ROLES, glob_pattern
from ovek.model.place import Place
from ovek.model.plan import NEXT_BOOT, RUNNING
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


class HeldFile(NamedTuple):
    """One file of a member: where it is (without member), its role, and what holds it."""

    place: Place
    file: File
    role: Role
    reasons: Reasons


@lru_cache(maxsize=512)
def _because(text: str, kind: HoldKind) -> Reason:
    return Reason(text, frozenset({kind}))


_CUT = _because(f"{CUT}, so it is unknown which file would be deleted", "not-known")
_LOG = (_because("a log that may still be written", "log"),)


class Holds:
    """The reasons that hold the files of one device.

    `everything` holds every file there is, `of_role` every file of a role, `of_places` the files
    that are named (by member and volume, then by path), `folders` all that is in a folder.
    """

    def __init__(
        self, judged: JudgedDevice, walk: DeviceWalk, running: tuple[Runs, ...], wishes: Wishes
    ) -> None:
        self.judged, self.wishes = judged, wishes
        self.everything: Reasons = ()
        self.of_role: dict[Role, Reasons] = {
            role: (_because(role, "role"),) for role in ("configuration", "licence", "key")
        }
        self.of_role["unknown"] = (_because("its purpose is unknown", "role"),)
        self.of_places: dict[tuple[str, str], dict[str, dict[Reason, None]]] = {}
        self.folders: list[tuple[str, str, str, Reason]] = []
        self.raw: list[str] = []
        self.globs = (
            (wishes.policy.pinned, _because("pinned by policy", "pinned")),
            (wishes.keep, _because("kept by --keep", "kept-by-name")),
        )
        self.logs_before = judged.device.ago(LOG_IS_OLD)
        used = self._hold_used(walk, running)
        self._hold_behind(walk)
        for one in judged.members or ():
            self._hold_named(one.member)
            self._hold_unknown(one.member)
        if any(member.outcome == "unknown" for member in walk.members):
            self._missing("next boot unknown", _BOOTED)
        for one in judged.members or ():
            self._hold_kept(one, used)
        self._hold_sets()

    def of_member(self, member: JudgedMember) -> list[HeldFile]:
        """Every file of a member with its role and the reasons that hold it."""
        naming = self.judged.judge.naming
        parts = []
        for volume in member.member.volumes or ():
            name, roles, on = (
                volume.name,
                Roles(member, volume, naming),
                _OnVolume(self, member, volume),
            )
            for file in volume.files or ():
                place = Place(name, file.path)
                role = roles.of(place)
                parts.append(HeldFile(place, file, role, on.reasons(file, role)))
        return parts

    def of(self, member: JudgedMember, place: Place) -> Reasons:
        """Every reason that holds a file of a member; none where it is not there."""
        volume, file = member.member.volume(place.volume), find_file(place, member.member)
        if volume is None or file is None:
            return ()
        role = Roles(member, volume, self.judged.judge.naming).of(place)
        return _OnVolume(self, member, volume).reasons(file, role)

    def _hold(self, place: Place, reason: Reason) -> None:
        """Hold what is at a place with its member in front, and all that a bank is made of."""
        self._note(place, reason)
        image = self.judged.image(place) if place.is_bank else None
        for part in image.parts if image is not None else ():
            self._note(self.judged.located(part, part.member or place.member or ""), reason)

    def _note(self, place: Place, reason: Reason) -> None:
        on_volume = self.of_places.setdefault((place.member or "", place.volume), {})
        on_volume.setdefault(place.path, {})[reason] = None

    def _hold_used(self, walk: DeviceWalk, running: tuple[Runs, ...]) -> set[Place]:
        """Hold what runs, or may, and what starts; return what surely does."""
        used = set[Place]()
        for each in running:
            for place in each.places:
                self._hold(place, _because(RUNNING, "running"))
                if each.sure:
                    used.add(place)
            if each.gone is not None:
                self._hold(each.gone, _because("the running image was booted from here", "running"))
                self._hold_version(each)
        for member in walk.members:
            if member.boots is not None and member.boots.at is not None:
                self._hold(member.boots.at, _because(NEXT_BOOT, "starts-next"))
                if member.outcome == "proven":
                    used.add(member.boots.at)
        return used

    def _hold_version(self, running: Runs) -> None:
        """Hold every image and package of a version that runs and is not where it came from."""
        member = self.judged.member(running.member)
        for image in (*member.images.values(), *member.sets.values()) if member is not None else ():
            if image.version in (None, running.version):
                self._hold(image.place.on(running.member), _because(RUNNING, "running"))

    def _hold_behind(self, walk: DeviceWalk) -> None:
        """Hold what starts instead, where it is not sure that the next start succeeds."""
        for one, member in zip(self.judged.members or (), walk.members, strict=True):
            if member.outcome != "unproven":
                continue
            try:
                for place in behind(self.judged, one):
                    if member.boots is None or place != member.boots.at:
                        text = "fallback if the next boot image fails"
                        self._hold(place, _because(text, "kept-fallback"))
            except NotKnownError:
                self._missing("it is unknown what boots if the next boot image fails", _BOOTED)

    def _hold_named(self, member: Member) -> None:
        """Hold what the settings, components and banks of a member name."""
        for entry in _entries(member):
            if entry.at is not None:
                place = self.judged.located(entry.at, member.id)
                self._hold(place, _because("in the boot order", "in-order"))
            elif entry.remote is None:
                self.raw.append((entry.raw or "").casefold())
        for bank in member.banks or ():
            reason = _because(f"bank {bank.name} points to it", "bank")
            for place in bank.files:
                self._hold(self.judged.located(place, member.id), reason)
        for component in member.components or ():
            if component.place is None:
                continue
            reason = _because(f"a component loads from it ({component.component})", "pointed")
            place = self.judged.located(component.place, member.id)
            self._hold(place, reason)
            # A folder that is written without its slash is a folder all the same.
            folder = place.path.rstrip("/") + "/"
            self.folders.append((place.member or "", place.volume, folder, reason))

    def _hold_unknown(self, member: Member) -> None:
        """Hold what a fact may name that is missing."""
        asks, sheet = self.judged.judge.asks, self.judged.judge.sheet
        layout, boot = layout_named(sheet.boot.layout), member.boot
        if boot is None or not layout.settings_known(member):
            asked = any(field in asks for field in layout.start_facts)
            self._missing("next boot unknown", None if asked else _BOOTED)
        elif None in (boot.order.live, boot.order.saved) and "order.place" in asks:
            self._missing("the boot order is only partly known", None)
        if boot is not None:
            saved, field = boot.mode.saved is not None, "boot.mode.saved"
            if layout.holder == "banks":
                saved, field = boot.default_bank.saved is not None, "boot.default_bank.saved"
            if not saved and field in asks:
                self._missing("the next boot is known from the live settings only", _BOOTED)
        if self.raw:
            reason = "a boot entry that cannot be parsed may mean it"
            self._missing(reason, frozenset({*IMAGE_ROLES, "set-file"}))
        components = member.components
        if components is None or any(each.loads_from is None for each in components):
            reason = "it is unknown which file a component loads from"
            asked = "component.loads_from" in asks
            self._missing(reason, None if asked else frozenset({"component-image"}))
        unmade = any(bank.places is None and not is_empty(bank) for bank in member.banks or ())
        of_files = layout.pair or any(bank.places for bank in member.banks or ())
        if unmade and ("bank.place" in asks or sheet.reading.slots):
            self._missing("the files of its banks are unknown", None)
        elif unmade and of_files:
            roles = frozenset[Role]({*_BOOTED, *IMAGE_ROLES})
            self._missing("the files of its banks are unknown", roles)

    def _missing(self, text: str, roles: frozenset[Role] | None) -> None:
        """Hold the files of some roles, or of all, for want of a fact."""
        reason = _because(text, "not-known")
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
            and release.same_bytes(image.judgement.release)
            and volume is not None
            and image.place.volume == volume.name
        )
        for place in there[:1]:
            reason = _because("the image that the space is for", "wanted")
            self._hold(place.on(member.id), reason)
        ours = sorted(place for place in used if place.member == member.id)
        kept = [p for p in ours if p.is_bank or find_file(p.on(None), member) is not None]
        policy = self.wishes.policy
        wanted = WantedFallbacks(
            keep=policy.keep, release=release, removable=policy.boot_from_removable
        )
        for place in fallbacks(self.judged, one, kept, wanted):
            self._hold(place.on(member.id), _because("kept fallback", "kept-fallback"))

    def _hold_sets(self) -> None:
        """A set is held with its packages, and they with it."""
        for member in self.judged.members or ():
            found = [
                (place, package, reasons)
                for place in sorted(member.sets)
                for package in member.sets[place].parts
                if (reasons := self.of(member, package))
            ]
            for place, package, reasons in found:
                told = _together(f"its package {package} is protected", reasons)
                self._note(place.on(member.member.id), told)
            for place in sorted(member.sets):
                self._hold_packages(member, place)

    def _hold_packages(self, one: JudgedMember, place: Place) -> None:
        """Hold the packages of a set that is held."""
        member = one.member.id
        named = self.of_places.get((member, place.volume), {}).get(place.path, {})
        if reasons := self.of(one, place) or tuple(named):
            told = _together(f"a package of {place}", reasons)
            for package in one.sets[place].parts:
                self._note(package.on(member), told)


def _together(front: str, reasons: Reasons) -> Reason:
    """One reason that comes down to several."""
    texts = ", ".join(reason.text for reason in reasons)
    return Reason(f"{front} ({texts})", frozenset[HoldKind]().union(*(r.kinds for r in reasons)))


class _OnVolume:
    """The reasons that hold the files of one volume: asked for every file, so kept short."""

    def __init__(self, holds: Holds, one: JudgedMember, volume: Volume) -> None:
        self.holds, self.one, self.volume = holds, one, volume
        member = one.member.id
        self.named = holds.of_places.get((member, volume.name), {})
        self.folders = [
            (volume.folded(folder), reason)
            for owner, name, folder, reason in holds.folders
            if (owner, name) == (member, volume.name)
        ]
        self.globs = [
            (glob_pattern(globs, volume.case_blind).match, reason)
            for globs, reason in holds.globs
            if globs
        ]
        self.sets_known = volume.sets is not None

    def reasons(self, file: File, role: Role) -> Reasons:
        """Every reason that holds a file; none means that it may go."""
        path, holds = file.path, self.holds
        if file.path_cut:
            return (*self.named.get(path, ()), _CUT)
        if role == "log":
            recent = file.modified is None or file.modified > holds.logs_before
            reasons = _LOG if recent else holds.of_role.get(role, ())
        else:
            reasons = holds.of_role.get(role, ())
        if holds.everything:
            reasons += holds.everything
        if role in ("package", "set-file"):
            reasons += self._of_sets(path, role)
        for match, reason in self.globs:
            if match(path):
                reasons += (reason,)
        if self.folders:
            folded = self.volume.folded(path)
            reasons += tuple(why for folder, why in self.folders if folded.startswith(folder))
        if holds.raw and any(path.rpartition("/")[2].casefold() in raw for raw in holds.raw):
            reasons += (_because("a boot entry that cannot be parsed may mean it", "not-known"),)
        named = self.named.get(path)
        return reasons if named is None else (*named, *reasons)

    def _of_sets(self, path: str, role: Role) -> Reasons:
        if not self.sets_known:
            return (_because("it is unknown which packages belong to which set", "not-known"),)
        if role == "set-file" and Place(self.volume.name, path) not in self.one.sets:
            return (_because("its packages are unknown", "not-known"),)
        return ()


def _entries(member: Member) -> Iterator[BootEntry]:
    """Every entry of a member's saved and live order, and the once entry."""
    boot = member.boot
    if boot is None:
        return
    if boot.once is not None:
        yield boot.once
    for order in (boot.order.saved, boot.order.live):
        yield from order or ()

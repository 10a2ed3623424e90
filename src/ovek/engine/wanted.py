"""What policy wants of one device.

1. The narrowest want that says something counts: by device, then role, model, sheet; then what the
   policy says for all. Of two by device or two by model, an exact name comes before a glob.
2. Two equally narrow wants that say different things of one device contradict each other.
3. `recommended` is the newest recommended system image that fits the device: every member of it,
   the wanted track, and the wanted variant, else the one that runs.
4. The release of a target is the one file of that version that fits; where none does, the nearest
   one is told with what speaks against it.
"""

from collections.abc import Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cmp_to_key
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.fit import Standing, fit_all, standings
from ovek.engine.releases import ReleaseIndex
from ovek.engine.route import Needed, alike, needed, route
from ovek.engine.verdicts import JudgedDevice
from ovek.model.catalog import Track
from ovek.model.fit import REACHING, Fit, Hop, Route
from ovek.model.policy import RECOMMENDED, SELECTORS, WANTED, BankRule, Policy, Want
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare


class ContradictionError(Exception):
    """Two wants of a policy say different things of one device."""


class Wanted(Struct, frozen=True, kw_only=True, eq=False):
    """What is wanted of one device.

    `target` is a version; `release` its system image for this device, where it is exactly one;
    `recommended` is the recommended image for it. None: nothing is wanted, or it is not known.
    `unfit` is the nearest file of the target where none fits. `variant` is what policy wants.
    """

    target: str | None = None
    release: KnownRelease | None = None
    recommended: KnownRelease | None = None
    allowed: tuple[str, ...] | None = None
    bank_rule: BankRule | None = None
    track: Track | None = None
    variant: str | None = None
    unfit: Fit | None = None
    asks_recommended: bool = False

    @property
    def goal(self) -> KnownRelease | None:
        """The file to move to: of the target, else what is recommended."""
        return self.release if self.target is not None else self.recommended


class Wants:
    """What a policy wants, remembered for each kind of device. `roles` are those of the fleet.

    `remedies` are what was found to end findings of devices that are alike.
    """

    def __init__(self, policy: Policy, roles: Mapping[str, str | None] | None = None) -> None:
        self.policy, self.roles = policy, roles or {}
        self._by_device = any(want.device is not None for want in policy.want)
        self._known: dict[tuple[object, ...], Wanted] = {}
        self.remedies: dict[object, Any] = {}

    def of(self, judged: JudgedDevice) -> Wanted:
        """What is wanted of a device. Raises ContradictionError."""
        device, sheet = judged.device, judged.judge.sheet
        role = self.roles.get(device.device)
        needs = _needs(judged.judge.releases)
        stand = tuple(
            alike(replace(one, version=None, parts=None), needs) for one in standings(judged)
        )
        by_name = device.device if self._by_device else None
        key = (sheet.name, device.hardware.model, role, by_name, stand)
        wanted = self._known.get(key)
        if wanted is None:
            if len(self._known) > 10_000:
                self._known.clear()
            wanted = self._work_out(judged, role)
            if wanted.unfit is None:  # else it tells of this device's own memory and volumes
                self._known[key] = wanted
        return wanted

    def _work_out(self, judged: JudgedDevice, role: str | None) -> Wanted:
        device = judged.device
        names = {
            "device": device.device,
            "role": role,
            "model": device.hardware.model,
            "sheet": judged.judge.sheet.name,
        }
        said: dict[str, Any] = {key: self._said(key, names) for key in WANTED}
        target, track, variant = said["target"], said["track"], said["variant"]
        stand = standings(judged, variant, track)
        recommended = _recommended(judged, stand)
        asks = target == RECOMMENDED
        if asks:
            target = recommended.version if recommended is not None else None
        release, unfit = _of_version(target, judged, stand) if target is not None else (None, None)
        return Wanted(
            target=target,
            release=recommended if asks and recommended is not None else release,
            recommended=recommended,
            allowed=said["allowed"],
            bank_rule=said["bank_rule"],
            track=track,
            variant=variant,
            unfit=unfit if not asks else None,
            asks_recommended=asks,
        )

    def _said(self, key: str, names: Mapping[str, str | None]) -> Any:
        """What the narrowest want says of one thing."""
        if not self.policy.want:
            return getattr(self.policy, key)
        for selector in SELECTORS:
            name = names[selector]
            ours = [
                want
                for want in self.policy.want
                if getattr(want, key) is not None
                and (pattern := getattr(want, selector)) is not None
                and name is not None
                and fnmatchcase(name, pattern)
            ]
            ours = [want for want in ours if getattr(want, selector) == name] or ours
            for other in ours[1:]:
                if getattr(other, key) != getattr(ours[0], key):
                    raise ContradictionError(_contradiction(key, ours[0], other, names["device"]))
            if ours:
                return getattr(ours[0], key)
        return getattr(self.policy, key)


def _contradiction(key: str, one: Want, other: Want, device: str | None) -> str:
    told = " and ".join(
        f"{_shown(getattr(want, key))} (for {want.selector})" for want in (one, other)
    )
    return f"{key} of {device} is wanted to be {told}"


def _shown(value: object) -> str:
    return ", ".join(value) if isinstance(value, tuple) else str(value)


def may_be_for(found: Fit) -> bool:
    """Whether a release is for a device, as far as is known; its hardware has to be."""
    surely = all(each.holds for each in found.conditions if each.of in ("hardware", "revision"))
    return surely and found.is_for is not False


def _recommended(judged: JudgedDevice, stand: tuple[Standing, ...]) -> KnownRelease | None:
    if stand[0].hardware.model is None:
        return None
    able = [
        release
        for release in judged.judge.releases.recommended(stand[0].hardware.model)
        if may_be_for(fit_all(stand, release))
    ]
    scheme = judged.judge.sheet.versions.pattern

    def newest_first(one: KnownRelease, other: KnownRelease) -> int:
        order = compare(other.version or "", one.version or "", scheme) or 0
        return order or (-1 if one.file < other.file else 1)

    return min(able, key=cmp_to_key(newest_first), default=None)


def release_for(
    version: str, judged: JudgedDevice, wanted: Wanted
) -> tuple[KnownRelease | None, Fit | None]:
    """The system image of a version for a device, where exactly one fits; else the nearest."""
    return _of_version(version, judged, standings(judged, wanted.variant, wanted.track))


def _of_version(
    version: str, judged: JudgedDevice, stand: tuple[Standing, ...]
) -> tuple[KnownRelease | None, Fit | None]:
    held = [
        fit_all(stand, release)
        for release in judged.judge.releases.by_version.get(version, ())
        if release.kind in (None, "system-image")
    ]
    able = [found.release for found in held if may_be_for(found)]
    if able:
        return (able[0], None) if len(able) == 1 else (None, None)
    hard = [found for found in held if _is_for_hardware(found)]
    nearest = min(hard, key=lambda each: (len(each.against), each.release.file), default=None)
    return None, nearest


def _is_for_hardware(found: Fit) -> bool:
    return all(each.holds for each in found.conditions if each.of in ("hardware", "revision"))


def _needs(releases: ReleaseIndex) -> Needed:
    """What tells members apart, by all releases: members of a device may be of several models."""
    if releases.needs is None:
        releases.needs = needed(releases.releases)
    found: Needed = releases.needs
    return found


def way_to(judged: JudgedDevice, release: KnownRelease, wanted: Wanted, member: str) -> Route:
    """The way of one member to a release, by what policy wants; remembered by the catalog."""
    stand = standings(judged, wanted.variant, wanted.track)
    standing = next((one for one in stand if one.member == member), stand[0])
    releases = judged.judge.releases
    key = (standing, id(release))
    way = releases.ways.get(key)
    if way is None:
        if len(releases.ways) > 10_000:
            releases.ways.clear()
            releases.searched.clear()
        known, needs = releases.for_model(standing.hardware.model), _needs(releases)
        way = releases.ways[key] = route(standing, [release], known, releases.searched, needs)
    return way


def longest_way(judged: JudgedDevice, release: KnownRelease, wanted: Wanted) -> Route:
    """The way of the member that is farthest from a release; one that has none is."""
    members = [one.member.id for one in judged.members or ()] or [""]
    ways = [way_to(judged, release, wanted, each) for each in members]
    return max(ways, key=lambda way: (way.hops is None, way.known, len(way.hops or ())))


def told_way(way: Route, release: KnownRelease) -> str:
    """What comes between what runs and a release, in words; empty where nothing does."""
    if way.hops is None:
        known = "there is no way to" if way.known else "whether there is a way is not known to"
        return f"{known} {release.file}: {way.missing}"
    if len(way.hops) < 2:
        return ""
    first = way.hops[0].release.file
    steps = told_hops(way.hops)
    return f"{release.file} cannot be loaded over {way.start} directly: {steps}; first {first}"


def told_hops(hops: Sequence[Hop]) -> str:
    """Hops in words, each with its file; of a long way the first ones and the last."""
    if len(hops) > 6:
        shown = [*map(_told_hop, hops[:4]), f"{len(hops) - 5} more", _told_hop(hops[-1])]
    else:
        shown = list(map(_told_hop, hops))
    return " → ".join(shown)


def _told_hop(hop: Hop) -> str:
    brings = ", ".join(f"{part} {version}" for part, version in hop.release.carries.items())
    what = brings if hop.loads == "part" else hop.release.version
    return f"{what} ({hop.release.file})"


def against_it(judged: JudgedDevice, release: KnownRelease, wanted: Wanted) -> str:
    """What surely speaks against a release as one for a device; empty where nothing does."""
    found = fit_all(standings(judged, wanted.variant, wanted.track), release)
    ours = [each for each in found.conditions if each.of not in REACHING and each.holds is False]
    return "; ".join(each.saw for each in ours)

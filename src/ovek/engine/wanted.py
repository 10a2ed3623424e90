"""What policy wants of one device.

1. The narrowest want that says something counts: by device, then role, model, sheet; then what the
   policy says for all. Of two by device or two by model, an exact name comes before a glob.
2. Two equally narrow wants that say different things of one device contradict each other.
3. A target is a version, the name of a file, or `recommended`: the newest version of which every
   member has a recommended system image for it. Where policy prefers what is not affected, versions
   that no advisory affects come first.
4. Which file of a version is meant is chosen for each member, by its own hardware, revision and
   variant: one that surely fits before one that may, then by status, then by name. One file for all
   members comes before several. Where only the variant that runs could tell, none is chosen.
5. Where no file of a version fits, the nearest one is told with what speaks against it.
"""

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from functools import cmp_to_key
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from ovek.engine.fit import Standing, fit_all, standings
from ovek.engine.releases import ReleaseIndex
from ovek.engine.route import RouteMemo, alike, route
from ovek.engine.runs import Runs
from ovek.engine.verdicts import JudgedDevice
from ovek.model.catalog import Track
from ovek.model.fit import REACHING, Fit, Install, Route
from ovek.model.pattern import Pattern
from ovek.model.policy import RECOMMENDED, SELECTORS, WANTED, BankRule, Policy, Want
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare

STATUSES: tuple[str | None, ...] = ("recommended", "current", None, "old", "withdrawn")


class ContradictionError(Exception):
    """Two wants of a policy say different things of one device."""


class Wanted(Struct, frozen=True, kw_only=True, eq=False):
    """What is wanted of one device.

    `target` is a version; `releases` are its system images by member (None: the only one), and
    `best` those that are recommended. None: nothing is wanted, or it is not known. `unlisted` is a
    target that no source knows, `namesake` a listed file that has its version in its name alone.
    `unfit` is the nearest file of the target where none fits.
    `variant` is what policy wants. `routes` remembers the ways there for devices that are alike.
    """

    target: str | None = None
    releases: Mapping[str | None, KnownRelease] = {}
    best: Mapping[str | None, KnownRelease] = {}
    members: int = 1
    unlisted: str | None = None
    namesake: KnownRelease | None = None
    allowed: tuple[str, ...] | None = None
    bank_rule: BankRule | None = None
    track: Track | None = None
    variant: str | None = None
    unfit: Fit | None = None
    asks_recommended: bool = False
    routes: RouteMemo = field(default_factory=RouteMemo)

    @property
    def release(self) -> KnownRelease | None:
        """The file of the target, where it is one for all members."""
        return _one_of(self.releases, self.members)

    @property
    def recommended(self) -> KnownRelease | None:
        """The recommended file, where it is one for all members."""
        return _one_of(self.best, self.members)

    @property
    def goal(self) -> KnownRelease | None:
        """The file to move to, where it is one: of the target, else what is recommended."""
        return self.release if self.target is not None else self.recommended

    @property
    def goal_version(self) -> str | None:
        """The version to move to: the target, else what is recommended."""
        if self.target is not None:
            return self.target
        return next((each.version for each in self.best.values()), None)

    def release_of(self, member: str) -> KnownRelease | None:
        """The file of the target for a member."""
        return self.releases.get(member, self.releases.get(None))

    def goal_of(self, member: str) -> KnownRelease | None:
        """The file that a member is to move to: of the target, else what is recommended."""
        if self.target is not None:
            return self.release_of(member)
        return self.best.get(member, self.best.get(None))


class Wants:
    """What a policy wants of the devices of one catalog, remembered for each kind of them.

    `roles` are those of the fleet.
    """

    def __init__(self, policy: Policy, roles: Mapping[str, str | None] | None = None) -> None:
        self.policy, self.roles = policy, roles or {}
        self._by_device = any(want.device is not None for want in policy.want)
        self._known: dict[tuple[object, ...], Wanted] = {}
        self._routes = RouteMemo()

    def of(self, judged: JudgedDevice, running: tuple[Runs, ...] | None = None) -> Wanted:
        """What is wanted of a device; `running` is what each member runs, where that is known.

        Raises ContradictionError.
        """
        return self.with_key(judged, running)[0]

    def with_key(
        self, judged: JudgedDevice, running: tuple[Runs, ...] | None = None
    ) -> tuple[Wanted, Hashable]:
        """The same, and what tells it from what is wanted of others. Raises ContradictionError."""
        device, sheet = judged.device, judged.judge.sheet
        role = self.roles.get(device.device)
        needs = self._routes.needs_of(judged.judge.releases.releases)
        stand = tuple(
            alike(replace(one, version=None, components=None), needs)
            for one in standings(judged, running=running)
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
        return wanted, key

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
        stand, releases = standings(judged, variant, track), judged.judge.releases
        best = _recommended(judged, stand, unaffected=self.policy.prefer_unaffected)
        asks, unlisted = target == RECOMMENDED, None
        chosen, unfit = best, None
        if asks:
            target = next((each.version for each in best.values()), None)
        elif target is not None and (named := releases.named(target, case_blind=False)):
            chosen, unfit = _of_files(named, judged, stand)
            target = named[0].version
        elif target is not None:
            unlisted = None if target in releases.by_version else target
            chosen, unfit = of_version(target, judged, stand)
        return Wanted(
            target=target,
            releases=chosen if target is not None else {},
            best=best,
            members=len(stand),
            unlisted=unlisted if releases.releases else None,
            namesake=_namesake(unlisted, judged) if unlisted is not None else None,
            allowed=said["allowed"],
            bank_rule=said["bank_rule"],
            track=track,
            variant=variant,
            unfit=unfit,
            asks_recommended=asks,
            routes=self._routes,
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
    text = " and ".join(
        f"{_shown(getattr(want, key))} (for {want.selector})" for want in (one, other)
    )
    return f"{key} of {device} is wanted as {text}"


def _shown(value: object) -> str:
    return ", ".join(value) if isinstance(value, tuple) else str(value)


def wanting(policy: Policy, target: str) -> Policy:
    """The policy with this version or file as the target of every device."""
    wants = tuple(
        replace(want, target=None)
        for want in policy.want
        if any(getattr(want, key) is not None for key in WANTED if key != "target")
    )
    return replace(policy, target=target, want=wants)


def may_be_for(fit: Fit) -> bool:
    """Whether a release is for a device, as far as is known; its hardware has to be."""
    surely = all(each.holds for each in fit.conditions if each.of in ("hardware", "revision"))
    return surely and fit.is_for is not False


def _one_of(by_member: Mapping[str | None, KnownRelease], members: int) -> KnownRelease | None:
    """The one release of all members; None where some has none, or another."""
    several = list(by_member.values())
    if len(several) < members:
        return None
    return several[0] if all(several[0].same_bytes(each) for each in several) else None


def _namesake(version: str, judged: JudgedDevice) -> KnownRelease | None:
    """The first file of a version by its name, as the sheet reads it, that no source gives one."""
    named = (
        one
        for one in judged.judge.releases.releases
        if one.version is None
        and version in one.file
        and judged.judge.naming.of(one.file, case_blind=False).version == version
    )
    return next(named, None)


def best_first(releases: ReleaseIndex, scheme: Pattern | None) -> Callable[[KnownRelease], Any]:
    """A key that orders releases for one device: by status, then the newest, then by name."""

    def order(release: KnownRelease, other: KnownRelease) -> int:
        rank = STATUSES.index(release.status) - STATUSES.index(other.status)
        newer = rank or (compare(other.version or "", release.version or "", scheme) or 0)
        return newer or (release.file > other.file) - (release.file < other.file)

    return cmp_to_key(order)


def _recommended(
    judged: JudgedDevice, stand: tuple[Standing, ...], *, unaffected: bool = False
) -> Mapping[str | None, KnownRelease]:
    """The recommended images of the newest version that has one for every member.

    With `unaffected` images that no advisory affects come first; where there are none, all count.
    """
    if any(each.hardware.model is None for each in stand):
        return {}
    releases = judged.judge.releases
    of_member = [releases.recommended(each.hardware.model) for each in stand]
    if unaffected and releases.advisories:
        safe = [[one for one in known if not is_affected(one, releases)] for known in of_member]
        if best := _newest(safe, judged, stand):
            return best
    return _newest(of_member, judged, stand)


def is_affected(release: KnownRelease, releases: ReleaseIndex) -> bool:
    """Whether an advisory says that a release is affected."""
    concerns = releases.advisories.of_release(release, releases.releases)
    return any(concern.standing == "affected" for concern in concerns)


def _newest(
    of_member: Sequence[Sequence[KnownRelease]], judged: JudgedDevice, stand: tuple[Standing, ...]
) -> Mapping[str | None, KnownRelease]:
    """The images of the newest version that has one for every member."""
    scheme = judged.judge.sheet.versions.pattern
    versions = {one.version for one in of_member[0]}
    for known in of_member[1:]:
        versions &= {one.version for one in known}

    def newest_first(one: str, other: str) -> int:
        return compare(other, one, scheme) or 0

    for version in sorted((v for v in versions if v), key=cmp_to_key(newest_first)):
        able = list(dict.fromkeys(r for known in of_member for r in known if r.version == version))
        chosen, _ = _of_files(able, judged, stand)
        if len(chosen) == len(stand):
            return chosen
    return {}


def release_for(
    version: str, judged: JudgedDevice, wanted: Wanted, member: str | None = None
) -> tuple[KnownRelease | None, Fit | None]:
    """The system image of a version for a device or one member of it; else the nearest."""
    stand = standings(judged, wanted.variant, wanted.track)
    chosen, unfit = of_version(version, judged, stand)
    if member is not None:
        return chosen.get(member, chosen.get(None)), unfit
    return _one_of(chosen, len(stand)), unfit


def of_version(
    version: str, judged: JudgedDevice, stand: tuple[Standing, ...]
) -> tuple[Mapping[str | None, KnownRelease], Fit | None]:
    """The system image of a version for each member that stands somewhere; else the nearest.

    Without a member (None) where a device has but one, or is looked at as a whole.
    """
    known = judged.judge.releases.by_version.get(version, ())
    return _of_files(known, judged, stand)


def _of_files(
    known: Iterable[KnownRelease], judged: JudgedDevice, stand: tuple[Standing, ...]
) -> tuple[Mapping[str | None, KnownRelease], Fit | None]:
    """The file that is meant for each member, of several; the nearest where none fits some."""
    releases, scheme = judged.judge.releases, judged.judge.sheet.versions.pattern
    images = [one for one in known if one.kind in (None, "system-image")]
    images.sort(key=best_first(releases, scheme))
    images = releases.once_each(images) if len(images) > 1 else images
    for all_ in (stand,) if len(stand) > 1 else ():
        one, _ = _chosen([fit_all(all_, each) for each in images])
        if one is not None:
            return {each.member: one for each in stand}, None
    found, unfit = dict[str | None, KnownRelease](), None
    for standing in stand:
        held = [fit_all((standing,), each) for each in images]
        one, sure = _chosen(held)
        if one is not None:
            found[standing.member] = one
        elif not sure:
            hard = [each for each in held if _is_for_hardware(each)]
            near = min(hard, key=lambda each: (len(each.against), each.release.file), default=None)
            unfit = unfit or near
    return found, unfit


def _chosen(held: list[Fit]) -> tuple[KnownRelease | None, bool]:
    """The first that fits surely, else the only one that may; and whether any may.

    A release that tells its hardware comes before one that does not.
    """
    able = [found for found in held if may_be_for(found)]
    sure = [found.release for found in able if found.is_for]
    if sure:
        return next((each for each in sure if each.hardware is not None), sure[0]), True
    if len({found.release.variant for found in able}) > 1:
        return None, True
    return (able[0].release if able else None), bool(able)


def _is_for_hardware(fit: Fit) -> bool:
    return all(each.holds for each in fit.conditions if each.of in ("hardware", "revision"))


def way_to(
    judged: JudgedDevice,
    release: KnownRelease,
    wanted: Wanted,
    member: str,
    stand: tuple[Standing, ...] | None = None,
) -> Route:
    """The way of one member to a release, by what policy wants; remembered with that.

    `stand` is where the members stand, where that was worked out before.
    """
    stand = stand or standings(judged, wanted.variant, wanted.track)
    standing = next((one for one in stand if one.member == member), stand[0])
    releases, memo = judged.judge.releases, wanted.routes
    known = memo.routes.get((standing, release))
    if known is not None:
        return known
    needs = memo.needs_of(releases.releases)
    found = route(standing, [release], releases.for_model(standing.hardware.model), memo, needs)
    return memo.keep(standing, release, found)


def longest_way(judged: JudgedDevice, release: KnownRelease, wanted: Wanted) -> Route:
    """The way of the member that is farthest from a release; one that has none is."""
    members = [one.member.id for one in judged.members or ()] or [""]
    ways = [way_to(judged, release, wanted, each) for each in members]
    return max(ways, key=lambda way: (way.hops is None, way.known, len(way.hops or ())))


def told_way(way: Route, release: KnownRelease) -> str:
    """What comes between what runs and a release, in words; empty where nothing does."""
    if way.hops is None:
        known = (
            "there is no upgrade path to"
            if way.known
            else "it is unknown whether there is an upgrade path to"
        )
        return f"{known} {release.file}: {way.missing}"
    if len(way.hops) < 2:
        return ""
    first = way.hops[0].release.file
    steps = told_hops(way.hops)
    return f"{release.file} cannot be installed over {way.start} directly: {steps}; first {first}"


def told_hops(hops: Sequence[Install]) -> str:
    """Hops in words, each with its file; of a long way the first ones and the last."""
    if len(hops) > 6:
        shown = [*map(_told_hop, hops[:4]), f"{len(hops) - 5} more", _told_hop(hops[-1])]
    else:
        shown = list(map(_told_hop, hops))
    return " → ".join(shown)


def _told_hop(hop: Install) -> str:
    brings = ", ".join(f"{part} {version}" for part, version in hop.release.carries.items())
    what = brings if hop.loads == "component" else hop.release.version
    return f"{what} ({hop.release.file})"


def against_it(judged: JudgedDevice, release: KnownRelease, wanted: Wanted) -> str:
    """What surely speaks against a release as one for a device; empty where nothing does."""
    found = fit_all(standings(judged, wanted.variant, wanted.track), release)
    ours = [each for each in found.conditions if each.of not in REACHING and each.holds is False]
    return "; ".join(each.seen for each in ours)

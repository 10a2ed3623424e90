"""The chain of installs from what a member runs to what is wanted, by file.

1. Every hop fits the member as the hops before leave it: what runs then, and its components.
2. A hop goes to a later version, and not beyond the target. Withdrawn releases, other variants and
   what is for other hardware are no hops.
3. Where a hop needs newer firmware of a component than runs and does not bring it, the component
   images that bring it go before.
4. The shortest chain counts; of equal ones that with the newest releases on the way, then by name.
5. Where no chain is sure and one might be, were a fact known, the way is not known; else there is
   none. What stands in the way is told: of the target, as the member stands now.
"""

from bisect import bisect_right
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from functools import cmp_to_key

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.fit import Standing, fit
from ovek.model.fit import Fit, Install, Route
from ovek.model.snapshot import Component
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare, running

_MOST = 20_000  # states that are looked at


class Needed(Struct, frozen=True):
    """The amounts that some release needs, in order: bytes of memory, and of a volume."""

    memory: tuple[int, ...] = ()
    volume: tuple[int, ...] = ()


# What a search found: the chain, whether it is sure, and the versions that were reached.
_Found = tuple[tuple[Install, ...] | None, bool, list[str]]
_MANY = 10_000  # routes that are remembered


class RouteMemo:
    """The routes that were found, for whoever asks for many: of one catalog, made by its holder.

    `searches` are by what tells members apart and the targets, `routes` by member and target.
    """

    def __init__(self) -> None:
        self.searches: dict[tuple[Standing, tuple[KnownRelease, ...]], _Found] = {}
        self.routes: dict[tuple[Standing, KnownRelease], Route] = {}
        self._needs: Needed | None = None

    def needs_of(self, known: Iterable[KnownRelease]) -> Needed:
        """What tells members apart by all releases of the catalog."""
        if self._needs is None:
            self._needs = needed(known)
        return self._needs

    def keep(self, standing: Standing, release: KnownRelease, found: Route) -> Route:
        """Remember a route; where there are too many, only this one."""
        if len(self.routes) > _MANY:
            self.routes.clear()
            self.searches.clear()
        self.routes[standing, release] = found
        return found


def route(
    standing: Standing,
    targets: Sequence[KnownRelease],
    known: Iterable[KnownRelease],
    memo: RouteMemo | None = None,
    needs: Needed | None = None,
) -> Route:
    """The way to one of the targets, which are files of one version, through known releases.

    `memo` remembers what was found for members that the `needs` of all releases do not tell apart:
    the same `known` has to go with it.
    """
    target = targets[0].version or targets[0].file
    scheme = standing.scheme
    if standing.version is None:
        text = "the running version is unknown"
        return Route(start=None, target=target, hops=None, known=False, missing=text)
    if compare(standing.version, target, scheme) == 0:
        return Route(start=standing.version, target=target, hops=())
    if compare(standing.version, target, scheme) == 1:
        direct = [one for one in targets if _steps_to(fit(standing, one), sure=True)]
        if direct:
            back = Install(release=direct[0], loads="image")
            return Route(start=standing.version, target=target, hops=(back,))
        missing = f"{target} is older than {standing.version}: {_obstacle(standing, targets)}"
        return Route(start=standing.version, target=target, hops=None, missing=missing)
    key = None if needs is None else (alike(standing, needs), tuple(targets))
    found = memo.searches.get(key) if memo is not None and key is not None else None
    if found is None:
        found = _search(standing, targets, known)
        if memo is not None and key is not None:
            memo.searches[key] = found
    hops, sure, reached = found
    if hops is not None and sure:
        return Route(start=standing.version, target=target, hops=hops)
    if hops is not None:
        missing = _unknown(standing, hops)
        return Route(start=standing.version, target=target, hops=None, known=False, missing=missing)
    missing = _obstacle(standing, targets)
    if len(reached) > 1:
        missing += f"; from {standing.version} there are paths to: {', '.join(reached)}"
    return Route(start=standing.version, target=target, hops=None, missing=missing)


def needed(known: Iterable[KnownRelease]) -> Needed:
    """The amounts by which members are told apart."""
    parts = [each for one in known for each in (one.needs, *(more for _, more in one.by_hardware))]
    return Needed(
        memory=tuple(sorted({each.memory for each in parts if each.memory})),
        volume=tuple(sorted({each.volume for each in parts if each.volume})),
    )


def alike(standing: Standing, needs: Needed) -> Standing:
    """What is the same for all members of which each release asks the same."""

    def rank(amount: int | None, amounts: tuple[int, ...]) -> int | None:
        return None if amount is None else bisect_right(amounts, amount)

    hardware = standing.hardware
    return replace(
        standing,
        member=None,
        hardware=replace(hardware, serial=None, memory=rank(hardware.memory, needs.memory)),
        capacity=rank(standing.capacity, needs.volume),
    )


def _search(
    standing: Standing, targets: Sequence[KnownRelease], known: Iterable[KnownRelease]
) -> _Found:
    images, components = _able(standing, targets, known)
    leads, reached = _Leads(images), list[str]()
    for sure in (True, False):
        hops, reached = _shortest(standing, targets, leads, components, sure=sure)
        if hops is not None:
            return hops, sure, reached
    return None, True, reached


class _Leads:
    """The images that may be hops, by the versions that they can be loaded over."""

    def __init__(self, images: Sequence[KnownRelease]) -> None:
        self.images = images
        self._anywhere: list[int] = []
        self._from: dict[tuple[object, ...], list[int]] = {}
        for rank, image in enumerate(images):
            if image.reached_from is None:
                self._anywhere.append(rank)
            for front in image.reached_from or ():
                self._from.setdefault(running(front) or (), []).append(rank)

    def over(self, version: str | None) -> list[KnownRelease]:
        """Those that can be loaded over a version, the newest first."""
        whole, found = running(version or "") or (), set(self._anywhere)
        for size in range(1, len(whole) + 1):
            found.update(self._from.get(whole[:size], ()))
        return [self.images[rank] for rank in sorted(found)]


def _able(
    standing: Standing, targets: Sequence[KnownRelease], known: Iterable[KnownRelease]
) -> tuple[list[KnownRelease], list[KnownRelease]]:
    """The images that may be hops, the newest first, and the component images."""
    scheme, end = standing.scheme, targets[0].version or ""
    images, components = list(targets), []
    for one in known:
        if one in targets or one.version is None or fit(standing, one).is_for is False:
            continue
        if one.kind == "component-image" and one.carries:
            components.append(one)
        elif one.kind in (None, "system-image") and compare(one.version or "", end, scheme) == -1:
            images.append(one)
    images = [one for one in images if fit(standing, one).is_for is not False]

    def newer_first(one: KnownRelease, other: KnownRelease) -> int:
        order = compare(other.version or "", one.version or "", scheme) or 0
        return order or (-1 if one.file < other.file else 1)

    images.sort(key=cmp_to_key(newer_first))
    components.sort(key=lambda one: one.file)
    return images, components


def _shortest(
    standing: Standing,
    targets: Sequence[KnownRelease],
    leads: _Leads,
    components: Sequence[KnownRelease],
    *,
    sure: bool,
) -> tuple[tuple[Install, ...] | None, list[str]]:
    """The shortest chain, and the versions that were reached by then.

    Where not `sure`, what is not known is taken to hold.
    """
    reached = [standing.version or ""]
    waiting: deque[tuple[Standing, tuple[Install, ...]]] = deque([(standing, ())])
    seen = {_state(standing)}
    while waiting and len(seen) < _MOST:
        now, hops = waiting.popleft()
        fresh = _fresh(now, leads.over(now.version), seen)
        for hop in _next(now, fresh, components, sure=sure):
            if hop.release in targets:
                return (*hops, hop), reached
            then = after(now, hop)
            if (state := _state(then)) not in seen:
                seen.add(state)
                reached += [then.version or ""] if hop.loads == "image" else []
                waiting.append((then, (*hops, hop)))
    return None, sorted(set(reached))


def _fresh(
    now: Standing, images: Iterable[KnownRelease], seen: set[tuple[object, ...]]
) -> Iterator[KnownRelease]:
    """Those that may lead to where nobody was yet."""
    _, components = _state(now)
    return (one for one in images if one.carries or (one.version, components) not in seen)


def _state(standing: Standing) -> tuple[object, ...]:
    components = tuple(
        (component.component, component.slot, component.version)
        for component in standing.components or ()
    )
    return standing.version, components


def _next(
    now: Standing, images: Iterable[KnownRelease], components: Iterable[KnownRelease], *, sure: bool
) -> Iterator[Install]:
    """What may be installed as a member stands, images before components."""
    scheme = now.scheme
    for one in images:
        later = compare(one.version or "", now.version or "", scheme) == 1
        if later and _steps_to(fit(now, one), sure=sure):
            yield Install(release=one, loads="image")
    for one in components:
        if _steps_to(fit(now, one), sure=sure) and _raises(now, one):
            yield Install(release=one, loads="component")


def _steps_to(found: Fit, *, sure: bool) -> bool:
    return found.holds is True or (not sure and found.holds is None)


def _raises(now: Standing, release: KnownRelease) -> bool:
    """Whether a component image brings a component that there is to a later version."""
    scheme = now.component_scheme
    return any(
        component.version is not None
        and compare(release.carries[component.component], component.version, scheme) == 1
        for component in now.components or ()
        if component.component in release.carries
    )


def after(now: Standing, hop: Install) -> Standing:
    """Where a member stands once a hop is done."""
    carries, scheme = hop.release.carries, now.component_scheme

    def raised(component: Component) -> Component:
        brings = carries.get(component.component)
        if brings is None or component.version is None:
            return component
        return (
            replace(component, version=brings)
            if compare(brings, component.version, scheme) == 1
            else component
        )

    components = None if now.components is None else tuple(map(raised, now.components))
    version = hop.release.version if hop.loads == "image" else now.version
    return replace(now, version=version, components=components)


def _unknown(standing: Standing, hops: Iterable[Install]) -> str:
    """The first condition on a chain that is not known."""
    now = standing
    for hop in hops:
        for condition in fit(now, hop.release).conditions:
            if condition.holds is None:
                return f"{hop.release.file}: {condition.seen}"
        now = after(now, hop)
    return "a fact that the path depends on is unknown"


def _obstacle(standing: Standing, targets: Iterable[KnownRelease]) -> str:
    """What stands in the way of the target that is nearest."""
    held = [fit(standing, one) for one in targets]
    nearest = min(held, key=lambda each: (len(each.against), each.release.file))
    return f"{nearest.release.file}: {'; '.join(nearest.against) or 'no release leads there'}"

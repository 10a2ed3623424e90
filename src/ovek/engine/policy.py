"""What is wrong with a policy and its waivers: names that nobody knows, wants that contradict.

- a rule that does not exist: in a severity or a waiver
- devices, roles or sheets that the fleet does not have
- a target that no release has, that `allowed` leaves out, that is withdrawn, or of another track
- a publisher whose signatures are required, of whom no list is
- two wants for the same devices that say different things
- `previous` in the other bank where one image is to be kept
"""

from collections.abc import Iterable, Iterator
from difflib import get_close_matches
from fnmatch import fnmatchcase
from typing import Protocol

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.releases import ReleaseIndex
from ovek.model.policy import DAYS, RECOMMENDED, SELECTORS, WANTED, Policy, Want, Window
from ovek.model.renamed import new_name
from ovek.model.waiver import Waiver


class Listed(Protocol):
    """Which devices a fleet has, where they stand, and what they do there, each in order."""

    @property
    def names(self) -> list[str]:
        """The devices."""

    @property
    def sites(self) -> list[str]:
        """Where devices stand."""

    @property
    def roles(self) -> list[str]:
        """What devices do there."""


class PolicyMistake(Struct, frozen=True, kw_only=True):
    """One mistake: the key, what was met, and what to do.

    `unlisted` is a target that no source lists: wrong, but no reason not to go on.
    """

    key: str
    met: str
    do: str
    unlisted: bool = False


def policy_mistakes(
    policy: Policy,
    fleet: Listed,
    sheets: Iterable[str],
    releases: ReleaseIndex,
    rules: Iterable[str],
) -> Iterator[PolicyMistake]:
    """Go through all that is wrong with a policy."""
    rules, sheets = list(rules), list(sheets)
    for slug in policy.severity:
        if slug not in rules:
            yield _unknown(f"severity.{slug}", "rule", slug, rules)
    if policy.bank_rule == "previous" and policy.keep < 2:
        yield PolicyMistake(
            key="keep",
            met="keep is 1, but bank_rule wants the previous release in the other bank",
            do="Keep 2 or more, or leave bank_rule out",
        )
    yield from _windows(policy, fleet)
    yield from _publishers(policy, releases)
    versions = [one.version for one in releases.releases if one.version is not None]
    yield from _target("", policy, policy.allowed, policy.track, versions, releases)
    for number, want in enumerate(policy.want):
        yield from _names(f"want[{number}]", want, fleet, sheets)
        allowed = want.allowed if want.allowed is not None else policy.allowed
        track = want.track or policy.track
        yield from _target(f"want[{number}].", want, allowed, track, versions, releases)
        for before, other in enumerate(policy.want[:number]):
            yield from _against(before, other, number, want)


def _publishers(policy: Policy, releases: ReleaseIndex) -> Iterator[PolicyMistake]:
    """Publishers whose signatures are required, and of whom no list in the catalog is.

    A name that is mistyped would ask nothing of anybody.
    """
    if isinstance(policy.require_signature, bool):
        return
    known = sorted({one.publisher for one in releases.releases if one.publisher is not None})
    for glob in policy.require_signature:
        if known and not any(fnmatchcase(name, glob) for name in known):
            yield _unknown("require_signature", "publisher", glob, known)


def _windows(policy: Policy, fleet: Listed) -> Iterator[PolicyMistake]:
    """Windows for nobody, or that overlap themselves; names that keep apart what is not there."""
    if not (policy.reload_in or policy.apart or policy.canaries):
        return
    names, sites = fleet.names, fleet.sites
    for number, window in enumerate(policy.reload_in):
        key = f"reload_in[{number}]"
        for kind, pattern, known in (
            ("site", window.site, sites),
            ("device", window.device, names),
        ):
            if pattern is not None and names and not any(fnmatchcase(n, pattern) for n in known):
                yield _unknown(f"{key}.{kind}", kind, pattern, known)
        for before, other in enumerate(policy.reload_in[:number]):
            if window.selector == other.selector and _overlap(window, other):
                yield PolicyMistake(
                    key=key,
                    met=f"{window.shown} overlaps reload_in[{before}], {other.shown}, for "
                    f"{window.selector}",
                    do="Merge the two windows",
                )
    groups = [(f"apart[{number}]", globs) for number, globs in enumerate(policy.apart)]
    for key, globs in [*groups, ("canaries", policy.canaries)]:
        for glob in globs:
            if names and not any(fnmatchcase(name, glob) for name in names):
                yield _unknown(key, "device", glob, names)


def _overlap(one: Window, other: Window) -> bool:
    """Whether two windows have a minute of the week in common."""
    weeks = [set[int](), set[int]()]
    for minutes, window in zip(weeks, (one, other), strict=True):
        for day in window.weekdays if window.length is not None else ():
            begins = DAYS.index(day) * 1440 + window.start
            minutes.update(each % 10080 for each in range(begins, begins + (window.length or 0)))
    return bool(weeks[0] & weeks[1])


def waiver_mistakes(
    waivers: Iterable[Waiver], fleet: Listed, rules: Iterable[str]
) -> Iterator[PolicyMistake]:
    """Go through all that is wrong with waivers."""
    waivers, rules = list(waivers), list(rules)
    names = fleet.names if waivers else []
    for number, waiver in enumerate(waivers):
        if waiver.rule not in rules:
            yield _unknown(f"waiver[{number}].rule", "rule", waiver.rule, rules)
        if names and not any(fnmatchcase(name, waiver.device) for name in names):
            yield _unknown(f"waiver[{number}].device", "device", waiver.device, names)
        for key in ("by", "why"):
            if not getattr(waiver, key).strip():
                text = f"{key} is empty"
                do = "Say who accepted it, and why"
                yield PolicyMistake(key=f"waiver[{number}].{key}", met=text, do=do)


def _unknown(key: str, kind: str, name: str, known: list[str]) -> PolicyMistake:
    near = get_close_matches(name, known, n=1, cutoff=0.4)
    do = f"Did you mean {near[0]!r}?" if near else f"Name an existing {kind}, or remove the line"
    if (new := new_name(name, known)) is not None:
        do = f"It is called {new!r} now"
    return PolicyMistake(key=key, met=f"{kind} {name!r} does not exist", do=do)


def _names(key: str, want: Want, fleet: Listed, sheets: list[str]) -> Iterator[PolicyMistake]:
    """The devices that a want names and nobody knows. Which models there are, no file tells."""
    names, roles = fleet.names, fleet.roles
    for selector, known in (("device", names), ("role", roles), ("sheet", sheets)):
        pattern = getattr(want, selector)
        if pattern is not None and names and not any(fnmatchcase(one, pattern) for one in known):
            yield _unknown(f"{key}.{selector}", selector, pattern, known)


def _target(
    key: str,
    wanted: Policy | Want,
    allowed: tuple[str, ...] | None,
    track: str | None,
    versions: list[str],
    releases: ReleaseIndex,
) -> Iterator[PolicyMistake]:
    target = wanted.target
    if target is None or target == RECOMMENDED:
        return
    key += "target"
    if target not in versions:
        if not versions:  # nobody knows any release: nothing to hold it against
            return
        if target in releases.by_name:
            return
        mistake = _unknown(key, "release of version", target, versions)
        yield replace(mistake, unlisted=True)
        return
    if allowed is not None and not any(fnmatchcase(target, glob) for glob in allowed):
        text = f"the target {target} is not one of the allowed versions: {', '.join(allowed)}"
        yield PolicyMistake(key=key, met=text, do="Add it to `allowed`, or choose another target")
    ours = releases.by_version[target]
    if all(one.status == "withdrawn" for one in ours):
        text = f"the target {target} is withdrawn by its publisher"
        yield PolicyMistake(key=key, met=text, do="Choose another target")
    if track is not None and all(one.track not in (None, track) for one in ours):
        text = f"the target {target} is from the {ours[0].track} track, but policy wants {track}"
        yield PolicyMistake(key=key, met=text, do="Choose another target, or another track")


def _against(before: int, other: Want, at: int, want: Want) -> Iterator[PolicyMistake]:
    same = all(getattr(want, name) == getattr(other, name) for name in SELECTORS)
    for name in WANTED if same else ():
        ours, theirs = getattr(want, name), getattr(other, name)
        if None not in (ours, theirs) and ours != theirs:
            text = f"{want.selector} is wanted to have {name} {_shown(ours)}, and by "
            yield PolicyMistake(
                key=f"want[{at}].{name}",
                met=f"{text}want[{before}] {_shown(theirs)}",
                do="Set it in one [[want]] only",
            )


def _shown(value: object) -> str:
    return ", ".join(value) if isinstance(value, tuple) else str(value)

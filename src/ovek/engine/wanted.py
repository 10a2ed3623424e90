"""What policy wants of one device.

1. The narrowest want that says something counts: by device, then role, model, sheet; then what the
   policy says for all. Of two by device or two by model, an exact name comes before a glob.
2. Two equally narrow wants that say different things of one device contradict each other.
3. `recommended` is the newest recommended system image for the device's hardware, of the wanted
   track, and of the variant that runs.
"""

from collections.abc import Mapping
from fnmatch import fnmatchcase
from functools import cmp_to_key
from typing import Any

from msgspec import Struct

from ovek.engine.runs import variant_of
from ovek.engine.verdicts import Judge, fits
from ovek.model.catalog import Track
from ovek.model.policy import RECOMMENDED, SELECTORS, WANTED, BankRule, Policy, Want
from ovek.model.snapshot import Device
from ovek.model.verdict import KnownRelease
from ovek.model.version import compare


class ContradictionError(Exception):
    """Two wants of a policy say different things of one device."""


class Wanted(Struct, frozen=True, kw_only=True, eq=False):
    """What is wanted of one device.

    `target` is a version; `release` its system image for this device, where it is exactly one;
    `recommended` is the recommended image for it. None: nothing is wanted, or it is not known.
    """

    target: str | None = None
    release: KnownRelease | None = None
    recommended: KnownRelease | None = None
    allowed: tuple[str, ...] | None = None
    bank_rule: BankRule | None = None
    track: Track | None = None
    asks_recommended: bool = False


class Wants:
    """What a policy wants, remembered for each kind of device. `roles` are those of the fleet."""

    def __init__(self, policy: Policy, roles: Mapping[str, str | None] | None = None) -> None:
        self.policy, self.roles = policy, roles or {}
        self._by_device = any(want.device is not None for want in policy.want)
        self._known: dict[tuple[str | None, ...], Wanted] = {}

    def of(self, device: Device, judge: Judge) -> Wanted:
        """What is wanted of a device. Raises ContradictionError."""
        name, hardware = device.device, device.hardware
        role, variant = self.roles.get(name), variant_of(device, judge.naming)
        by_name = name if self._by_device else None
        key = (judge.sheet.name, hardware.model, hardware.revision, variant, role, by_name)
        wanted = self._known.get(key)
        if wanted is None:
            if len(self._known) > 10_000:
                self._known.clear()
            wanted = self._known[key] = self._work_out(device, judge, role, variant)
        return wanted

    def _work_out(
        self, device: Device, judge: Judge, role: str | None, variant: str | None
    ) -> Wanted:
        names = {
            "device": device.device,
            "role": role,
            "model": device.hardware.model,
            "sheet": judge.sheet.name,
        }
        said: dict[str, Any] = {key: self._said(key, names) for key in WANTED}
        target, track = said["target"], said["track"]
        recommended = _recommended(device, judge, variant, track)
        asks = target == RECOMMENDED
        if asks:
            target = recommended.version if recommended is not None else None
        return Wanted(
            target=target,
            release=release_for(target, device, judge) if target is not None else None,
            recommended=recommended,
            allowed=said["allowed"],
            bank_rule=said["bank_rule"],
            track=track,
            asks_recommended=asks,
        )

    def _said(self, key: str, names: Mapping[str, str | None]) -> Any:
        """What the narrowest want says of one thing."""
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


def _able(release: KnownRelease, device: Device, variant: str | None) -> bool:
    return (
        release.kind in (None, "system-image")
        and release.version is not None
        and fits(release, device.hardware) is True
        and (variant is None or release.variant in (None, variant))
    )


def _recommended(
    device: Device, judge: Judge, variant: str | None, track: Track | None
) -> KnownRelease | None:
    able = [
        release
        for release in judge.releases.releases
        if release.status == "recommended"
        and release.fits is not None
        and (track is None or release.track in (None, track))
        and _able(release, device, variant)
    ]
    scheme = judge.sheet.versions.pattern

    def newest_first(one: KnownRelease, other: KnownRelease) -> int:
        return compare(other.version or "", one.version or "", scheme) or 0

    return min(able, key=cmp_to_key(newest_first), default=None)


def release_for(version: str, device: Device, judge: Judge) -> KnownRelease | None:
    """The system image of a version for a device, where there is exactly one."""
    variant = variant_of(device, judge.naming)
    able = [
        release
        for release in judge.releases.by_version.get(version, ())
        if _able(release, device, variant)
    ]
    return able[0] if len(able) == 1 else None

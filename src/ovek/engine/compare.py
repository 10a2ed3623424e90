"""What changed on a device between two snapshots, and whether an upgrade did what it was meant to.

An upgrade is done on a member when it runs the expected version and would start it again, proven
or not, at the next reload, and its components are new enough for what runs. What is not known is
not done. What is not known on one side is told as that, never as a removal, nor as something new.
"""

from collections.abc import Iterable, Iterator, Mapping
from typing import Literal

from msgspec import Struct

from ovek.engine.bootwalk import walk_device
from ovek.engine.runs import Runs, runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember, find_file
from ovek.model.compare import ChangedFact, DeviceCompare, MemberDone, Topic
from ovek.model.ofdevice import of_device
from ovek.model.place import Place
from ovek.model.size import show_mib
from ovek.model.snapshot import Member
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare
from ovek.model.walk import RELOADS_WORST_FIRST, DeviceWalk

# What differs on two devices though nothing was done to them: a log grows, a clock is read.
_FREE_MATTERS = 2**20
# What is not known; None is what is not there.
_UNKNOWN = "\0"


class _Shown(Struct, frozen=True):
    """A fact as it is told: in brief, what more there is, and whether it is a proven image."""

    brief: str
    more: str = ""
    proven: bool = False

    def __str__(self) -> str:
        return self.brief + self.more


_Fact = _Shown | str | None


class _Difference(Struct, frozen=True):
    """A change; `lost` is what is there now, in brief, of an image that was proven and is not."""

    change: ChangedFact
    lost: str = ""


def compare_device(
    old: JudgedDevice | None, new: JudgedDevice | None, expect: str | None = None
) -> DeviceCompare:
    """Hold a device in the new snapshot against itself in the old one; either may lack it."""
    before = walk_device(old) if old is not None else None
    after = walk_device(new) if new is not None else None
    found = list(_changes(old, new)) if old is not None and new is not None else []
    changes = tuple(one.change for one in found)
    there = new if new is not None else old
    assert there is not None
    outcome = "changed" if changes else "same"
    members = tuple(_done(new, after, expect)) if new and after and expect is not None else ()
    answers = {member.done for member in members} if members else {None}
    lost = [one for one in found if one.lost]
    return DeviceCompare(
        **of_device(there.device),
        outcome="new" if old is None else "gone" if new is None else outcome,  # type: ignore[arg-type]
        next_boot_before=before.next_boot if before is not None else None,
        next_boot_after=after.next_boot if after is not None else None,
        changes=changes,
        expected=expect,
        no_longer_proven=tuple(one.change for one in lost),
        unasked=tuple(_unasked(before, after, lost)),
        done=False if False in answers else None if None in answers else True,
        members=members,
    )


def _unasked(
    before: DeviceWalk | None, after: DeviceWalk | None, lost: Iterable[_Difference]
) -> Iterator[str]:
    """What got worse though nobody asks for that: a start, then images."""
    if before is not None and after is not None:
        was, now = (RELOADS_WORST_FIRST.index(one.next_boot) for one in (before, after))
        if after.next_boot == "stranded" and now < was:
            yield "it would no longer boot"
        elif now < was:
            yield f"its next boot was {before.next_boot} and is {after.next_boot}"
    for one in lost:
        change = one.change
        front = f"{change.member}/" if change.member is not None and ":" in change.what else ""
        yield f"{front}{change.what}: was proven, now {one.lost}"


def on_target(judged: JudgedDevice, walk: DeviceWalk, target: str | None) -> bool | None:
    """Whether every member of a device runs and starts its target; None: not known, or no target.

    It is the one meaning of "on target", and of what `compare --expect` calls done.
    """
    if target is None:
        return None
    answers = {member.done for member in _done(judged, walk, target)} or {None}
    return False if False in answers else None if None in answers else True


def _done(new: JudgedDevice, walk: DeviceWalk, expect: str) -> Iterator[MemberDone]:
    scheme = new.judge.sheet.versions.pattern
    for ours, each in zip(runs_of(new), walk.members, strict=True):
        running = ours.version
        boots = each.boots.version if each.boots is not None else None
        done: bool | None = True
        why = f"running {expect}, next boot {expect}"
        if running is None:
            done, why = None, "its running version is unknown"
        elif compare(running, expect, scheme) != 0:
            done, why = False, f"running {running}"
        elif each.outcome == "stranded":
            done, why = False, f"running {running}, but it would not boot again"
        elif boots is None:
            done, why = None, f"running {running}; its next boot is unknown"
        elif compare(boots, expect, scheme) != 0:
            done, why = False, f"running {running}, but the next boot is {boots}"
        elif (lags := _lagging(new, ours)) is not None:
            done, why = lags
        yield MemberDone(member=ours.member, done=done, why=why)


def _lagging(new: JudgedDevice, ours: Runs) -> tuple[bool | None, str] | None:
    """What keeps a member from being done: a component that is too old for what runs, or unknown.

    None where each is new enough, or nothing is needed. Where it is not known which release of its
    version runs, only what holds for each of them is sure.
    """
    member = new.member(ours.member)
    if member is None:
        return None
    if ours.image is not None and ours.image.judgement.release is not None:
        return _lags_behind(ours.image.judgement.release, new, member, ours)
    named = new.judge.releases.by_version.get(ours.version or "", ())
    able = [release for release in named if release.kind in (None, "system-image")]
    lags = {_lags_behind(release, new, member, ours) for release in able} or {None}
    if len(lags) == 1:
        return lags.pop()
    unsure = "it is unknown whether its components are new enough"
    return None, f"running {ours.version}; {unsure}, and which release of that version it is"


def _lags_behind(
    release: KnownRelease, new: JudgedDevice, member: JudgedMember, ours: Runs
) -> tuple[bool | None, str] | None:
    """The component of a member that is too old for a release, or of which that is not known."""
    scheme = new.judge.sheet.versions.components.pattern
    needs = release.needs_of(member.hardware.model).components or {}
    if needs and member.member.components is None:
        return None, f"running {ours.version}; it needs certain components, and they are unknown"
    unknown = None
    for component in member.member.components or ():
        need = needs.get(component.component)
        order = None
        if need is not None and component.version is not None:
            order = compare(component.version, need, scheme)
        if order == -1:
            older = f"{component.shown} {component.version} is too old: it needs {need}"
            return False, f"running {ours.version}, but {older}"
        if need is not None and order is None:
            unknown = (
                f"running {ours.version}; it is unknown whether {component.shown} is new enough"
            )
    return None if unknown is None else (None, unknown)


def _changes(old: JudgedDevice, new: JudgedDevice) -> Iterator[_Difference]:
    was, now = old.device.running, new.device.running
    before = {one.member.id: one for one in old.members or ()}
    after = {one.member.id: one for one in new.members or ()}
    several = len(before.keys() | after.keys()) > 1
    told = {"variant": (_known(was.variant), _known(now.variant))}
    if not several:
        told["running version"] = _known(was.version), _known(now.version)
    places = [_known(each.place or _bank(each.bank)) for each in (was, now)]
    told["running from"] = places[0], places[1]
    yield from _differing("version", None, told)
    hardware = old.device.hardware, new.device.hardware
    models = [f"{each.model or ''} {each.revision or ''}".strip() or _UNKNOWN for each in hardware]
    yield from _differing("version", None, {"hardware": (models[0], models[1])})
    unsaved = [
        _UNKNOWN if each.config is None or each.config.unsaved_changes is None
        else "unsaved changes" if each.config.unsaved_changes else "saved"
        for each in (old.device, new.device)
    ]  # fmt: skip
    yield from _differing("configuration", None, {"configuration": (unsaved[0], unsaved[1])})
    if old.members is None or new.members is None:
        counts = [_UNKNOWN if x.members is None else str(len(x.members)) for x in (old, new)]
        yield from _differing("member", None, {"members": (counts[0], counts[1])})
        return
    for name in dict.fromkeys([*before, *after]):
        front = name if several else None
        if name not in before or name not in after:
            there = "there"
            change = ChangedFact(
                topic="member",
                member=name,
                what=f"member {name}",
                was=there if name in before else None,
                now=there if name in after else None,
            )
            yield _Difference(change)
        else:
            if several:
                versions = [_known(_runs(device, name)) for device in (old, new)]
                told = {"running version": (versions[0], versions[1])}
                yield from _differing("version", front, told)
            serials = [_known(each[name].hardware.serial) for each in (before, after)]
            if _UNKNOWN not in serials:
                yield from _differing("member", name, {"serial number": (serials[0], serials[1])})
            yield from _of_member(before[name], after[name], front)


def _known(told: str | None) -> str:
    """A fact that is there whether it is known or not."""
    return _UNKNOWN if told is None else told


def _runs(judged: JudgedDevice, member: str) -> str | None:
    """The version that a member runs."""
    return next((running.version for running in runs_of(judged) if running.member == member), None)


def _bank(name: str | None) -> str | None:
    return None if name is None else f"bank:{name}"


def _of_member(old: JudgedMember, new: JudgedMember, front: str | None) -> Iterator[_Difference]:
    was, now = old.member, new.member
    yield from _differing("image", front, _image_pairs(old, new))
    yield from _differing("volume", front, _listings(was, now))
    yield from _differing("bank", front, _known_on_both(_banks(old), _banks(new), "banks"))
    settings = _known_on_both(_settings(was), _settings(now), "boot settings")
    yield from _differing("boot", front, _both_halves(settings))
    yield from _differing("volume", front, _known_on_both(_states(was), _states(now), "volumes"))
    yield from _free(was, now, front)
    versions = [
        None if m.components is None else {c.shown: _known(c.version) for c in m.components}
        for m in (was, now)
    ]
    known = _known_on_both(versions[0], versions[1], "components")
    yield from _differing("component", front, known)
    places = [
        None
        if m.components is None
        else {f"{c.shown} loads from": _known(c.loads_from) for c in m.components}
        for m in (was, now)
    ]
    if None not in places:
        known = _known_on_both(places[0], places[1], "where components load from")
        yield from _differing("component", front, known)


_Pairs = dict[str, tuple[_Fact, _Fact]]


def _known_on_both(
    old: Mapping[str, _Fact] | None, new: Mapping[str, _Fact] | None, what: str
) -> _Pairs:
    """Pairs of what is known on both sides; else one of the whole, of which one is not known."""
    if old is None or new is None:
        parts = [_UNKNOWN if each is None else f"{len(each)} known" for each in (old, new)]
        return {what: (parts[0], parts[1])}
    return _pairs(old, new)


def _image_pairs(old: JudgedMember, new: JudgedMember) -> _Pairs:
    """The images on volumes whose files are known on both sides."""
    both = [
        volume.name
        for volume in new.member.volumes or ()
        if volume.files is not None
        and (before := old.member.volume(volume.name)) is not None
        and before.files is not None
    ]
    listed = [name for name in both if _knows_sets(old, name) and _knows_sets(new, name)]
    sides = []
    for one in (old, new):
        images = {place: image for place, image in one.images.items() if place.volume in both}
        images |= {place: image for place, image in one.sets.items() if place.volume in listed}
        sides.append(images)
    names = _whole_names(*sides)
    told: list[dict[str, _Fact]] = [
        {names.get(p, str(p)): _judged(i, p) for p, i in side.items()} for side in sides
    ]
    for side, other, one in ((told[0], sides[1], old), (told[1], sides[0], new)):
        for place in other:
            name = names.get(place, str(place))
            if name not in side and find_file(place, one.member) is not None:
                side[name] = _Shown("no known image")
    return _pairs(told[0], told[1])


def _knows_sets(member: JudgedMember, name: str) -> bool:
    volume = member.member.volume(name)
    return volume is not None and volume.sets is not None


def _whole_names(old: dict[Place, Image], new: dict[Place, Image]) -> dict[Place, str]:
    """For names that a listing cut on one side: the one name of the other that begins so."""
    whole: dict[Place, str] = {}
    for side, other in ((old, new), (new, old)):
        for place, image in side.items():
            if image.file is None or not image.file.path_cut or place in other:
                continue
            fits = [
                each
                for each in other
                if each.volume == place.volume
                and each.path.startswith(place.path)
                and each not in side
            ]
            if len(fits) == 1:
                whole[place] = str(fits[0])
    return whole


def _listings(was: Member, now: Member) -> _Pairs:
    """Volumes whose files are known on one side only."""
    told: _Pairs = {}
    for volume in now.volumes or ():
        old = was.volume(volume.name)
        sides = [None if each is None else each.files for each in (old, volume)]
        if old is not None and None in sides and sides != [None, None]:
            counts = [_UNKNOWN if files is None else f"{len(files)} files" for files in sides]
            told[f"the files on {volume.name}"] = counts[0], counts[1]
    return told


def _pairs(old: Mapping[str, _Fact], new: Mapping[str, _Fact]) -> _Pairs:
    return {name: (old.get(name), new.get(name)) for name in dict.fromkeys([*old, *new])}


def _differing(
    topic: Topic, member: str | None, told: Mapping[str, tuple[_Fact, _Fact]]
) -> Iterator[_Difference]:
    for what, (was, now) in told.items():
        if was == now:
            continue
        unknown: Literal["was", "now"] | None = None
        if was == _UNKNOWN:
            unknown, was = "was", None
        elif now == _UNKNOWN:
            unknown, now = "now", None
        texts = [None if one is None else str(one) for one in (was, now)]
        change = ChangedFact(
            topic=topic, member=member, what=what, was=texts[0], now=texts[1], unknown=unknown
        )
        lost = now is not None and _is_proven(was) and not _is_proven(now)
        yield _Difference(change, now.brief if isinstance(now, _Shown) and lost else "")


def _is_proven(fact: _Fact) -> bool:
    return isinstance(fact, _Shown) and fact.proven


def _judged(image: Image, place: Place) -> _Shown:
    """The verdict of an image, and what tells two contents of one name apart."""
    judgement = image.judgement
    proven = judgement.verdict == "proven"
    cut = image.file is not None and image.file.path_cut
    if judgement.release is not None and judgement.release.file != place.name and not cut:
        return _Shown(judgement.verdict, f" ({judgement.release.file})", proven)
    if proven or image.file is None:
        return _Shown(judgement.verdict, proven=proven)
    digest = next((value for _, value in image.file.digests or ()), None)
    return _Shown(judgement.verdict, f" ({digest})" if digest else "")


def _banks(member: JudgedMember) -> dict[str, _Fact] | None:
    if member.member.banks is None:
        return None
    found: dict[str, _Fact] = {}
    for bank in member.member.banks or ():
        image = member.banks.get(bank.name)
        state: _Fact = _Shown(bank.state) if bank.state is not None else _UNKNOWN
        if image is not None:
            verdict = image.judgement.verdict
            text = f"{image.version or 'version unknown'}, {verdict}"
            state = _Shown(text, proven=verdict == "proven")
        found[f"bank:{bank.name}"] = state
    return found


def _settings(member: Member) -> dict[str, str | None] | None:
    boot = member.boot
    if boot is None:
        return None
    told: dict[str, str | None] = {"once": boot.once.shown if boot.once is not None else None}
    for half in ("live", "saved"):
        order, ignores = getattr(boot.order, half), getattr(boot.ignores_saved_config, half)
        told[f"{half} boot mode"] = _known(getattr(boot.mode, half))
        told[f"{half} default bank"] = _known(getattr(boot.default_bank, half))
        told[f"{half} boot order"] = (
            _UNKNOWN if order is None else ", ".join(each.shown for each in order) or "empty"
        )
        told[f"{half} setting to ignore the saved configuration"] = (
            _UNKNOWN if ignores is None else "on" if ignores else "off"
        )
    return told


# Of a setting that has halves: the name of its other half, and of both together.
_HALVES = {
    f"{half} {setting}": (f"{other} {setting}", f"{setting}, live and saved,")
    for setting in (
        "boot mode",
        "default bank",
        "boot order",
        "setting to ignore the saved configuration",
    )
    for half, other in (("live", "saved"), ("saved", "live"))
}


def _both_halves(pairs: _Pairs) -> _Pairs:
    """Settings whose live and saved halves changed alike, told as one."""
    shown: _Pairs = {}
    for name, pair in pairs.items():
        other, together = _HALVES.get(name, (None, name))
        shown[together if other is not None and pairs.get(other) == pair else name] = pair
    return shown


def _states(member: Member) -> dict[str, str | None] | None:
    if member.volumes is None:
        return None
    return {f"{volume.name}:": _known(volume.state) for volume in member.volumes}


def _free(was: Member, now: Member, front: str | None) -> Iterator[_Difference]:
    for volume in now.volumes or ():
        old = was.volume(volume.name)
        if old is None or old.free is None or volume.free is None:
            continue
        if abs(old.free - volume.free) >= _FREE_MATTERS:
            change = ChangedFact(
                topic="volume",
                member=front,
                what=f"free on {volume.name}",
                was=show_mib(old.free),
                now=show_mib(volume.free),
            )
            yield _Difference(change)

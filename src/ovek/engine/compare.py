"""What changed on a device between two snapshots, and whether an upgrade did what it was meant to.

An upgrade is done on a member when it runs the expected version and would start it again, proven
or not, at the next reload. What is not known is not done.
"""

from collections.abc import Iterator, Mapping

from ovek.engine.bootwalk import walk_device
from ovek.engine.runs import runs_of
from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.compare import Change, DeviceCompare, MemberDone, Topic
from ovek.model.place import Place
from ovek.model.size import show_size
from ovek.model.snapshot import BootEntry, Member
from ovek.model.verdict import Image
from ovek.model.version import compare
from ovek.model.walk import DeviceWalk

# What differs on two devices though nothing was done to them: a log grows, a clock is read.
_FREE_MATTERS = 2**20


def compare_device(
    old: JudgedDevice | None, new: JudgedDevice | None, expect: str | None = None
) -> DeviceCompare:
    """Hold a device in the new snapshot against itself in the old one; either may lack it."""
    before = walk_device(old) if old is not None else None
    after = walk_device(new) if new is not None else None
    changes = tuple(_changes(old, new)) if old is not None and new is not None else ()
    there = new if new is not None else old
    assert there is not None
    outcome = "changed" if changes else "same"
    members = tuple(_done(new, after, expect)) if new and after and expect is not None else ()
    answers = {member.done for member in members} if members else {None}
    return DeviceCompare(
        device=there.device.device,
        outcome="new" if old is None else "gone" if new is None else outcome,  # type: ignore[arg-type]
        reload_before=before.reload if before is not None else None,
        reload_after=after.reload if after is not None else None,
        changes=changes,
        done=False if False in answers else None if None in answers else True,
        members=members,
    )


def _done(new: JudgedDevice, walk: DeviceWalk, expect: str) -> Iterator[MemberDone]:
    scheme = new.judge.sheet.versions.pattern
    for ours, each in zip(runs_of(new), walk.members, strict=True):
        runs = ours.version
        starts = each.starts.version if each.starts is not None else None
        done: bool | None = True
        why = f"runs and starts {expect}"
        if runs is None:
            done, why = None, "what it runs is not known"
        elif compare(runs, expect, scheme) != 0:
            done, why = False, f"runs {runs}"
        elif each.outcome == "stranded":
            done, why = False, f"runs {runs}, and would not start again"
        elif starts is None:
            done, why = None, f"runs {runs}; what it starts next is not known"
        elif compare(starts, expect, scheme) != 0:
            done, why = False, f"runs {runs}, and starts {starts} at the next reload"
        yield MemberDone(member=ours.member, done=done, why=why)


def _changes(old: JudgedDevice, new: JudgedDevice) -> Iterator[Change]:
    was, now = old.device.running, new.device.running
    before = {one.member.id: one for one in old.members or ()}
    after = {one.member.id: one for one in new.members or ()}
    several = len(before.keys() | after.keys()) > 1
    told = {"variant": (was.variant, now.variant)}
    if not several:
        told["running version"] = was.version, now.version
    told["runs from"] = (was.place or _bank(was.bank), now.place or _bank(now.bank))
    yield from _differing("version", None, told)
    hardware = old.device.hardware, new.device.hardware
    models = tuple(f"{each.model or ''} {each.revision or ''}".strip() or None for each in hardware)
    yield from _differing("version", None, {"hardware": (models[0], models[1])})
    unsaved = [
        None if each.config is None or each.config.unsaved_changes is None
        else "unsaved changes" if each.config.unsaved_changes else "saved"
        for each in (old.device, new.device)
    ]  # fmt: skip
    yield from _differing("configuration", None, {"configuration": (unsaved[0], unsaved[1])})
    for name in dict.fromkeys([*before, *after]):
        front = name if several else None
        if name not in before or name not in after:
            there = "there"
            yield Change(
                topic="member",
                member=name,
                what=f"member {name}",
                was=there if name in before else None,
                now=there if name in after else None,
            )
        else:
            if several:
                versions = [_runs(device, name) for device in (old, new)]
                told = {"running version": (versions[0], versions[1])}
                yield from _differing("version", front, told)
            yield from _of_member(before[name], after[name], front)


def _runs(judged: JudgedDevice, member: str) -> str | None:
    """The version that a member runs."""
    return next((runs.version for runs in runs_of(judged) if runs.member == member), None)


def _bank(name: str | None) -> str | None:
    return None if name is None else f"bank:{name}"


def _of_member(old: JudgedMember, new: JudgedMember, front: str | None) -> Iterator[Change]:
    was, now = old.member, new.member
    yield from _differing("image", front, _pairs(_images(old), _images(new)))
    yield from _differing("bank", front, _pairs(_banks(old), _banks(new)))
    yield from _differing("boot", front, _both_halves(_pairs(_settings(was), _settings(now))))
    yield from _differing("volume", front, _pairs(_states(was), _states(now)))
    yield from _free(was, now, front)
    parts = [{p.shown: p.version for p in each.parts or ()} for each in (was, now)]
    yield from _differing("part", front, _pairs(parts[0], parts[1]))
    pointers = [{f"{p.part} is loaded from": p.place for p in m.pointers or ()} for m in (was, now)]
    yield from _differing("part", front, _pairs(pointers[0], pointers[1]))


def _pairs(
    old: Mapping[str, str | None], new: Mapping[str, str | None]
) -> dict[str, tuple[str | None, str | None]]:
    return {name: (old.get(name), new.get(name)) for name in dict.fromkeys([*old, *new])}


def _differing(
    topic: Topic, member: str | None, told: Mapping[str, tuple[str | None, str | None]]
) -> Iterator[Change]:
    for what, (was, now) in told.items():
        if was != now:
            yield Change(topic=topic, member=member, what=what, was=was, now=now)


def _images(one: JudgedMember) -> dict[str, str | None]:
    found: dict[str, str | None] = {}
    for place, image in {**one.images, **one.sets}.items():
        found[str(place)] = _judged(image, place)
    return found


def _judged(image: Image, place: Place) -> str:
    """The verdict of an image, and what tells two contents of one name apart."""
    judgement, told = image.judgement, image.judgement.verdict
    if judgement.release is not None and judgement.release.file != place.name:
        return f"{told} ({judgement.release.file})"
    if judgement.verdict == "proven" or image.file is None:
        return told
    digest = next((value for _, value in image.file.digests or ()), None)
    return told + (f" ({digest})" if digest else "")


def _banks(one: JudgedMember) -> dict[str, str | None]:
    found: dict[str, str | None] = {}
    for bank in one.member.banks or ():
        image = one.banks.get(bank.name)
        state: str = bank.state or "not known"
        if image is not None:
            state = f"{image.version or 'version not known'}, {image.judgement.verdict}"
        found[f"bank:{bank.name}"] = state
    return found


def _settings(member: Member) -> dict[str, str | None]:
    boot = member.boot
    if boot is None:
        return {"boot settings": None}
    told: dict[str, str | None] = {"once": _entry(boot.once) if boot.once is not None else None}
    for half in ("live", "saved"):
        order, ignores = getattr(boot.order, half), getattr(boot.ignores_saved_config, half)
        told[f"{half} boot mode"] = getattr(boot.mode, half)
        told[f"{half} default bank"] = getattr(boot.default_bank, half)
        told[f"{half} boot order"] = (
            None if order is None else ", ".join(map(_entry, order)) or "empty"
        )
        told[f"{half} ignoring of the saved configuration"] = (
            None if ignores is None else "on" if ignores else "off"
        )
    return told


def _both_halves(
    pairs: dict[str, tuple[str | None, str | None]],
) -> dict[str, tuple[str | None, str | None]]:
    """Settings whose live and saved halves changed alike, told as one."""
    told = {}
    for name, pair in pairs.items():
        half, _, setting = name.partition(" ")
        other = pairs.get(f"{'saved' if half == 'live' else 'live'} {setting}")
        if half in ("live", "saved") and other == pair:
            told[f"{setting}, live and saved,"] = pair
        else:
            told[name] = pair
    return told


def _entry(entry: BootEntry) -> str:
    return entry.place or entry.remote or entry.raw or ""


def _states(member: Member) -> dict[str, str | None]:
    return {f"{volume.name}:": volume.state for volume in member.volumes or ()}


def _free(was: Member, now: Member, front: str | None) -> Iterator[Change]:
    for volume in now.volumes or ():
        old = was.volume(volume.name)
        if old is None or old.free is None or volume.free is None:
            continue
        if abs(old.free - volume.free) >= _FREE_MATTERS:
            yield Change(
                topic="volume",
                member=front,
                what=f"free on {volume.name}:",
                was=show_size(old.free),
                now=show_size(volume.free),
            )

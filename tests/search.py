"""A plain uniform-cost search over all changes of a small device, to hold plans against.

It shares nothing with the plan but the changes themselves, the verdicts and the walk. What it looks
for is plain: every member runs the target and boots it, proven, by settings that are saved and name
nothing that is not there; what a trial showed is committed; the configuration is saved.
"""

from heapq import heappop, heappush
from itertools import count, permutations

import msgspec
from msgspec.structs import replace

from builders import SIZE
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import content_of, refusal
from ovek.engine.changes import middle as halfway
from ovek.engine.replay import done
from ovek.engine.verdicts import judge_device
from ovek.model.change import (
    CheckDigest,
    Commit,
    Copy,
    CopyBank,
    Delete,
    Reload,
    Save,
    SetDefault,
    SetMode,
    SetOnce,
    SetOrder,
    WriteBank,
)
from ovek.model.place import BANK, Place
from ovek.model.snapshot import Boot, BootEntry, Device
from ovek.model.walk import RELOADS_WORST_FIRST

RANK = RELOADS_WORST_FIRST.index
COPIES = Copy | WriteBank


def ranks(walk):
    """How sure each member's next boot is."""
    return tuple(RANK(each.outcome) for each in walk.members)


def cost_of(judged, walk, change, after_walk, sheet):
    """What one change costs: exposed, reloads, bytes, unsafe afterwards, one change."""
    half = halfway(judged.device, change, sheet)
    exposed = any(now < was for was, now in zip(ranks(walk), ranks(after_walk), strict=True))
    if half is not None:
        walked = walk_device(judge_device(half, judged.judge))
        exposed = exposed or any(
            now < was for was, now in zip(ranks(walk), ranks(walked), strict=True)
        )
    unsafe = any(each.outcome != "proven" for each in after_walk.members)
    brings = change.content.size if isinstance(change, COPIES) else 0
    if isinstance(change, CopyBank):
        brings = SIZE
    return (int(exposed), int(isinstance(change, Reload)), brings, int(unsafe), 1)


def plus(one, other):
    return tuple(a + b for a, b in zip(one, other, strict=True))


def price(judge, device, changes):
    """What a list of changes costs, all in all, and the device that it leads to."""
    total, sheet = (0, 0, 0, 0, 0), judge.sheet
    for change in changes:
        judged = judge_device(device, judge)
        walk = walk_device(judged)
        device = done(judged, device, change, walk)
        after = walk_device(judge_device(device, judge))
        total = plus(total, cost_of(judged, walk, change, after, sheet))
    return total, device


def reached(judge, device: Device, version: str) -> bool:
    """Whether every member runs a version and boots it, proven, with settings that are clean."""
    judged = judge_device(device, judge)
    walk = walk_device(judged)
    if device.config is not None and device.config.unsaved_changes:
        return False
    for member, each in zip(device.members, walk.members, strict=True):
        running = member.running_version or device.running.version
        boots, boot = each.boots, member.boot or Boot()
        if running != version or boots is None or boots.version != version:
            return False
        if each.outcome != "proven" or len(each.tried) > 1 or boot.once is not None:
            return False
        for setting in (boot.order, boot.default_bank):
            if setting.live is not None and setting.live != setting.saved:
                return False
        names = [entry.place for entry in boot.order.saved or ()]
        paths = {f"{v.name}:{f.path}" for v in member.volumes or () for f in v.files or ()}
        if set(names) - paths or len(set(names)) < len(names):
            return False
    return True


def changes_of(judge, device: Device, releases):
    """Every change that somebody might make."""
    judged, sheet = judge_device(device, judge), judge.sheet
    layout = sheet.boot.layout
    for member in device.members:
        name, volume = member.id, member.volumes[0] if member.volumes else None
        boot = member.boot or Boot()
        contents = [replace(content_of(release), digests=None) for release in releases]
        if layout == "files":
            paths = [file.path for file in volume.files]
            for number in (1, 2):
                for order in permutations(paths, number):
                    entries = tuple(BootEntry(place=f"{volume.name}:{path}") for path in order)
                    yield SetOrder(member=name, entries=entries)
            if (boot.mode.saved or boot.mode.live) not in (None, "listed"):
                yield SetMode(member=name, mode="listed")
            for content in contents:
                yield Copy(place=Place(volume.name, content.name, name), content=content)
        else:
            for bank in member.banks or ():
                yield SetDefault(member=name, bank=bank.name)
                for content in contents:
                    yield WriteBank(member=name, bank=bank.name, content=content)
                for other in member.banks:
                    if other is not bank:
                        yield CopyBank(member=name, source=other.name, bank=bank.name)
        if boot.once is not None:
            yield SetOnce(member=name, entry=None)
        if layout == "paired":
            yield SetOnce(member=name, entry=BootEntry(place=f"{BANK}:trial"))
            if device.running.bank == "trial" or (device.running.place or "").startswith(
                "flash:t/"
            ):
                yield Commit(member=name)  # what nobody has tried is not committed
            for file in volume.files:
                if file.path.startswith("t/"):
                    yield Delete(place=Place(volume.name, file.path, name))
            for content in contents:
                place = Place(volume.name, f"t/{content.name}", name)
                yield Copy(place=place, content=content, bank="trial")
        yield Save(member=name)
        one = judged.member(name)
        images = [*one.images.values(), *(i for i in one.banks.values() if not i.parts)]
        for image in images:
            if image.judgement.verdict == "unverified":
                known = image.judgement.release or next(
                    (r for r in releases if r.version == image.version), None
                )
                if known is not None:
                    place = image.place.on(name)
                    yield CheckDigest(place=place, digests=content_of(known).digests)
    yield Save(member=None)
    yield Reload()


def allowed(judge, device, change, walk, version, releases) -> bool:
    """Whether a change may be made at all: what runs and boots is not written over.

    A reload only into what is proven and may be loaded.
    """
    if isinstance(change, Reload):
        return all(each.outcome == "proven" for each in walk.members)
    if isinstance(change, Copy):
        volume = next(m for m in device.members if m.id == change.place.member).volumes[0]
        if change.bank is not None:  # a directory is all that lies in it
            return not any(file.path.startswith("t/") for file in volume.files)
        there = [file for file in volume.files if file.path == change.place.path]
        judged = judge_device(device, judge)
        image = judged.image(change.place)
        return not there or (
            image is not None and image.judgement.verdict in ("altered", "truncated")
        )
    if isinstance(change, WriteBank | CopyBank):
        boots = {each.boots.at for each in walk.members if each.boots is not None}
        return Place(BANK, change.bank, change.member) not in boots
    return True


def cheapest(judge, device: Device, version: str, most: int = 4000):
    """The least that it costs to get to a version; None where nothing leads there.

    Raises OverflowError where too many devices had to be looked at.
    """
    known = judge.releases.releases
    releases = [r for r in known if r.kind == "system-image" and r.version == version]
    serial = count()
    waiting = [((0, 0, 0, 0, 0), next(serial), device)]
    best = {msgspec.json.encode(device): (0, 0, 0, 0, 0)}
    closed = set()
    while waiting:
        total, _, now = heappop(waiting)
        key = msgspec.json.encode(now)
        if key in closed:
            continue
        closed.add(key)
        if reached(judge, now, version):
            return total
        if len(closed) > most:
            raise OverflowError
        judged = judge_device(now, judge)
        walk = walk_device(judged)
        for change in changes_of(judge, now, releases):
            if refusal(now, change, judge.sheet):
                continue
            if not allowed(judge, now, change, walk, version, releases):
                continue
            then = done(judged, now, change, walk)
            if then == now:
                continue
            after = walk_device(judge_device(then, judge))
            spent = plus(total, cost_of(judged, walk, change, after, judge.sheet))
            seen = msgspec.json.encode(then)
            if seen not in closed and (seen not in best or spent < best[seen]):
                best[seen] = spent
                heappush(waiting, (spent, next(serial), then))
    return None

"""A second, plain reading of what may never go and of what is worse: as the pages say it, slowly.

Nothing here is taken from the engine but the verdicts and the walk of a whole device; every edit is
made anew, by hand.
"""

from fnmatch import fnmatchcase

from msgspec.structs import replace

from ovek.engine.bootwalk import walk_device
from ovek.model.place import parse_place
from ovek.model.snapshot import Device, File
from ovek.model.walk import RELOADS_WORST_FIRST

Where = tuple[str, str, str]


def volume_of(what: Device, member: str, name: str):
    for one in what.members or ():
        if one.id == member:
            for volume in one.volumes or ():
                if volume.name == name:
                    return volume
    return None


def blind(volume) -> bool:
    return volume is None or volume.filesystem is None or volume.filesystem.startswith("fat")


def where(what: Device, own: str, text: str) -> Where | None:
    """A place as member `own` names it: member, volume and path, in one spelling."""
    if "://" in text:
        return None
    place = parse_place(text)
    member = place.member or own
    volume = volume_of(what, member, place.volume)
    return member, place.volume, place.path.casefold() if blind(volume) else place.path


def settings(what: Device):
    """Every place that some member's settings name, with the member that names it."""
    for one in what.members or ():
        boot = one.boot
        entries = []
        if boot is not None:
            entries = [boot.once, *(boot.order.saved or ()), *(boot.order.live or ())]
        for entry in entries:
            if entry is not None and entry.place is not None:
                yield one.id, entry.place


def is_held(case, walk, member: str, volume, file: File) -> bool:
    """Whether a file is one that no plan may touch, for what it is or who names it."""
    what = case.device
    path = file.path.casefold() if blind(volume) else file.path
    here = (member, volume.name, path)
    named = {where(what, own, text) for own, text in settings(what)}
    named |= {where(what, each.member, each.boots.place) for each in walk.members if each.boots}
    running = what.running
    for one in what.members or ():
        same = one.running_version in (None, running.version) or running.version is None
        if running.place is not None and same:
            named.add(where(what, one.id, running.place))
    if here in named:
        return True
    for one in what.members or ():
        for component in one.components or ():
            if component.loads_from in (None, "itself"):
                continue
            owner, name, target = where(what, one.id, component.loads_from)
            folder = target.rstrip("/") + "/"
            if (owner, name) == here[:2] and (path == target or path.startswith(folder)):
                return True
    globs = (*case.policy.pinned, *case.keep)
    for glob in globs:
        names = (path,) if "/" in glob else (path.rpartition("/")[2],)
        wanted = glob.casefold() if blind(volume) else glob
        if any(fnmatchcase(name, wanted) for name in names):
            return True
    return path.rpartition("/")[2].endswith((".settings", ".licence", ".key"))


def without(what: Device, gone: set[Where]) -> Device:
    """The device without some files (member, volume, exact path), and the sets that they list."""
    members = []
    for one in what.members or ():
        volumes = []
        for volume in one.volumes or ():
            paths = {path for member, name, path in gone if (member, name) == (one.id, volume.name)}
            if paths and volume.files is not None:
                left = tuple(file for file in volume.files if file.path not in paths)
                sets = volume.sets
                if sets is not None:
                    folded = {path.casefold() for path in paths} if blind(volume) else paths
                    sets = tuple(
                        each
                        for each in sets
                        if (each.set_file.casefold() if blind(volume) else each.set_file)
                        not in folded
                    )
                volume = replace(volume, files=left, sets=sets)
            volumes.append(volume)
        members.append(replace(one, volumes=tuple(volumes)) if one.volumes is not None else one)
    return replace(what, members=tuple(members))


def got_worse(before, after) -> str:
    """What is worse in one walk than in another, for any member; empty where nothing is."""
    rank = RELOADS_WORST_FIRST.index
    now = {each.member: each for each in after.members}
    for was in before.members:
        then = now[was.member]
        if rank(then.outcome) < rank(was.outcome):
            return f"{was.member}: {was.outcome} to {then.outcome}"
        if was.boots is not None and then.boots is not None:
            same_place = was.boots.at == then.boots.at and was.boots.place == then.boots.place
            as_good = (
                was.boots.version == then.boots.version
                and was.boots.verdict == then.boots.verdict == "proven"
                and was.boots.place.partition(":")[0].endswith("bank")
            )
            if not same_place and not as_good:
                return f"{was.member}: starts {then.boots.place}, not {was.boots.place}"
    return ""


def worst_on_the_way(case, dropped: list[Where]) -> str:
    """What gets worse while files go one by one; empty where nothing does."""
    before = walk_device(case.judged())
    for number in range(1, len(dropped) + 1):
        left = without(case.device, set(dropped[:number]))
        if told := got_worse(before, walk_device(case.judged(left))):
            return f"after {dropped[number - 1]}: {told}"
    return ""


def spelled(what: Device, own: str, text: str) -> Where:
    """A place as its volume spells it: member, volume and exact path."""
    place = parse_place(text)
    member = place.member or own
    volume = volume_of(what, member, place.volume)
    for file in volume.files or () if volume is not None else ():
        same = file.path.casefold() == place.path.casefold() if blind(volume) else False
        if file.path == place.path or same:
            return member, place.volume, file.path
    return member, place.volume, place.path

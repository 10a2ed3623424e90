"""Rules on components: what has firmware of its own, and what it loads at the next reload."""

from collections.abc import Iterator

from ovek.engine.components import Loaded, loaded
from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.verdicts import is_for_hardware
from ovek.model.snapshot import Volume
from ovek.model.verdict import KnownRelease


def _starting(member: MemberSubject) -> KnownRelease | None:
    """The release that starts next."""
    return None if member.boot_image is None else member.boot_image.judgement.release


def _needs(member: MemberSubject, release: KnownRelease | None) -> dict[str, str]:
    """The versions of components that a release needs on the hardware of a member."""
    if release is None:
        return {}
    return release.needs_of(member.one.hardware.model).components or {}


def _loaded(subject: Subject, member: MemberSubject) -> list[Loaded]:
    """The components of a member as they will be after the next reload."""
    return list(loaded(subject.judged, member.one, _starting(member)))


@rule(
    "component-file-missing",
    "warning",
    "If its firmware file is missing, the component starts without firmware or not at all.",
    "Copy the file there, or set the component to load from an existing file",
    reads=("files",),
)
def component_file_missing(subject: Subject) -> Iterator[Said]:
    """A component loads its firmware from a file or folder that does not exist."""
    for member in subject.members:
        for component in member.one.member.components or ():
            if component.place is None:
                continue
            place = subject.judged.located(component.place, member.id)
            owner = subject.judged.member(place.member or "")
            volume = owner.member.volume(place.volume) if owner is not None else None
            if volume is None or (volume.files is None and volume.state != "absent"):
                continue
            path = volume.folded(place.path).rstrip("/")
            if volume.state == "absent" or not _is_there(path, volume):
                seen = (
                    f"component {component.shown} loads its firmware from it, and it does not exist"
                )
                yield Said(member=member.id, place=place, seen=seen)


def _is_there(path: str, volume: Volume) -> bool:
    """Whether there is such a file, or anything in such a folder."""
    return any(
        (name := volume.folded(file.path)) == path
        or name.startswith(path + "/")
        or (file.path_cut and path.startswith(name))
        for file in volume.files or ()
    )


@rule(
    "component-file-mismatch",
    "warning",
    "Firmware that is too old for the system image causes faults that are hard to trace.",
    "Copy the component image that goes with the system image, and load the component from it",
    stops="target",
)
def component_file_mismatch(subject: Subject) -> Iterator[Said]:
    """A component loads firmware that is too old for the next boot image, or for other hardware."""
    for member in subject.members:
        release = _starting(member)
        needs = _needs(member, release)
        for each in _loaded(subject, member):
            if each.image is None or each.place is None:
                continue
            own, shown = each.image.judgement.release, each.component.shown
            need = needs.get(each.component.component)
            if own is not None and is_for_hardware(own, member.one.hardware) is False:
                seen = f"component {shown} loads its firmware from it; it is for other hardware"
                yield Said(member=member.id, place=each.place, seen=seen, whole=False)
            elif need is not None and subject.component_order(each.then, need) == -1:
                if subject.component_order(each.component.version, need) == -1:
                    continue
                assert release is not None
                yield Said(
                    member=member.id,
                    place=each.place,
                    seen=f"component {shown} loads its firmware from it ({each.then}); "
                    f"the next boot image {release.file} needs {need}",
                )


@rule(
    "component-too-old",
    "warning",
    "An image that needs newer firmware may not boot, or boot without that component.",
    "Update the component first, then reload",
    stops="target",
)
def component_too_old(subject: Subject) -> Iterator[Said]:
    """After the reload, a component is older than the next boot image needs."""
    for member in subject.members:
        release = _starting(member)
        needs = _needs(member, release)
        for each in _loaded(subject, member) if needs else ():
            component = each.component
            need = needs.get(component.component)
            if need is None or subject.component_order(component.version, need) != -1:
                continue
            if each.then is not None and subject.component_order(each.then, need) != -1:
                continue  # the reload itself brings what is needed
            assert release is not None
            changes = subject.order(member.boots, member.running) != 0
            source, do = "", None
            if each.place is not None and each.then is not None:
                source = f", to be loaded from {component.loads_from} ({each.then})"
                do = f"Load {component.component} {need} first, then load the component from its "
                do += "file, then reload"
            yield Said(
                member=member.id,
                place=None,
                seen=f"the next boot image {release.file} needs {component.shown} {need}; "
                f"installed is {component.version}{source}",
                do=do,
                severity="critical" if changes else None,
            )


@rule(
    "component-updated-at-reload",
    "note",
    "A reload that also updates firmware takes longer and must not be interrupted.",
    "Plan a longer reload, and keep the power on until it is finished",
)
def component_updated_at_reload(subject: Subject) -> Iterator[Said]:
    """The next reload updates the firmware of a component."""
    for member in subject.members:
        release = _starting(member)
        if release is None or subject.order(member.boots, member.running) in (0, None):
            continue
        newer = [
            f"{each.component.shown} from {each.component.version} to {each.then}"
            for each in _loaded(subject, member)
            if subject.component_order(each.then, each.component.version) == 1
        ]
        if newer:
            seen = f"a reload into {release.file} also updates {', '.join(newer)}"
            yield Said(member=member.id, place=None, seen=seen)


@rule(
    "component-not-updated",
    "warning",
    "The component still has firmware that the running image was not tested with.",
    "Find out why it was not loaded, and install the firmware of that component by hand",
    "component-too-old",
    stops="target",
)
def component_not_updated(subject: Subject) -> Iterator[Said]:
    """The running image includes newer firmware for a component than is installed."""
    for member in subject.members if subject.up else ():
        release = (
            member.running_image.judgement.release if member.running_image is not None else None
        )
        if release is None or release is not _starting(member):
            continue  # the next start brings other firmware
        brings = {name: (version, "") for name, version in release.carries.items()}
        for name, version, file in _together(subject, member, release):
            brings.setdefault(name, (version, f" (in {file})"))
        for each in _loaded(subject, member):
            component = each.component
            if component.component not in brings:
                continue
            version, source = brings[component.component]
            then = each.then if each.place is not None else component.version
            if subject.component_order(component.version, version) != -1:
                continue
            if subject.component_order(then, version) in (0, 1):
                continue
            verb = "needs" if source else "includes"
            yield Said(
                member=member.id,
                place=None,
                seen=f"the running image {release.file} {verb} {component.shown} "
                f"{version}{source}, "
                f"but {component.version} is still installed",
            )


def _together(
    subject: Subject, member: MemberSubject, release: KnownRelease
) -> Iterator[tuple[str, str, str]]:
    """The firmware that is installed together with a release on a member: name, version, file."""
    releases = subject.judged.judge.releases
    for file in release.with_of(member.one.hardware.model):
        for other in releases.named(file, case_blind=False):
            if is_for_hardware(other, member.one.hardware) is not False:
                yield from ((name, version, file) for name, version in other.carries.items())

"""Rules on which release runs and starts: what policy wants, and what the publisher says."""

from collections.abc import Iterator
from fnmatch import fnmatchcase

from ovek.engine.fit import fit, standings
from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.wanted import told_hops, told_way, way_to
from ovek.model.plain_word import typed
from ovek.model.verdict import Image, KnownRelease


def _alike(subject: Subject) -> Iterator[tuple[str | None, str, list[MemberSubject]]]:
    """The members that run and start the same: which (None: all of them), the version, and they.

    A device whose members are alike is told of once, and what any of them starts counts.
    """
    groups: dict[tuple[object, ...], list[MemberSubject]] = {}
    for member in subject.members:
        if member.running is not None:
            releases = _release(member.running_image), _release(member.boot_image)
            groups.setdefault((member.running, member.boots, *releases), []).append(member)
    alone = len(groups) == 1
    for members in groups.values():
        yield None if alone else members[0].id, members[0].running or "", members


def _by_version(subject: Subject) -> Iterator[tuple[str | None, str, list[MemberSubject]]]:
    """The members that run one version: which (None: all of them), the version, and they."""
    groups: dict[str, list[MemberSubject]] = {}
    for member in subject.members:
        if member.running is not None:
            groups.setdefault(member.running, []).append(member)
    alone = len(groups) == 1
    for version, members in groups.items():
        yield None if alone else members[0].id, version, members


def _release(image: Image | None) -> KnownRelease | None:
    return None if image is None else image.judgement.release


@rule(
    "release-withdrawn",
    "warning",
    "Publishers withdraw releases with serious defects.",
    "Install the recommended release: ovek catalog pick DEVICE",
    "release-not-allowed",
    "release-not-target",
    "recommended-newer",
    "feature-track",
    stops="target",
)
def release_withdrawn(subject: Subject) -> Iterator[Said]:
    """The running or next boot release was withdrawn by its publisher."""
    for member_id, version, members in _alike(subject):
        running, starting = _release(members[0].running_image), _release(members[0].boot_image)
        for release, does in ((running, "is running"), (starting, "is the next boot")):
            if release is not None and release.status == "withdrawn":
                note = f" ({release.note})" if release.note else ""
                told = release.version or version
                both = running is starting
                yield Said(
                    member=member_id,
                    place=None,
                    seen=f"{told} {'is running and the next boot' if both else does}; "
                    f"its publisher has withdrawn {release.file}{note}",
                )
                break


@rule(
    "release-not-allowed",
    "warning",
    "Policy names the versions that are tested and supported here.",
    "Install a version that policy allows, or add this one to `allowed` in policy.toml",
    "release-not-target",
    "recommended-newer",
    "feature-track",
    stops="target",
)
def release_not_allowed(subject: Subject) -> Iterator[Said]:
    """The running or next boot version is not in policy's list of allowed versions."""
    allowed = subject.wanted.allowed
    for member_id, version, members in _alike(subject) if allowed is not None else ():
        assert allowed is not None
        wrong = {
            text: does
            for text, does in ((members[0].boots, "is the next boot"), (version, "is running"))
            if text is not None and not any(fnmatchcase(text, glob) for glob in allowed)
        }
        if wrong:
            text = " and ".join(f"{text} {does}" for text, does in wrong.items())
            target = subject.wanted.target
            yield Said(
                member=member_id,
                place=None,
                seen=f"{text}; policy allows {', '.join(allowed)}"
                + (f"; the target is {target}" if target else ""),
            )


@rule(
    "upgrade-needs-step",
    "note",
    "Skipping a required intermediate release may leave the device unable to boot.",
    "Upgrade through the intermediate release: ovek catalog path DEVICE --to VERSION",
    "release-not-target",
    "recommended-newer",
    stops="target",
)
def upgrade_needs_step(subject: Subject) -> Iterator[Said]:
    """The target cannot be installed directly over the running version."""
    wanted = subject.wanted
    for member_id, version, members in _by_version(subject):
        release = wanted.goal_of(members[0].id)
        if release is None or release.version is None:
            continue
        if subject.order(version, release.version) != -1:
            continue
        way = way_to(subject.judged, release, wanted, members[0].id)
        if not way.known or (way.hops is not None and len(way.hops) < 2):
            continue
        told = way.missing or ""
        if way.hops is not None:
            told = f"the upgrade path is {version} → {told_hops(way.hops)}"
        pending = any(subject.order(each.boots, release.version) == 0 for each in members)
        cannot = "cannot be installed directly" if way.hops else "cannot be installed"
        yield Said(
            member=member_id,
            place=None,
            seen=f"{release.file} {cannot} over the running {version}; {told}"
            + ("; the next reload boots it all the same" if pending else ""),
            severity="critical" if pending else "warning" if wanted.target is not None else None,
        )


@rule(
    "next-boot-incompatible",
    "critical",
    "A release without enough memory, or installed over a wrong version, may not boot.",
    "Point the boot settings at the running image or the first intermediate one, and save",
    "reload-pending",
    stops="boot",
)
def next_boot_incompatible(subject: Subject) -> Iterator[Said]:
    """The next boot release is not compatible: it lacks memory, or skips a required step."""
    stand = {one.member: one for one in standings(subject.judged)}
    for member in subject.members:
        release, standing = _release(member.boot_image), stand.get(member.id, stand.get(None))
        if release is None or subject.order(member.boots, member.running) in (0, None):
            continue
        # Of what is wanted, upgrade-needs-step tells how it is reached.
        wanted = release.same_bytes(subject.wanted.goal_of(member.id))
        conditions = fit(standing, release).conditions if standing is not None else ()
        against = [
            each.seen
            for each in conditions
            if each.holds is False and each.of in (("memory",) if wanted else ("memory", "from"))
        ]
        if against:
            yield Said(
                member=member.id,
                place=member.walk.boots.at if member.walk.boots is not None else None,
                seen=f"the next boot is {release.file}, and {'; '.join(against)}",
            )


@rule(
    "target-does-not-fit",
    "warning",
    "A release does not boot on a device that lacks the memory, flash or hardware it needs.",
    "Set another target for this device in policy.toml, or remove the obstacle",
    "release-not-target",
    "recommended-newer",
    reads=("space",),
)
def target_does_not_fit(subject: Subject) -> Iterator[Said]:
    """No image of the target version is compatible with the device."""
    unfit, target = subject.wanted.unfit, subject.wanted.target
    if unfit is None or target is None:
        return
    if all(subject.order(member.running, target) == 0 for member in subject.members):
        return
    seen = f"target {target}: {unfit.release.file} is not compatible: {'; '.join(unfit.against)}"
    yield Said(member=None, place=None, seen=seen)


@rule(
    "target-unlisted",
    "warning",
    "A target that is not in the catalog can be neither planned nor proven.",
    "Import the release (ovek catalog import), or name another target in policy.toml",
    "release-not-target",
)
def target_unlisted(subject: Subject) -> Iterator[Said]:
    """The target version is not in the catalog, and another version is running."""
    target = subject.wanted.unlisted
    if target is None or all(subject.order(each.running, target) == 0 for each in subject.members):
        return
    seen, do = f"target {target}: no catalog lists it", None
    if (named := subject.wanted.namesake) is not None:
        seen = f"target {target}: no release in the catalog has that version"
        model = subject.judged.device.hardware.model or "MODEL"
        do = (
            f"If {named.file} is that version: ovek catalog annotate {typed(named.file, 'FILE')} "
            f"--version {typed(target, 'VERSION')} --hardware {typed(model, 'MODEL')}"
        )
    yield Said(member=None, place=None, seen=seen, do=do)


@rule(
    "target-hardware-unknown",
    "note",
    "A release without hardware in the catalog may be for another model.",
    "Add its hardware: ovek catalog annotate FILE --hardware MODEL",
)
def target_hardware_unknown(subject: Subject) -> Iterator[Said]:
    """The catalog does not say which hardware the target image is for."""
    files = [subject.wanted.release_of(member.id) for member in subject.members]
    model = subject.judged.device.hardware.model or "MODEL"
    wanted = {release.file: release for release in files if release is not None}
    for file, release in wanted.items():
        running = {member.running for member in subject.members}
        if release.hardware is None and any(
            subject.order(v, release.version) != 0 for v in running
        ):
            yield Said(
                member=None,
                place=None,
                seen=f"the catalog does not say which hardware {file} is for",
                do=f"If {file} is for this model: ovek catalog annotate {typed(file, 'FILE')} "
                f"--hardware {typed(model, 'MODEL')}",
            )


@rule(
    "release-not-target",
    "warning",
    "Policy names the release that these devices should run.",
    "Make space (ovek cleanup --room-for), copy it, set the boot order, reload in a window",
    "feature-track",
    "recommended-newer",
    stops="target",
    reads=("name",),
)
def release_not_target(subject: Subject) -> Iterator[Said]:
    """The running version is not the target version."""
    target = subject.wanted.target
    for member_id, version, members in _by_version(subject) if target is not None else ():
        if subject.order(version, target) == 0:
            continue
        release = subject.wanted.release_of(members[0].id)
        there = all(_has_target(subject, member) for member in members)
        asks = "recommended release" if subject.wanted.asks_recommended else "target"
        tracks = {
            ours.track for each in members if (ours := _release(each.running_image)) is not None
        }
        feature = "feature" in tracks
        aside = subject.wanted.track == "maintenance" and feature
        yield Said(
            member=member_id,
            place=None,
            seen=f"running {version}{' (feature track)' if aside else ''}; the {asks} is "
            f"{target}" + ("; a proven copy of it is already on the device" if there else ""),
            do=_upgrade(subject, release, members[0].id, there=there),
        )


def _has_target(subject: Subject, member: MemberSubject) -> bool:
    """Whether a member holds the image of the target that is for it, proven."""
    release = subject.wanted.release_of(member.id)
    return release is not None and any(
        release.same_bytes(image.judgement.release) and image.starts_members
        for image in member.proven
    )


def _upgrade(
    subject: Subject, release: KnownRelease | None, member: str, *, there: bool
) -> str | None:
    """How to get to the target; None where its file is not known."""
    way = None if release is None else way_to(subject.judged, release, subject.wanted, member)
    if way is not None and release is not None and way.hops is None:
        return f"Do not install it yet: {told_way(way, release)}"
    if there:
        return "Point the boot settings at it, save, and reload in a window"
    if release is None:
        return None
    device, image = typed(subject.judged.device.device, "DEVICE"), typed(release.file, "IMAGE")
    room = f"ovek cleanup {device} --room-for {image}"
    if subject.layout.holder == "banks" and not subject.layout.pair:
        return f"See which bank to write it to ({room}), then reload in a window"
    return f"Make space ({room}), copy it, set the boot order, and reload in a window"


@rule(
    "feature-track",
    "warning",
    "A feature release adds new functions as well as fixes.",
    "Install a release of the maintenance track",
    "recommended-newer",
    stops="target",
)
def feature_track(subject: Subject) -> Iterator[Said]:
    """The running version is from the feature track; policy wants the maintenance track."""
    for member_id, version, members in (
        _alike(subject) if subject.wanted.track == "maintenance" else ()
    ):
        release = _release(members[0].running_image) or _release(members[0].boot_image)
        if release is not None and release.track == "feature":
            seen = f"{version} is from the feature track; policy wants maintenance"
            yield Said(member=member_id, place=None, seen=seen)


@rule(
    "recommended-newer",
    "note",
    "The recommended release fixes known defects of older ones.",
    "Read its release notes, then plan the upgrade or set a target in policy.toml",
    stops="target",
)
def recommended_newer(subject: Subject) -> Iterator[Said]:
    """A recommended release is newer than the running one, and policy has no target."""
    if subject.wanted.target is not None:
        return
    for member_id, version, members in _by_version(subject):
        release = subject.wanted.goal_of(members[0].id)
        if release is not None and subject.order(release.version, version) == 1:
            seen = f"running {version}; {release.file} ({release.version}) is newer and recommended"
            yield Said(member=member_id, place=None, seen=seen)

"""Rules on which release runs and starts: what policy wants, and what the publisher says."""

from collections.abc import Iterator
from fnmatch import fnmatchcase

from ovek.engine.fit import fit, standings
from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.engine.wanted import told_hops, told_way, way_to
from ovek.model.typed import typed
from ovek.model.verdict import Image, KnownRelease


def _alike(subject: Subject) -> Iterator[tuple[str | None, str, list[MemberSubject]]]:
    """The members that run and start the same: which (None: all of them), the version, and they.

    A device whose members are alike is told of once, and what any of them starts counts.
    """
    groups: dict[tuple[object, ...], list[MemberSubject]] = {}
    for member in subject.members:
        if member.runs is not None:
            releases = _release(member.running), _release(member.starting)
            groups.setdefault((member.runs, member.starts, *releases), []).append(member)
    alone = len(groups) == 1
    for members in groups.values():
        yield None if alone else members[0].id, members[0].runs or "", members


def _by_version(subject: Subject) -> Iterator[tuple[str | None, str, list[MemberSubject]]]:
    """The members that run one version: which (None: all of them), the version, and they."""
    groups: dict[str, list[MemberSubject]] = {}
    for member in subject.members:
        if member.runs is not None:
            groups.setdefault(member.runs, []).append(member)
    alone = len(groups) == 1
    for version, members in groups.items():
        yield None if alone else members[0].id, version, members


def _release(image: Image | None) -> KnownRelease | None:
    return None if image is None else image.judgement.release


@rule(
    "release-withdrawn",
    "warning",
    "A publisher withdraws a release when it does harm.",
    "Move to the recommended release; ovek catalog pick says which",
    "release-not-allowed",
    "release-not-target",
    "recommended-newer",
    "feature-track",
    stops="target",
)
def release_withdrawn(subject: Subject) -> Iterator[Said]:
    """What runs or starts next is withdrawn by its publisher."""
    for member_id, version, members in _alike(subject):
        running, starting = _release(members[0].running), _release(members[0].starting)
        for release, does in ((running, "runs"), (starting, "starts next")):
            if release is not None and release.status == "withdrawn":
                note = f" ({release.note})" if release.note else ""
                told = release.version or version
                both = running is starting
                yield Said(
                    member=member_id,
                    place=None,
                    saw=f"{told} {'runs and starts next' if both else does}; its publisher has "
                    f"withdrawn {release.file}{note}",
                )
                break


@rule(
    "release-not-allowed",
    "warning",
    "Policy names the versions that are tested and supported here.",
    "Move to a version that policy allows, or allow this one",
    "release-not-target",
    "recommended-newer",
    "feature-track",
    stops="target",
)
def release_not_allowed(subject: Subject) -> Iterator[Said]:
    """What runs or starts next is none of the allowed versions."""
    allowed = subject.wanted.allowed
    for member_id, version, members in _alike(subject) if allowed is not None else ():
        assert allowed is not None
        wrong = {
            told: does
            for told, does in ((members[0].starts, "starts next"), (version, "runs"))
            if told is not None and not any(fnmatchcase(told, glob) for glob in allowed)
        }
        if wrong:
            told = " and ".join(f"{told} {does}" for told, does in wrong.items())
            target = subject.wanted.target
            yield Said(
                member=member_id,
                place=None,
                saw=f"{told}; policy allows {', '.join(allowed)}"
                + (f", and wants {target}" if target else ""),
            )


@rule(
    "upgrade-needs-step",
    "note",
    "An upgrade that skips a step it needs may leave a device that does not start.",
    "Go by the step in between; ovek catalog path shows every way",
    "release-not-target",
    "recommended-newer",
    stops="target",
)
def upgrade_needs_step(subject: Subject) -> Iterator[Said]:
    """The target cannot be reached directly from what runs."""
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
            told = f"the way is {version} → {told_hops(way.hops)}"
        pending = any(subject.order(each.starts, release.version) == 0 for each in members)
        cannot = "cannot be loaded from there directly" if way.hops else "there is no way to it"
        yield Said(
            member=member_id,
            place=None,
            saw=f"{version} runs, {release.file} is wanted, and {cannot}; {told}"
            + ("; the next reload starts it all the same" if pending else ""),
            severity="critical" if pending else "warning" if wanted.target is not None else None,
        )


@rule(
    "next-boot-incompatible",
    "critical",
    "A release that may not be loaded over what runs, or lacks memory, may not start at all.",
    "Point the boot settings at what runs or at the first install on the way, and save",
    "reload-pending",
    stops="boot",
)
def next_boot_incompatible(subject: Subject) -> Iterator[Said]:
    """The next reload starts a release that this member has too little for, or must not skip to."""
    stand = {one.member: one for one in standings(subject.judged)}
    for member in subject.members:
        release, standing = _release(member.starting), stand.get(member.id, stand.get(None))
        if release is None or subject.order(member.starts, member.runs) in (0, None):
            continue
        # Of what is wanted, upgrade-needs-step tells how it is reached.
        wanted = release.same_bytes(subject.wanted.goal_of(member.id))
        conditions = fit(standing, release).conditions if standing is not None else ()
        against = [
            each.saw
            for each in conditions
            if each.holds is False and each.of in (("memory",) if wanted else ("memory", "from"))
        ]
        if against:
            yield Said(
                member=member.id,
                place=member.walk.starts.at if member.walk.starts is not None else None,
                saw=f"a reload starts {release.file}, and {'; '.join(against)}",
            )


@rule(
    "target-does-not-fit",
    "warning",
    "A release that a device has no memory, no volume or no hardware for does not start there.",
    "Want another release of this device in policy.toml, or mend what is in the way",
    "release-not-target",
    "recommended-newer",
)
def target_does_not_fit(subject: Subject) -> Iterator[Said]:
    """No file of the wanted version fits the device."""
    unfit, target = subject.wanted.unfit, subject.wanted.target
    if unfit is None or target is None:
        return
    if all(subject.order(member.runs, target) == 0 for member in subject.members):
        return
    saw = f"{target} is wanted, and {unfit.release.file} does not fit: {'; '.join(unfit.against)}"
    yield Said(member=None, place=None, saw=saw)


@rule(
    "target-unlisted",
    "warning",
    "A target that no catalog lists can be neither brought nor proven.",
    "Import the release (ovek catalog import), or name another target in policy.toml",
    "release-not-target",
)
def target_unlisted(subject: Subject) -> Iterator[Said]:
    """Policy wants a version that no source lists, and something else runs."""
    target = subject.wanted.unlisted
    if target is None or all(subject.order(each.runs, target) == 0 for each in subject.members):
        return
    saw, do = f"{target} is wanted, and no catalog lists it", None
    if (named := subject.wanted.namesake) is not None:
        saw = f"{target} is wanted, and no release in the catalog has that version"
        model = subject.judged.device.hardware.model or "MODEL"
        do = (
            f"If {named.file} is that version: ovek catalog annotate {typed(named.file, 'FILE')} "
            f"--version {typed(target, 'VERSION')} --hardware {typed(model, 'MODEL')}"
        )
    yield Said(member=None, place=None, saw=saw, do=do)


@rule(
    "target-hardware-unknown",
    "note",
    "A release without hardware in the catalog may be for another model.",
    "Say for which hardware it is: ovek catalog annotate",
)
def target_hardware_unknown(subject: Subject) -> Iterator[Said]:
    """For which hardware the target's file is, the catalog does not say."""
    files = [subject.wanted.release_of(member.id) for member in subject.members]
    model = subject.judged.device.hardware.model or "MODEL"
    wanted = {release.file: release for release in files if release is not None}
    for file, release in wanted.items():
        runs = {member.runs for member in subject.members}
        if release.hardware is None and any(subject.order(v, release.version) != 0 for v in runs):
            yield Said(
                member=None,
                place=None,
                saw=f"for which hardware {file} is, the catalog does not say",
                do=f"If {file} is for this model: ovek catalog annotate {typed(file, 'FILE')} "
                f"--hardware {typed(model, 'MODEL')}",
            )


@rule(
    "release-not-target",
    "warning",
    "Policy names the release that these devices should run.",
    "Make room (ovek cleanup --room-for), copy it, set the boot order, and reload in a window",
    "feature-track",
    "recommended-newer",
    stops="target",
)
def release_not_target(subject: Subject) -> Iterator[Said]:
    """Another version runs than the target."""
    target = subject.wanted.target
    for member_id, version, members in _by_version(subject) if target is not None else ():
        if subject.order(version, target) == 0:
            continue
        release = subject.wanted.release_of(members[0].id)
        there = all(_has_target(subject, member) for member in members)
        asks = "recommended release" if subject.wanted.asks_recommended else "target"
        tracks = {ours.track for each in members if (ours := _release(each.running)) is not None}
        feature = "feature" in tracks
        aside = subject.wanted.track == "maintenance" and feature
        yield Said(
            member=member_id,
            place=None,
            saw=f"{version} runs{', of the feature track,' if aside else ''} and the {asks} is "
            f"{target}" + (", which is on the device already, proven" if there else ""),
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
        return f"Do not load it as it stands: {told_way(way, release)}"
    if there:
        return "Point the boot settings at it, save, and reload in a window"
    if release is None:
        return None
    device, image = typed(subject.judged.device.device, "DEVICE"), typed(release.file, "IMAGE")
    room = f"ovek cleanup {device} --room-for {image}"
    if subject.layout.holder == "banks" and not subject.layout.pair:
        return f"See which bank to write it to ({room}), then reload in a window"
    return f"Make room ({room}), copy it, set the boot order, and reload in a window"


@rule(
    "feature-track",
    "warning",
    "A feature release brings what is new along with what is mended.",
    "Move to a release of the maintenance track",
    "recommended-newer",
    stops="target",
)
def feature_track(subject: Subject) -> Iterator[Said]:
    """What runs is of the feature track, and policy wants maintenance."""
    for member_id, version, members in (
        _alike(subject) if subject.wanted.track == "maintenance" else ()
    ):
        release = _release(members[0].running) or _release(members[0].starting)
        if release is not None and release.track == "feature":
            saw = f"{version} is of the feature track; policy wants maintenance"
            yield Said(member=member_id, place=None, saw=saw)


@rule(
    "recommended-newer",
    "note",
    "What the publisher recommends mends what is known to be wrong in older releases.",
    "Read what it mends, then plan the upgrade, or set a target in policy.toml",
    stops="target",
)
def recommended_newer(subject: Subject) -> Iterator[Said]:
    """A recommended release is newer than what runs, and policy names no target."""
    if subject.wanted.target is not None:
        return
    for member_id, version, members in _by_version(subject):
        release = subject.wanted.goal_of(members[0].id)
        if release is not None and subject.order(release.version, version) == 1:
            saw = f"{version} runs; {release.file} ({release.version}) is newer and recommended"
            yield Said(member=member_id, place=None, saw=saw)

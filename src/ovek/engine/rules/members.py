"""Rules on the members of one device: what runs, what starts, and how each is set."""

from collections.abc import Iterator

from ovek.engine.rules import MemberSubject, Said, Subject, rule
from ovek.model.place import Place


@rule(
    "member-missing",
    "warning",
    "A missing member takes its ports down, and brings its old image back when it returns.",
    "Check its power and stacking cables; if it was removed for good, correct fleet.toml",
)
def member_missing(subject: Subject) -> Iterator[Said]:
    """The device has fewer members than fleet.toml lists."""
    for met in _lost(subject):
        yield Said(member=None, place=None, seen=met)


@rule(
    "member-added",
    "warning",
    "An unexpected member brings its own image and boot settings.",
    "Find out where it came from, install the others' release, and add it to fleet.toml",
)
def member_added(subject: Subject) -> Iterator[Said]:
    """The device has a member that fleet.toml does not list."""
    there = _there(subject)
    if there is None:
        return
    lost, strange, _ = there
    for member in strange[len(lost) :]:
        serial = member.one.hardware.serial
        seen = f"its serial number {serial} is not in fleet.toml; {_brings(member)}"
        yield Said(member=member.id, place=None, seen=seen)
    expected, number = subject.expected, len(subject.members)
    if expected is not None and not strange and expected.members and number > expected.members:
        seen = f"it has {number} members, fleet.toml expects {expected.members}"
        yield Said(member=None, place=None, seen=seen)


@rule(
    "member-swapped",
    "warning",
    "A replaced member brings its own image and boot settings.",
    "Give it the others' release and settings, and put its serial number into fleet.toml",
)
def member_swapped(subject: Subject) -> Iterator[Said]:
    """A member has another serial number than fleet.toml lists."""
    there = _there(subject)
    if there is None:
        return
    lost, strange, _ = there
    for serial, member in zip(lost, strange, strict=False):
        seen = f"its serial number is {member.one.hardware.serial}, where fleet.toml has {serial}; "
        yield Said(member=member.id, place=None, seen=seen + _brings(member))


def _lost(subject: Subject) -> Iterator[str]:
    """What is said of members that are not there."""
    there, expected, number = _there(subject), subject.expected, len(subject.members)
    if there is None or expected is None:
        return
    lost, strange, unsure = there
    # A member whose serial number is not known may be any of them.
    gone = lost[len(strange) :]
    for serial in gone if not unsure else ():
        yield f"the member with the serial number {serial} is not there"
    if (not gone or unsure) and expected.members and number < expected.members:
        yield f"it has {number} member{'s' if number != 1 else ''}, fleet.toml expects " + str(
            expected.members
        )


def _there(subject: Subject) -> tuple[list[str], list[MemberSubject], int] | None:
    """The serials that are gone, the members that are strange, and how many are not known.

    None where nothing is expected, or no member is known.
    """
    expected = subject.expected
    if expected is None or not subject.members:
        return None
    serials = {member.one.hardware.serial for member in subject.members}
    lost = [serial for serial in expected.serials if serial not in serials]
    strange = [
        member
        for member in subject.members
        if expected.serials and member.one.hardware.serial not in (None, *expected.serials)
    ]
    return lost, strange, sum(member.one.hardware.serial is None for member in subject.members)


def _brings(member: MemberSubject) -> str:
    """What a newcomer runs and starts."""
    running = f"running {member.running}" if member.running else "its running version is unknown"
    boots = member.walk.boots
    if boots is None:
        text = "would not boot again" if member.stranded else "its next boot is unknown"
    else:
        text = f"boots {boots.version or boots.place} next"
    return f"{running} and {text}"


def _told(versions: dict[str, list[str]], verb: str) -> str:
    return ", ".join(
        f"member{'s' if len(ids) > 1 else ''} {' and '.join(ids)} {verb}"
        f"{'' if len(ids) > 1 else 's'} {version}"
        for version, ids in versions.items()
    )


def _grouped(subject: Subject, name: str) -> dict[str, list[str]] | None:
    """The members by what they run or start; None where some is not known."""
    groups: dict[str, list[str]] = {}
    for member in subject.members:
        version = getattr(member, name)
        if version is None:
            return None
        groups.setdefault(version, []).append(member.id)
    return groups


@rule(
    "member-versions-differ",
    "warning",
    "Members with different versions may fail to join the stack after the next reload.",
    "Copy the image to every member, set its boot order to it, and reload in a window",
    "member-boots-differ",
    "member-target-missing",
    "release-not-target",
    "recommended-newer",
    stops="target",
)
def member_versions_differ(subject: Subject) -> Iterator[Said]:
    """Two members run different versions."""
    if len(subject.members) < 2:
        return
    known: dict[str, list[str]] = {}
    for member in subject.members:
        if member.running is not None:
            known.setdefault(member.running, []).append(member.id)
    if len(known) < 2:
        return
    boots = _grouped(subject, "boots")
    if boots is None:
        after = "the next boot of some is unknown"
    elif len(boots) == 1:
        after = f"a reload boots {next(iter(boots))} on all of them"
    else:
        after = "a reload does not change that" if boots == known else _told(boots, "boot")
    lacking = _lacking(subject)
    if lacking:
        after += f"; member {', '.join(one.id for one in lacking)} has no copy of the target image"
    target = subject.wanted.target
    yield Said(
        member=None,
        place=None,
        seen=f"{_told(known, 'run')}; {after}",
        whole=target is None or any(subject.order(one, target) == 0 for one in known),
    )


@rule(
    "member-boots-differ",
    "warning",
    "Members that boot different versions may fail to join the stack after a reload.",
    "Point the boot settings of every member at the same release, and save",
    "member-settings-differ",
    "member-target-missing",
    stops="boot",
)
def member_boots_differ(subject: Subject) -> Iterator[Said]:
    """Two members boot different versions next, and run the same now."""
    if len(subject.members) > 1 and subject.walk.members_differ:
        seen = _told(_grouped(subject, "boots") or {}, "boot")
        yield Said(member=None, place=None, seen=seen + " at the next reload")


@rule(
    "member-target-missing",
    "note",
    "A member without the target image stays on the old version after the upgrade.",
    "Copy the target image to that member, too",
    stops="target",
)
def member_target_missing(subject: Subject) -> Iterator[Said]:
    """Some member has a proven copy of the target image, and another has none."""
    for member in _lacking(subject):
        release = subject.wanted.release_of(member.id)
        assert release is not None
        volume = subject.judged.judge.sheet.boot.default_volume or "flash"
        yield Said(
            member=member.id,
            place=Place(volume, release.file),
            seen="the target image is on other members but not on this one",
        )


def _lacking(subject: Subject) -> list[MemberSubject]:
    """The members without the target image for them, where some other member has its own."""
    if len(subject.members) < 2:
        return []
    lacking = [member for member in subject.members if _lacks(subject, member)]
    return lacking if len(lacking) < len(subject.members) else []


def _lacks(subject: Subject, member: MemberSubject) -> bool:
    """Whether a member surely lacks the target image that is for it."""
    release, volumes = subject.wanted.release_of(member.id), member.one.member.volumes
    if release is None or volumes is None or any(each.files is None for each in volumes):
        return False
    there = any(release.same_bytes(image.judgement.release) for image in member.proven)
    return not there and subject.order(member.boots, release.version) != 0


@rule(
    "member-settings-differ",
    "note",
    "Members with different boot settings may boot different images after a change.",
    "Give all members the same boot settings, and save",
    stops="nothing",
)
def member_settings_differ(subject: Subject) -> Iterator[Said]:
    """The boot settings of two members differ, though their next boots do not."""
    if len(subject.members) < 2 or subject.walk.members_differ:
        return
    settings: dict[object, list[str]] = {}
    names: dict[object, str] = {}
    for member in subject.members:
        told = _settings(member)
        if told is None:
            return
        alike = _meant(subject, member) or told
        names.setdefault(alike, told)
        settings.setdefault(alike, []).append(member.id)
    if len(settings) > 1:
        seen = "; ".join(f"member {', '.join(ids)}: {names[a]}" for a, ids in settings.items())
        yield Said(member=None, place=None, seen=seen)


def _meant(subject: Subject, member: MemberSubject) -> object:
    """What the settings of a member come to where each entry is a proven image; else None.

    Members of different hardware may need different files of one version.
    """
    boot = member.one.member.boot
    images = [
        subject.judged.image(each.at) if each.at is not None else None for each in member.cited
    ]
    if boot is None or not images or any(image is None or not image.version for image in images):
        return None
    if (
        len({member.one.hardware.model for member in subject.members}) < 2
        and len({member.one.hardware.revision for member in subject.members}) < 2
    ):
        return None
    versions = tuple(image.version for image in images if image is not None)
    return versions, boot.mode.effective, boot.default_bank.effective


def _settings(member: MemberSubject) -> str | None:
    """The settings of a member in words; None where they are not known."""
    boot = member.one.member.boot
    if boot is None:
        return None
    order = boot.order.effective
    mode, default = boot.mode.effective, boot.default_bank.effective
    parts = []
    if order is not None:
        names = [str(entry.at.on(None)) if entry.at is not None else entry.shown for entry in order]
        parts.append(f"order {', '.join(names) or 'empty'}")
    parts += [f"mode {mode}"] if mode else []
    parts += [f"default bank {default}"] if default else []
    return "; ".join(parts) or None

"""Similar devices share results: what is the same for all devices of one shape is found once.

Most devices of a fleet have the same model, images and boot settings as many others. They differ
in their name, times, free space, logs and configuration files. The outline of a device is the
device without those. Most rules say the same about all devices with one outline. A rule that looks
further declares it (`reads`), and is asked about every device.

1. A rule that declares nothing says the same about a device and about its outline.
2. If one device has no step left, then no other device with its outline has, provided that: the
   rules that look further say nothing about it that a step could end, no digest is old, and each
   volume for images has its reserve.
3. A device has no shape if a listing cut names, if a reload is scheduled, or if a waiver or an
   expectation in the fleet file names it.
"""

from collections.abc import Hashable
from datetime import datetime
from fnmatch import fnmatchcase
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from ovek.engine.layouts.writing import image_volume
from ovek.engine.rules import Rule, Subject
from ovek.engine.run_rules import LOOK_FURTHER, ORDER, RuleFindings, run_rules, uncovered
from ovek.engine.times import proof_is_old
from ovek.engine.verdicts import JudgedMember
from ovek.model.bound import EPOCH
from ovek.model.snapshot import Device, File, Hardware, Member, Volume
from ovek.model.waiver import Waiver

# Rules that look at more than the outline of which no step of a plan ends what they say.
_NO_STEP = frozenset({"snapshot-old", "clock-off"})
_NAME = frozenset({"name"})
_MOST = 20_000
_encode = msgspec.json.Encoder(order="deterministic").encode

Shape = tuple[Hashable, bytes]


class _Known(NamedTuple):
    """What the rules said of a shape that look at nothing more.

    `asked` are the rules that each device of it is asked, `planned` is whether its plan is known.
    """

    findings: tuple[RuleFindings, ...]
    asked: list[Rule]
    planned: bool


class Shapes:
    """What rules said of each shape, where that may be shared.

    `plans` is whether it is shared only by devices on which no step is left, so that no plan of
    them need be sought.
    """

    def __init__(self, *, plans: bool) -> None:
        self.plans = plans
        self._known: dict[Shape, _Known] = {}

    def find(self, shape: Shape, subject: Subject) -> list[RuleFindings] | None:
        """What the rules find on a device of a shape that was met before.

        None where it was not, or where a step may be left on this device.
        """
        known = self._known.get(shape)
        if known is None:
            return None
        own = list(run_rules(subject, known.asked))
        if not self._is_shared(subject, own) or (own and not known.planned):
            return None
        return uncovered(sorted((*known.findings, *own), key=_place_in_order), subject)

    def keep(
        self, shape: Shape, subject: Subject, findings: list[RuleFindings], *, planned: bool
    ) -> None:
        """Keep what all rules said of a device.

        `planned` is whether its plan was made, and leaves no step. (None is made of a device on
        which nothing was found.)
        """
        if not self._is_shared(subject, [each for each in findings if each.rule.reads]):
            return
        # What a rule says that looks at the name, and nothing more, is or is not for a shape.
        spoke = {each.rule.slug for each in findings}
        asked = [rule for rule in LOOK_FURTHER if not rule.reads <= _NAME or rule.slug in spoke]
        if len(self._known) >= _MOST:
            self._known.clear()
        shared = tuple(each for each in findings if not each.rule.reads)
        self._known[shape] = _Known(shared, asked, planned or not self.plans)

    def _is_shared(self, subject: Subject, own: list[RuleFindings]) -> bool:
        """Whether a device shares results; `own` is what the rules that look further say about it.

        Where plans count, it does not if a step could end some of that.
        """
        return not self.plans or not (
            any(_may_end(each) for each in own) or _is_short(subject) or _has_old_digest(subject)
        )


def _may_end(finding: RuleFindings) -> bool:
    """Whether a step may end what a rule says that looks at more than the outline and the name."""
    return finding.rule.slug not in _NO_STEP and not finding.rule.reads <= _NAME


def _place_in_order(finding: RuleFindings) -> int:
    return ORDER[finding.rule.slug]


def _is_short(subject: Subject) -> bool:
    """Whether a volume for images has less than its reserve."""
    sheet, policy = subject.judged.judge.sheet, subject.policy
    for member in subject.members:
        volume = image_volume(sheet, member.one.member)
        if volume is not None and volume.free is not None:
            reserve = policy.reserve_of(volume.capacity)
            if reserve is not None and volume.free < reserve:
                return True
    return False


def _has_old_digest(subject: Subject) -> bool:
    """Whether any digest was read longer ago than policy wants, of whatever use the image is."""
    policy = subject.policy
    most = min(policy.oldest_start_digest, policy.oldest_digest)
    return any(
        proof_is_old(subject.times, file.digests_at, most, policy.oldest_snapshot)
        for member in subject.members
        for image in member.one.images.values()
        if (file := image.file) is not None and file.digests_at is not None
    )


def shape_of(subject: Subject, wanted: Hashable, waivers: tuple[Waiver, ...]) -> Shape | None:
    """The shape of a device; None if it has none.

    `wanted` tells what is wanted of it from what is wanted of others.
    """
    device = subject.judged.device
    if (
        device.reload_at is not None
        or subject.expected is not None
        or any(one.cut for one in subject.judged.members or ())
        or any(fnmatchcase(device.device, waiver.device) for waiver in waivers)
    ):
        return None
    return wanted, _encode(outline(subject))


def outline(subject: Subject) -> Device:
    """A device without its name, times, sizes of volumes, and files that nothing looks for."""
    judged = subject.judged
    device, config = judged.device, judged.device.config
    if config is not None and config.backed_up_at is not None:
        config = replace(config, backed_up_at=EPOCH)
    return replace(
        device,
        device="outline",
        taken_at=EPOCH,
        clock=_at_all(device.clock),
        source=None,
        hardware=_hardware(device.hardware),
        config=config,
        members=None
        if device.members is None
        else tuple(_member(one, subject) for one in judged.members or ()),
    )


def _at_all(time: datetime | None) -> datetime | None:
    return None if time is None else EPOCH


def _hardware(hardware: Hardware) -> Hardware:
    return hardware if hardware.serial is None else replace(hardware, serial="serial")


def _member(one: JudgedMember, subject: Subject) -> Member:
    member = one.member
    return replace(
        member,
        hardware=None if member.hardware is None else _hardware(member.hardware),
        volumes=None
        if member.volumes is None
        else tuple(_volume(volume, one, subject) for volume in member.volumes),
    )


def _volume(volume: Volume, one: JudgedMember, subject: Subject) -> Volume:
    """A volume with the files that are images, or that something names."""
    files = None
    if volume.files is not None:
        kept = {place.path for place in one.images if place.volume == volume.name}
        for path in _named(volume, one, subject) - kept:
            kept |= {file.path for file in volume.files_at(path)}
        files = tuple([_file(file) for file in volume.files if file.path in kept])
    return replace(
        volume,
        capacity=None if volume.capacity is None else 2**60,
        free=None if volume.free is None else 2**59,
        files=files,
    )


def _named(volume: Volume, one: JudgedMember, subject: Subject) -> set[str]:
    """The paths on a volume that settings, sets, banks or what runs name."""
    places = [*one.named.started, *one.named.loaded]
    places += [place for bank in one.member.banks or () for place in bank.files]
    running = subject.judged.device.running.at
    if running is not None:
        places.append(running)
    paths = {place.path for place in places if place.volume == volume.name}
    for file_set in volume.sets or ():
        paths |= {file_set.set_file, *file_set.packages}
    return paths


def _file(file: File) -> File:
    if file.modified is None and file.digests_at is None:
        return file
    return replace(file, modified=_at_all(file.modified), digests_at=_at_all(file.digests_at))

"""What figures of a fleet are drawn of."""

from collections.abc import Iterator
from datetime import datetime
from typing import TypeVar

from ovek.app.devices import Devices
from ovek.app.policy import check_policy, contradiction, wants_of
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine.bootwalk import walk_device
from ovek.engine.compare import on_target
from ovek.engine.flash import flash_of
from ovek.engine.rules import Subject, subject_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import standing_images
from ovek.engine.wanted import ContradictionError
from ovek.model.charted import Charted, ChartedImage
from ovek.model.finding import AuditedStart
from ovek.model.ofdevice import of_device
from ovek.model.results.figures import FlashFigure, VerdictsFigure, VersionsFigure

F = TypeVar("F", FlashFigure, VersionsFigure, VerdictsFigure)


def figure(kind: type[F], devices: Devices) -> F:
    """What a figure of devices is drawn of. Raises InputError."""
    now = now_of(devices.site)
    check_policy(devices.site, devices.releases)
    charted = [one for part in each_part(devices, _CHART, now) for one in part]
    return kind(caption=devices.caption(now), devices=charted)


def _charting(devices: Devices, now: datetime) -> Part[list[Charted]]:
    """What looks at some devices of a site."""
    wants = wants_of(devices)

    def chart(line: DeviceLine) -> Charted:
        judged = line.judged()
        device = judged.device
        try:
            wanted = wants.of(judged)
        except ContradictionError as error:
            raise contradiction(devices.site, error) from None
        walk, times = walk_device(judged), times_of(device, now)
        subject = subject_of(judged, walk, wants.policy, wanted, times)
        return Charted(
            **of_device(device),
            target=wanted.target,
            on_target=on_target(judged, subject.walk, wanted.target),
            boots=tuple(
                AuditedStart(
                    member=member.id, running=member.running, place=None, version=member.boots
                )
                for member in subject.members
            ),
            images=tuple(_images(subject)),
            flash=flash_of(subject),
        )

    return lambda lines: list(map(chart, lines))


def _images(subject: Subject) -> Iterator[ChartedImage]:
    needed = {member.id: member.needed for member in subject.members}
    for standing_image in standing_images(subject.judged):
        place = standing_image.image.place
        name = (
            standing_image.release
            if standing_image.release is not None
            else place.path.rpartition("/")[2]
        )
        yield ChartedImage(
            name or str(place),
            standing_image.judgement.verdict,
            place in needed[standing_image.member],
        )


_CHART = Work(_charting, list[Charted])

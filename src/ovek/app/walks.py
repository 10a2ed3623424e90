"""What each device boots next, and what it would boot if something changed."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict, replace

from ovek.app.answering import Answering, with_unread
from ovek.app.devices import Devices
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.shelves import shelf_facts
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import JudgedDevice, judge_device
from ovek.engine.whatif import NoSuchPlaceError, suppose
from ovek.files.errors import InputError
from ovek.model.answer import Answered
from ovek.model.finding import Severity, reaches
from ovek.model.ofdevice import of_device
from ovek.model.place import PlaceError
from ovek.model.results import tally_of
from ovek.model.results.figures import WalkFigure
from ovek.model.results.walks import FleetWalks
from ovek.model.shelf import ShelfFacts
from ovek.model.usage import UsageError
from ovek.model.walk import DeviceWalk, NextBoot
from ovek.model.whatif import WhatIf

_SEVERITIES: dict[NextBoot, Severity] = {
    "stranded": "critical",
    "unknown": "warning",
    "unproven": "warning",
}


def boot_walks(
    devices: Devices, now: datetime | None = None, *, what_if: WhatIf | None = None
) -> FleetWalks:
    """Walk the next boot of devices: what each member starts, and why not another.

    With a what-if `.devices` are the walks as they would be, and `.as_it_is` as they are. Raises
    InputError, UsageError.

    >>> from ovek import boot_walks, open_site, select
    >>> (quay,) = boot_walks(select(open_site("skerrow-ferries"), ["arle-quay"])).devices
    >>> quay.running, quay.member("1").boots.version
    ('7.4.1', '7.2.5')
    """
    now, what = now or now_of(devices.site), what_if or WhatIf()
    shelf = shelf_facts(devices.site, devices.releases, bar=devices.bar)
    walked = _Walked()
    if what == WhatIf():
        for part in each_part(devices, _WALKS, now, shelf):
            walked.walks += part.walks
            walked.answers += part.answers
    else:
        answering = Answering(devices, now, shelf)
        for supposed, as_is in _supposed(devices, what):
            walked.add(supposed, answering)
            walked.as_it_is.append(_walk(as_is, answering.answer(as_is)))
    answered = with_unread(devices, walked.answers)
    return FleetWalks(
        **asdict(devices.context(now)),
        not_read=devices.not_read,
        answered=answered,
        devices=walked.walks,
        answers=tally_of(answered),
        supposed=what.words(),
        as_it_is=walked.as_it_is,
    )


def severe(result: FleetWalks, fail_on: str) -> bool:
    """Whether a device is a no-go, or what it starts is at or above a severity."""
    no_go = any(one.answer == "no-go" for one in result.answered) and reaches("critical", fail_on)
    return no_go or any(reaches(_SEVERITIES.get(one.next_boot), fail_on) for one in result.devices)


def walk_figure(devices: Devices, what_ifs: list[WhatIf]) -> WalkFigure:
    """The walk of the one device, as it is and with each what-if.

    Without a what-if it is that the image that starts next is bad. Raises InputError, UsageError.
    """
    found = list(devices)
    if not found and devices.not_read:
        lost = devices.not_read[0]
        raise InputError(devices.file, f"has no reading of {lost.device!r}: {lost.why}", lost.do)
    if len(found) != 1:
        raise UsageError("chart walk draws one device: ovek chart walk DEVICE")
    judged = judge_device(*found[0])
    as_is = _walk(judged)
    if not what_ifs:
        boots = [one.boots for one in as_is.members if one.boots is not None]
        several = len(as_is.members) > 1
        places = [one.at if several else one.at.on(None) for one in boots if one.at is not None]
        bad = tuple(dict.fromkeys(map(str, places)))
        what_ifs = [WhatIf(bad=bad)] if bad else []
    walks = [("as it is", as_is)]
    for what in what_ifs:
        supposed = _suppose(judged, what, devices.file, judged.device.device)
        walks.append((f"if {' and '.join(what.words())}", _walk(supposed)))
    return WalkFigure(caption=devices.caption(now_of(devices.site)), walks=walks)


class _Walked(Struct):
    """The walks of some devices with their answers; with what-ifs, also the walks as they are."""

    walks: list[DeviceWalk] = []
    answers: list[Answered] = []
    as_it_is: list[DeviceWalk] = []

    def add(self, judged: JudgedDevice, answering: Answering) -> None:
        """Walk one device."""
        answer = answering.answer(judged)
        self.walks.append(_walk(judged, answer))
        self.answers.append(answer)


def _walking(devices: Devices, now: datetime, shelf: ShelfFacts | None) -> Part[_Walked]:
    """What walks some devices of a site."""
    answering = Answering(devices, now, shelf)

    def walk_part(lines: Iterable[DeviceLine]) -> _Walked:
        walked = _Walked()
        for line in lines:
            walked.add(line.judged(), answering)
        return walked

    return walk_part


_WALKS = Work(_walking, _Walked)


def _supposed(devices: Devices, what: WhatIf) -> Iterator[tuple[JudgedDevice, JudgedDevice]]:
    """Go through the devices as they would be, each with itself as it is.

    Those without a place that is meant are left out. Raises InputError where a device that was
    named has not such a place, or none has.
    """
    lacking, some = None, False
    for one, judge in devices:
        judged = judge_device(one, judge)
        named = bool(devices.named)
        try:
            supposed = _suppose(judged, what, devices.file, one.device if named else "any device")
        except InputError as error:
            if named:
                raise
            lacking = lacking or error
            continue
        some = True
        yield supposed, judged
    if lacking is not None and not some:
        raise lacking


def _suppose(judged: JudgedDevice, what: WhatIf, file: Path, whose: str) -> JudgedDevice:
    """A device as it would be. Raises InputError where it has no such place, UsageError."""
    try:
        return suppose(judged, what)
    except NoSuchPlaceError as error:
        do = f"Did you mean {error.near!r}?" if error.near else "List them: ovek bootwalk"
        raise InputError(file, f"{whose} has no {error.place!r}", do) from None
    except PlaceError as error:
        raise UsageError(str(error)) from None


def _walk(judged: JudgedDevice, answer: Answered | None = None) -> DeviceWalk:
    """The walk of a device, with what every result tells of it."""
    walk = replace(walk_device(judged), **of_device(judged.device))
    if answer is None:
        return walk
    return replace(walk, answer=answer.answer, why=answer.detail)

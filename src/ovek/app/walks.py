"""What each device starts next, and what if something were otherwise."""

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict, replace

from ovek.app.answering import Answering, with_unread
from ovek.app.devices import Devices
from ovek.app.selection import now_of
from ovek.app.shelves import shelf_facts
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
    answering = Answering(devices, now, shelf)
    walks, as_it_is, answered = list[DeviceWalk](), list[DeviceWalk](), list[Answered]()
    for one in _supposed(devices, what):
        answer = answering.answer(one.judged)
        walks.append(_walk(one.judged, answer))
        answered.append(answer)
        if one.as_is is not None:
            as_it_is.append(_walk(one.as_is, answering.answer(one.as_is)))
    answered = with_unread(devices, answered)
    return FleetWalks(
        **asdict(devices.context(now)),
        not_read=devices.not_read,
        answered=answered,
        devices=walks,
        answers=tally_of(answered),
        supposed=what.words(),
        as_it_is=as_it_is,
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


class _Supposed(Struct):
    """A device as it is taken to be, and as it is where that is something else."""

    judged: JudgedDevice
    as_is: JudgedDevice | None = None


def _supposed(devices: Devices, what: WhatIf) -> Iterator[_Supposed]:
    """Go through the devices as they would be; those without a place that is meant are left out.

    Raises InputError where a device that was named has not such a place, or none has.
    """
    lacking, some = None, False
    for one, judge in devices:
        judged = judge_device(one, judge)
        if what == WhatIf():
            yield _Supposed(judged)
            continue
        named = bool(devices.named)
        try:
            supposed = _suppose(judged, what, devices.file, one.device if named else "any device")
        except InputError as error:
            if named:
                raise
            lacking = lacking or error
            continue
        some = True
        yield _Supposed(supposed, judged)
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

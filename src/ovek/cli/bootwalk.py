"""`ovek bootwalk`: what does each device start on next?"""

from collections.abc import Iterator
from pathlib import Path

import click
from msgspec import Struct
from msgspec.structs import replace

from ovek.app.answering import Answering, tally_of, with_unread
from ovek.app.devices import Devices
from ovek.app.shelves import shelf_facts
from ovek.cli.asof import as_of_options
from ovek.cli.command import Command
from ovek.cli.completing import places
from ovek.cli.options import exit_code, fail_on_option, reaches, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, device_options
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import JudgedDevice, judge_device
from ovek.engine.whatif import NoSuchPlaceError, WhatIf, suppose
from ovek.files.errors import InputError
from ovek.model.answer import Answered
from ovek.model.finding import Severity
from ovek.model.ofdevice import of_device
from ovek.model.place import PlaceError
from ovek.model.walk import DeviceWalk, Reload
from ovek.render.unread import Unreads

SEVERITIES: dict[Reload, Severity] = {
    "stranded": "critical",
    "unknown": "warning",
    "unproven": "warning",
}


@click.command(
    "bootwalk",
    cls=Command,
    examples=("bootwalk arle-quay", "bootwalk brack-hall --if-saved"),
)
@click.option(
    "--if-missing",
    multiple=True,
    metavar="PLACE",
    shell_complete=places,
    help="What if this file, bank or volume were gone?",
)
@click.option(
    "--if-bad",
    multiple=True,
    metavar="PLACE",
    shell_complete=places,
    help="What if this file or bank were bad?",
)
@click.option("--if-saved", is_flag=True, help="What if the live boot settings were saved now?")
@click.option("-v", "--verbose", is_flag=True, help="Name every device that is held back.")
@as_of_options
@device_options()
@fail_on_option
def command(
    if_missing: tuple[str, ...],
    if_bad: tuple[str, ...],
    if_saved: bool,
    verbose: bool,
    selected: Selection,
    format_: str,
    fail_on: str,
) -> None:
    """What does each DEVICE (a name or glob) start on next, and what if? (default: all)

    Tries every candidate as the boot loader would, in order, and gives the reason for each. A
    stranded device counts as critical, an unproven or unknown start as a warning. The what-ifs may
    be repeated and put together; nothing is touched. A PLACE is volume:path, volume: or bank:name,
    with the member in front where one member is meant (2/flash:…).
    """
    what = WhatIf(missing=if_missing, bad=if_bad, saved=if_saved)
    devices, now = selected.devices(), selected.now
    answering = Answering(devices, now, shelf_facts(devices.site, devices.releases, bar=bytes_bar))
    walks, answers = list[DeviceWalk](), list[Answered]()
    before = list[DeviceWalk]()
    for one in _supposed(devices, what, named=bool(selected.names)):
        answer = answering.answer(one.judged)
        walks.append(_told(one.judged, answer))
        answers.append(answer)
        if one.as_is is not None:
            before.append(_told(one.as_is, answering.answer(one.as_is)))
    answers = with_unread(devices, answers)
    context = devices.context(now, selected.told())
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        tally = tally_of(answers)
        not_read = devices.not_read
        whole = json.bootwalk(context, walks, what.told(), before, not_read, tally)
        write_json(whole, format_, "devices")
    else:
        from ovek.render.answer import when
        from ovek.render.bootwalk import bootwalk

        unread = Unreads(devices.not_read, now)
        told, night = what.told(), when(context)
        lines = bootwalk(walks, answers, told, before, unread, night=night, whole=verbose)
        write_lines(lines)
    no_go = any(one.answer == "no-go" for one in answers) and reaches("critical", fail_on)
    severe = (SEVERITIES.get(walk.reload) for walk in walks)
    exit_code(no_go or any(reaches(each, fail_on) for each in severe), devices)


class _Supposed(Struct):
    """A device as it is taken to be, and as it is where that is something else."""

    judged: JudgedDevice
    as_is: JudgedDevice | None = None


def _supposed(devices: Devices, what: WhatIf, *, named: bool) -> Iterator[_Supposed]:
    """Go through the devices as they would be; those without a place that is meant are left out.

    Raises InputError where a device that was named has not such a place, or none has.
    """
    near, some = None, False
    for one, judge in devices:
        judged = judge_device(one, judge)
        if what == WhatIf():
            yield _Supposed(judged)
            continue
        try:
            supposed = suppose(judged, what)
        except NoSuchPlaceError as error:
            if named:
                raise no_such_place(devices.file, one.device, error) from None
            near = near or no_such_place(devices.file, "any device", error)
            continue
        except PlaceError as error:
            raise click.UsageError(str(error)) from None
        some = True
        yield _Supposed(supposed, judged)
    if near is not None and not some:
        raise near


def _told(judged: JudgedDevice, answer: Answered) -> DeviceWalk:
    """The walk of a device, with what every result tells of it."""
    walk = walk_device(judged)
    return replace(walk, **of_device(judged.device), answer=answer.answer, why=answer.detail)


def no_such_place(file: Path, device: str, error: NoSuchPlaceError) -> InputError:
    """The error that a device has no such place, with the nearest one that it has."""
    do = f"Did you mean {error.near!r}?" if error.near else "See ovek bootwalk for its places"
    return InputError(file, f"{device} holds no {error.place!r}", do)

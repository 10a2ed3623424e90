"""`ovek chart`: figures of a fleet, as a file or as text in the terminal."""

import sys
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import click
from msgspec.structs import replace

from ovek.app.devices import Devices
from ovek.app.policy import check_policy, contradiction, wants_of
from ovek.app.shelves import shelf_facts
from ovek.app.work import Work
from ovek.cli.bootwalk import no_such_place
from ovek.cli.command import Group
from ovek.cli.completing import places
from ovek.cli.fleetwide import each_part
from ovek.cli.options import SITE, SNAPSHOT, exit_code, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.selection import Selection, selecting
from ovek.engine.bootwalk import walk_device
from ovek.engine.compare import on_target
from ovek.engine.flash import flash_of
from ovek.engine.rules import Subject, subject_of
from ovek.engine.times import times_of
from ovek.engine.verdicts import Judge, JudgedDevice, judge_device
from ovek.engine.wanted import ContradictionError
from ovek.engine.whatif import NoSuchPlaceError, WhatIf, suppose
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.whole import write_whole
from ovek.model.age import AgeError, parse_age
from ovek.model.charted import Charted, ChartedImage
from ovek.model.finding import AuditedStart
from ovek.model.ofdevice import of_device
from ovek.model.place import PlaceError
from ovek.model.snapshot import Device
from ovek.model.walk import DeviceWalk

_FORMS = (".png", ".svg")


@click.group("chart", cls=Group)
def command() -> None:
    """Figures of the fleet: a PNG or SVG with -o FILE, else bars of text in the terminal."""


def _output(ctx: click.Context, param: click.Parameter, value: Path | None) -> Path | None:
    if value is not None and value.suffix.lower() not in _FORMS:
        raise click.BadParameter(f"{value.name!r} has to end in .png or .svg")
    return value


def _figure_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Add -o and --ascii."""
    output = click.option(
        "-o",
        "--output",
        metavar="FILE",
        type=click.Path(path_type=Path),
        callback=_output,
        help="Draw it into this file (.png or .svg).",
    )
    ascii_ = click.option(
        "--ascii", "plain", is_flag=True, help="Bars of plain ASCII in the terminal."
    )
    return output(ascii_(function))


@command.command("flash", examples=("chart flash", "chart flash 'arle-*' -o flash.png"))
@_figure_options
@SNAPSHOT
@selecting
def flash_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """What is on flash by content, to scale, and has the target's image room there?"""
    from ovek.render.charts import flash

    _of_devices(output, plain, selected, flash)


@command.command("versions", examples=("chart versions", "chart versions -o versions.svg"))
@_figure_options
@SNAPSHOT
@selecting
def versions_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """Which versions run at which site, against the target?"""
    from ovek.render.charts import versions

    _of_devices(output, plain, selected, versions)


@command.command("verdicts", examples=("chart verdicts", "chart verdicts -o verdicts.png"))
@_figure_options
@SNAPSHOT
@selecting
def verdicts_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """What is every image on every flash worth: devices by images?"""
    from ovek.render.charts import verdicts

    _of_devices(output, plain, selected, verdicts)


@command.command(
    "walk",
    examples=("chart walk arle-quay", "chart walk arle-quay -o walk.png"),
)
@click.option(
    "--if-missing", multiple=True, metavar="PLACE", shell_complete=places,
    help="Beside it: what if this file, bank or volume were gone?",
)  # fmt: skip
@click.option(
    "--if-bad", multiple=True, metavar="PLACE", shell_complete=places,
    help="Beside it: what if this file or bank were bad?",
)  # fmt: skip
@click.option("--if-saved", is_flag=True, help="Beside it: what if the live settings were saved?")
@_figure_options
@SNAPSHOT
@selecting
def walk_command(
    if_missing: tuple[str, ...],
    if_bad: tuple[str, ...],
    if_saved: bool,
    output: Path | None,
    plain: bool,
    selected: Selection,
) -> None:
    """The boot walk of one DEVICE as a path, with what-ifs beside it.

    Without a what-if it shows what would happen were the image that starts next bad.
    """
    devices = selected.devices()
    found = list(devices)
    if not found and devices.not_read:
        lost = devices.not_read[0]
        raise InputError(devices.file, f"tells nothing of {lost.device!r}: {lost.why}", lost.do)
    if len(found) != 1:
        told = f"{len(found)} devices are meant; name one: ovek chart walk DEVICE"
        raise click.UsageError(told)
    judged = judge_device(*found[0])
    what_ifs = [
        *(WhatIf(missing=(each,)) for each in if_missing),
        *(WhatIf(bad=(each,)) for each in if_bad),
        *([WhatIf(saved=True)] if if_saved else []),
    ]
    walks = [("as it is", _walk(judged))]
    if not what_ifs:
        starts = [one.starts for one in walks[0][1].members if one.starts is not None]
        several = len(walks[0][1].members) > 1
        there = [each.at if several else each.at.on(None) for each in starts if each.at is not None]
        bad = tuple(dict.fromkeys(map(str, there)))
        what_ifs = [WhatIf(bad=bad)] if bad else []
    walks += [_supposed(devices, judged, what) for what in what_ifs]
    if output is not None:
        from ovek.render.charts import walk

        _write(output, walk.draw(_kind(output), walks, devices.caption(selected.now)))
    else:
        from ovek.render.bootwalk import path

        write_lines(line for told, each in walks for line in path(told, each))
    exit_code(False, devices)


def _supposed(devices: Devices, judged: JudgedDevice, what: WhatIf) -> tuple[str, DeviceWalk]:
    """A what-if in words, and the walk then."""
    try:
        return f"if {' and '.join(what.told())}", _walk(suppose(judged, what))
    except NoSuchPlaceError as error:
        raise no_such_place(devices.file, judged.device.device, error) from None
    except PlaceError as error:
        raise click.UsageError(str(error)) from None


def _walk(judged: JudgedDevice) -> DeviceWalk:
    return replace(walk_device(judged), **of_device(judged.device))


@command.command("waves", examples=("chart waves", "chart waves -o waves.png"))
@_figure_options
@SNAPSHOT
@selecting
def waves_command(output: Path | None, plain: bool, selected: Selection) -> None:
    """Who reloads when: the waves of the runbooks over their windows."""
    from ovek.cli.runbook import Planning
    from ovek.engine.plan import Asked
    from ovek.engine.waves import waves
    from ovek.render.charts import waves as figure

    site, devices, now = selected.site, selected.devices(), selected.now
    check_policy(site, devices.releases)
    shelf = shelf_facts(site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
    parts = each_part(devices, Planning, now, shelf, site.policy, Asked(waivers=site.waivers))
    books = [one for part in parts for one in part]
    planned = waves(books, site.policy, datetime.now().replace(second=0, microsecond=0))
    if output is not None:
        _write(output, figure.draw_waves(_kind(output), planned, devices.caption(now)))
    else:
        write_lines(figure.text(planned, _wide(), plain=_plain(plain)))
    exit_code(False, devices)


@command.command("trend", examples=("chart trend --last 4w", "chart trend -o trend.svg"))
@click.option("--last", metavar="AGE", default="90d", help="So long back (default: 90d).")
@_figure_options
@SITE
def trend_command(last: str, output: Path | None, plain: bool, site_folder: Path) -> None:
    """How the fleet stood each day, from the history: who goes, is proven, is on target."""
    from ovek.app.history import caught_up, days_of, open_of
    from ovek.render.charts import trend

    site = Site(site_folder)
    try:
        parse_age(last)
        store = caught_up(site, bytes_bar)
        days = days_of(site, store, last)
        found = open_of(store, days)
    except (AgeError, OverflowError) as error:
        raise click.BadParameter(str(error), param_hint="--last") from None
    if output is not None:
        told = f"{site.fleet.name}, history of {days[0].day} to {days[-1].day}"
        _write(output, trend.draw(_kind(output), days, found, f"{told}; ovek chart trend"))
    else:
        write_lines(trend.text(days, found, _wide(), plain=_plain(plain)))


def _of_devices(output: Path | None, plain: bool, selected: Selection, figure: Any) -> None:
    """Draw a figure of many devices, or show it as text."""
    site, devices = selected.site, selected.devices()
    check_policy(site, devices.releases)
    found = [one for part in each_part(devices, Looking, selected.now) for one in part]
    if output is not None:
        _write(output, figure.draw(_kind(output), found, devices.caption(selected.now)))
    else:
        write_lines(figure.text(found, _wide(), plain=_plain(plain)))
    exit_code(False, devices)


class Looking(Work[list[Charted]]):
    """Finds what is drawn of the devices of a site."""

    makes = list[Charted]

    def __init__(self, devices: Devices, now: datetime) -> None:
        self.devices, self.now, self.wants = devices, now, wants_of(devices.site)
        self.found: list[Charted] = []

    def take(self, device: Device, judge: Judge) -> None:
        """Find it for one device."""
        judged = judge_device(device, judge)
        try:
            wanted = self.wants.of(judged)
        except ContradictionError as error:
            raise contradiction(self.devices.site, error) from None
        subject = subject_of(
            judged, walk_device(judged), self.wants.policy, wanted, times_of(device, self.now)
        )
        self.found.append(
            Charted(
                **of_device(device),
                wants=wanted.target,
                on_target=on_target(judged, subject.walk, wanted.target),
                starts=tuple(
                    AuditedStart(
                        member=member.id, runs=member.runs, place=None, version=member.starts
                    )
                    for member in subject.members
                ),
                images=tuple(_images(subject)),
                flash=flash_of(subject),
            )
        )

    def result(self) -> list[Charted]:
        """What was found of the devices taken since the last call."""
        found, self.found = self.found, []
        return found


def _images(subject: Subject) -> Iterator[ChartedImage]:
    for member in subject.members:
        needed = member.needed
        banks = (image for image in member.one.banks.values() if not image.parts)
        for image in (*member.one.images.values(), *banks):
            judgement, place = image.judgement, image.place
            release = judgement.release
            name = release.file if release is not None else place.path.rpartition("/")[2]
            yield ChartedImage(name or str(place), judgement.verdict, place in needed)


def _kind(output: Path) -> str:
    return output.suffix.lower().removeprefix(".")


def _write(output: Path, drawn: bytes) -> None:
    write_whole(output, [drawn])
    write_lines([f"Drawn: {output}"])


def _wide() -> int:
    from ovek.render.lines import width

    return width()


def _plain(asked: bool) -> bool:
    """Whether bars are of plain ASCII: where that is asked for, or nothing else can be shown."""
    encoding = (sys.stdout.encoding or "").lower()
    return asked or not encoding.startswith("utf")

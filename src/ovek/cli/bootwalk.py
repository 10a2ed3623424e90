"""`ovek bootwalk`: what does each device start on next?"""

from datetime import UTC, datetime
from pathlib import Path

import click

from ovek.cli.options import (
    Devices,
    exit_code,
    fail_on_option,
    reaches,
    snapshot_options,
    write_bytes,
    write_lines,
)
from ovek.engine.bootwalk import walk_device
from ovek.engine.verdicts import judge_device
from ovek.engine.whatif import NoSuchPlaceError, WhatIf, suppose
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.model.finding import Severity
from ovek.model.place import PlaceError
from ovek.model.walk import Reload
from ovek.render.unread import Unreads

SEVERITIES: dict[Reload, Severity] = {
    "stranded": "critical",
    "unknown": "warning",
    "unproven": "warning",
}


@click.command("bootwalk")
@click.argument("device", nargs=-1)
@click.option(
    "--if-missing",
    multiple=True,
    metavar="PLACE",
    help="What if this file, bank or volume were gone?",
)
@click.option(
    "--if-bad", multiple=True, metavar="PLACE", help="What if this file or bank were bad?"
)
@click.option("--if-saved", is_flag=True, help="What if the live boot settings were saved now?")
@snapshot_options()
@fail_on_option
def command(
    device: tuple[str, ...],
    if_missing: tuple[str, ...],
    if_bad: tuple[str, ...],
    if_saved: bool,
    site_folder: Path,
    snapshot_file: str | None,
    format_: str,
    fail_on: str,
) -> None:
    """What does each DEVICE start on next, and what if? (default: all)

    Tries every candidate as the boot loader would, in order, and gives the reason for each. A
    stranded device counts as critical, an unproven or unknown start as a warning. The what-ifs may
    be repeated and put together; nothing is touched. A PLACE is volume:path, volume: or bank:name,
    with the member in front where one member is meant (2/flash:…).
    """
    what = WhatIf(missing=if_missing, bad=if_bad, saved=if_saved)
    site = Site(site_folder)
    devices = Devices(site, site.state(snapshot_file), device)
    walks, before, near = [], [], None
    for one, judge in devices:
        judged = judge_device(one, judge)
        if what == WhatIf():
            walks.append(walk_device(judged))
            continue
        try:
            walks.append(walk_device(suppose(judged, what)))
            before.append(walk_device(judged))
        except NoSuchPlaceError as error:
            if device:
                raise _no_such_place(devices.file, one.device, error) from None
            near = near or _no_such_place(devices.file, "any device", error)
        except PlaceError as error:
            raise click.UsageError(str(error)) from None
    if near is not None and not walks:
        raise near
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.bootwalk(walks, what.told(), before, devices.not_read)])
    else:
        from ovek.render.bootwalk import bootwalk

        unread = Unreads(devices.not_read, datetime.now(UTC))
        write_lines(bootwalk(walks, what.told(), before, unread))
    exit_code(any(reaches(SEVERITIES.get(walk.reload), fail_on) for walk in walks), devices)


def _no_such_place(file: Path, device: str, error: NoSuchPlaceError) -> InputError:
    do = f"Did you mean {error.near!r}?" if error.near else "See ovek bootwalk for its places"
    return InputError(file, f"{device} holds no {error.place!r}", do)

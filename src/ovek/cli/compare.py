"""`ovek compare`: what changed between two snapshots?"""

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import click
from msgspec.structs import replace

from ovek.cli.options import FORMAT, SITE, Devices, exit_code, write_bytes, write_lines
from ovek.cli.policy import contradiction, wants_of
from ovek.engine.compare import compare_device
from ovek.engine.verdicts import judge_device
from ovek.engine.wanted import ContradictionError
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.compare import DeviceCompare, MemberDone
from ovek.model.policy import RECOMMENDED
from ovek.model.typed import is_plain
from ovek.model.verdict import KnownRelease
from ovek.render.unread import Unreads

TARGET = "target"


@click.command("compare")
@click.argument("old", required=False)
@click.argument("new", required=False)
@click.option(
    "--expect",
    metavar="VERSION",
    help="The version that every member should run now; or target, or recommended.",
)
@click.option(
    "--device", "globs", multiple=True, metavar="GLOB", help="Only these devices (may be repeated)."
)
@click.option(
    "--baseline",
    metavar="NAME",
    help="Keep a snapshot (OLD, default: the newest line of each device) under this name instead.",
)
@SITE
@FORMAT
def command(
    old: str | None,
    new: str | None,
    expect: str | None,
    globs: tuple[str, ...],
    baseline: str | None,
    site_folder: Path,
    format_: str,
) -> None:
    """What changed from OLD to NEW (default: the newest line of each device)?

    OLD and NEW are snapshots, or names that --baseline keeps. With --expect: did the upgrade do
    what it was meant to, on every member? VERSION may be target or recommended: each device's own.
    Exit code 1 where it did not or that is not known, where an image is no longer proven, or a
    device would no longer start.
    """
    site = Site(site_folder)
    if baseline is not None:
        if new is not None or expect is not None:
            raise click.UsageError("--baseline keeps one snapshot; it compares nothing")
        _keep(site, baseline, old, format_)
        return
    if old is None:
        raise click.UsageError("say with what to compare: ovek compare OLD [NEW]")
    before = Devices(site, site.state(old), globs=globs)
    devices = Devices(site, site.state(new), globs=globs)
    found = list(_compared(before, devices, expect))
    first, second = before.label, devices.label
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.compare(first, second, expect, found, devices.not_read)])
    else:
        from ovek.render.compare import compare

        unread = Unreads(devices.not_read, datetime.now(UTC))
        write_lines(compare(found, first, second, expect, unread))
    worse = any(
        one.reload_after == "stranded" and one.reload_before not in ("stranded", None)
        for one in found
    ) or any(one.no_longer_proven for one in found)
    exit_code(worse or (expect is not None and not all(one.done for one in found)), devices)


def _compared(before: Devices, devices: Devices, expect: str | None) -> Iterator[DeviceCompare]:
    """Go through the devices that were read last, then those that only the old snapshot has."""
    wants = wants_of(devices.site)
    seen = set[str]()
    for device, judge in devices:
        seen.add(device.device)
        old = before.state.read(device.device)
        was = judge_device(old, before.judge(old)) if old is not None else None
        version, now = expect, judge_device(device, judge)
        if expect in (TARGET, RECOMMENDED):
            try:
                wanted = wants.of(now)
            except ContradictionError as error:
                raise contradiction(devices.site, error) from None
            version = wanted.target if expect == TARGET else _version(wanted.recommended)
        found = compare_device(was, now, version)
        nothing = expect is not None and version is None
        yield replace(found, members=(_no_target(expect),)) if nothing else found
    for name in before.chosen.names:
        if name not in seen:
            gone = before.state.read(name)
            assert gone is not None
            version = None if expect in (TARGET, RECOMMENDED) else expect
            yield compare_device(judge_device(gone, before.judge(gone)), None, version)


def _version(release: KnownRelease | None) -> str | None:
    return release.version if release is not None else None


def _no_target(expect: str | None) -> MemberDone:
    """What is told of a device of which nothing is wanted, or it is not known what."""
    what = "no target" if expect == TARGET else "no release"
    why = f"{what} is named for it, so whether it is done is not known"
    return MemberDone(member="1", done=None, why=why)


def _baseline(site: Site, name: str) -> Path:
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise click.BadParameter(f"{name!r} is no plain name", param_hint="--baseline")
    return site.folder / "baselines" / f"{name}.jsonl"


def _keep(site: Site, name: str, old: str | None, format_: str) -> None:
    """Keep a state under a name; what is kept is never overwritten by another."""
    devices, file = Devices(site, site.state(old)), _baseline(site, name)
    lines = list(devices.state.lines_of())
    if not lines:
        raise InputError(devices.file, "holds no device", "Read the fleet first: ovek survey")
    try:
        if file.exists() and file.read_bytes() != b"".join(lines):
            met = "is there already, of another snapshot"
            raise InputError(file, met, "Choose another name, or remove it first")
    except OSError as error:
        raise cannot_read(file, error) from None
    write_whole(file, lines)
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.baseline(name, devices.label, len(lines))])
        return
    from ovek.render.lines import count

    kept = f"Kept {devices.label} ({count(len(lines), 'device')}) as {name!r}."
    write_lines([kept, f"After the change: ovek survey, then ovek compare {name}"])

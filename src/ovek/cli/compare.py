"""`ovek compare`: what changed between two snapshots?"""

import sys
from collections.abc import Iterator
from difflib import get_close_matches
from pathlib import Path

import click

from ovek.cli.options import FORMAT, SITE, Devices, write_bytes, write_lines
from ovek.engine.compare import compare_device
from ovek.engine.verdicts import judge_device
from ovek.files.errors import InputError
from ovek.files.site import Site
from ovek.files.snapshot import SnapshotIndex, newest_snapshot
from ovek.files.typed import cannot_read
from ovek.files.whole import write_whole
from ovek.model.compare import DeviceCompare
from ovek.model.typed import is_plain


@click.command("compare")
@click.argument("old", required=False)
@click.argument("new", required=False)
@click.option("--expect", metavar="VERSION", help="The version that every member should run now.")
@click.option(
    "--device", "globs", multiple=True, metavar="GLOB", help="Only these devices (may be repeated)."
)
@click.option(
    "--baseline",
    metavar="NAME",
    help="Keep a snapshot (OLD, default: the newest) under this name instead of comparing.",
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
    """What changed from OLD to NEW (default: the newest snapshot)?

    OLD and NEW are snapshots, or names that --baseline keeps. With --expect: did the upgrade do
    what it was meant to, on every member? Exit code 1 where it did not or that is not known, or
    where a device would no longer start.
    """
    site = Site(site_folder)
    if baseline is not None:
        if new is not None or expect is not None:
            raise click.UsageError("--baseline keeps one snapshot; it compares nothing")
        _keep(site, baseline, old, format_)
        return
    if old is None:
        raise click.UsageError("say with what to compare: ovek compare OLD [NEW]")
    first = _snapshot(site, old)
    second = _snapshot(site, new) if new is not None else newest_snapshot(site.folder / "snapshots")
    found = list(_compared(site, first, second, expect, globs))
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.compare(first.name, second.name, expect, found)])
    else:
        from ovek.render.compare import compare

        write_lines(compare(found, first.name, second.name, expect))
    worse = any(
        one.reload_after == "stranded" and one.reload_before not in ("stranded", None)
        for one in found
    )
    if worse or (expect is not None and not all(one.done for one in found)):
        sys.exit(1)


def _compared(
    site: Site, first: Path, second: Path, expect: str | None, globs: tuple[str, ...]
) -> Iterator[DeviceCompare]:
    """Go through the devices of the new snapshot, then those that only the old one has."""
    index = SnapshotIndex(first)
    devices, before = Devices(site, second, globs=globs), Devices(site, first, globs=globs)
    seen = set[str]()
    for device, judge in devices:
        seen.add(device.device)
        old = index.read(device.device)
        was = judge_device(old, before.judge(old)) if old is not None else None
        yield compare_device(was, judge_device(device, judge), expect)
    for name in index.names:
        if name not in seen and before.takes(name):
            gone = index.read(name)
            assert gone is not None
            yield compare_device(judge_device(gone, before.judge(gone)), None, expect)


def _baseline(site: Site, name: str) -> Path:
    if not is_plain(name) or Path(name).name != name or name.startswith("."):
        raise click.BadParameter(f"{name!r} is no plain name", param_hint="--baseline")
    return site.folder / "baselines" / f"{name}.jsonl"


def _snapshot(site: Site, text: str) -> Path:
    """A snapshot by its file, by its file in the site, or by the name of a baseline."""
    folder = site.folder / "baselines"
    for file in (Path(text), site.folder / text, folder / f"{Path(text).name}.jsonl"):
        if file.is_file():
            return file
    kept = [file.stem for file in folder.glob("*.jsonl")]
    near = get_close_matches(text, kept, n=1)
    do = f"Did you mean {near[0]!r}?" if near else "Name a snapshot, or a baseline that was kept"
    raise InputError(text, "is no snapshot, and no baseline has this name", do)


def _keep(site: Site, name: str, old: str | None, format_: str) -> None:
    """Keep a snapshot under a name; what is kept is never overwritten by another."""
    source = _snapshot(site, old) if old is not None else newest_snapshot(site.folder / "snapshots")
    names, file = SnapshotIndex(source).names, _baseline(site, name)
    try:
        data = source.read_bytes()
        if file.exists() and file.read_bytes() != data:
            met = "is there already, of another snapshot"
            raise InputError(file, met, "Choose another name, or remove it first")
    except OSError as error:
        raise cannot_read(source, error) from None
    write_whole(file, [data])
    if format_ == "json":
        from ovek.render import json

        write_bytes([json.baseline(name, source.name, len(names))])
        return
    from ovek.render.lines import count

    kept = f"Kept {source.name} ({count(len(names), 'device')}) as {name!r}."
    write_lines([kept, f"After the change: ovek survey, then ovek compare {name}"])

"""`ovek runbook`: what is left to do, in which order, how long, and what if the power fails?"""

from datetime import UTC, datetime
from pathlib import Path

import click
from msgspec.structs import replace

from ovek.app.answering import Answering, tally_of, with_unread
from ovek.app.devices import Devices
from ovek.app.policy import check_policy, wants_of
from ovek.app.shelves import shelf_facts
from ovek.app.work import Work
from ovek.cli.checklists import write_checklists
from ovek.cli.command import Command
from ovek.cli.completing import aims
from ovek.cli.fleetwide import each_part
from ovek.cli.options import MAY_DROP, exit_code, write_bytes, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.say import tell
from ovek.cli.selection import Selection, device_options, on_option
from ovek.engine.plan import Asked
from ovek.engine.rules import Subject
from ovek.engine.runbook import followed, runbook
from ovek.engine.verdicts import Judge, judge_device
from ovek.engine.wanted import Wants, wanting
from ovek.engine.waves import waves
from ovek.files.site import Site
from ovek.files.whole import write_whole
from ovek.model.age import show_minutes
from ovek.model.answer import Answered
from ovek.model.context import Context
from ovek.model.fleet import Fleet
from ovek.model.plan import Unlock
from ovek.model.policy import Policy
from ovek.model.runbook import AimKind, Runbook
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Device
from ovek.render.unread import Unreads

_AIMS: tuple[AimKind, ...] = ("all", "start", "target", "fallback", "tidy")


@click.command(
    "runbook",
    cls=Command,
    examples=("runbook brack-slip", "runbook --for start --where answer=no-go --format markdown"),
)
@click.option(
    "--for",
    "aim",
    default="all",
    metavar="start|target|VERSION|fallback|tidy",
    shell_complete=aims,
    help="Only what leads there: it boots again, it runs the target (or this version), it has a "
    "fallback, its settings and flash are tidy.",
)
@MAY_DROP
@click.option(
    "--into",
    "folder",
    metavar="FOLDER",
    type=click.Path(path_type=Path),
    help="Write a checklist for each device into this folder.",
)
@click.option(
    "--figure",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Draw the waves over time (.png or .svg).",
)
@click.option(
    "--confirm",
    "later",
    metavar="SNAPSHOT",
    help="Hold this later snapshot against the runbooks: done, not done, done too much.",
)
@click.option("-v", "--verbose", is_flag=True, help="Every change of every device.")
@on_option
@device_options("markdown", "csv", "ical")
def command(
    aim: str,
    may_drop: tuple[Unlock, ...],
    folder: Path | None,
    figure: Path | None,
    later: str | None,
    verbose: bool,
    selected: Selection,
    format_: str,
) -> None:
    """What is left to do on each DEVICE (a name or glob) to bring it to what policy wants?

    Every change in order, tried out on the device as it is known: what to type, what to expect,
    what a power failure in the middle leaves, what undoes it, how long it takes. What is done
    already is not asked again, so that the same command after each step shows the rest. Exit code 1
    if something is left, or has to be found out.
    """
    if figure is not None and figure.suffix.lower() not in (".png", ".svg"):
        met = f"{figure.name!r} has to end in .png or .svg"
        raise click.BadParameter(met, param_hint="--figure")
    site, devices = selected.site, selected.devices()
    check_policy(site, devices.releases)
    policy = site.policy if aim in _AIMS else _wanting(site, devices, aim)
    kind: AimKind = next((each for each in _AIMS if each == aim), "target")
    asked = Asked(aim=kind, may_drop=frozenset(may_drop), waivers=site.waivers)
    shelf = shelf_facts(site, devices.releases, devices.state.lines.keys(), bar=bytes_bar)
    now = datetime.now(UTC).replace(microsecond=0)
    if later is not None:
        _confirm(Planning(devices, now, shelf, policy, asked), later, format_)
        return
    found = [
        one for part in each_part(devices, Planning, now, shelf, policy, asked) for one in part
    ]
    context, answers = devices.context(now, selected.told()), _answers(devices, found)
    planned = waves(found, policy, datetime.now().replace(second=0, microsecond=0))
    if figure is not None:
        from ovek.render.charts.waves import draw_waves

        kind_ = figure.suffix.lower().removeprefix(".")
        drawn = draw_waves(kind_, planned, devices.caption(now))
        write_whole(figure, [drawn])
    if folder is not None:
        _into(folder, found, context)
    elif format_ in ("json", "jsonl"):
        from ovek.render import json

        tally = tally_of(answers)
        whole = json.runbooks(context, found, planned, devices.not_read, tally)
        write_json(whole, format_, "devices")
    elif format_ == "csv":
        from ovek.render.csv import write_runbooks

        write_bytes(write_runbooks(found, context))
    elif format_ == "ical":
        from ovek.render.calendar import calendar

        if all(wave.begins is None for wave in planned.waves):
            told = "no wave has a time: policy.toml has no window with hours for what reloads"
            tell(f"{told}")
        write_bytes([calendar(planned, site.fleet.name, now)])
    elif format_ == "markdown":
        from ovek.render.runbook import checklist

        write_bytes([checklist(found, context, planned)])
    else:
        from ovek.render.runbook import fleet, runbook

        unread = Unreads(devices.not_read, now)
        links = shared_links(site.fleet, found)
        if len(found) == 1 and len(answers) == 1:
            write_lines(runbook(found[0], answers[0]))
        else:
            write_lines(fleet(found, answers, planned, links, unread, whole=verbose))
    exit_code(any(one.steps or one.find_out or one.open for one in found), devices)


def _answers(devices: Devices, found: list[Runbook]) -> list[Answered]:
    """The answers of devices as they stand, and of those that were not read."""
    told = [
        Answered(
            device=one.device,
            answer=one.answer or "unclear",
            detail=one.why,
            waived=one.waived,
            read=one.device not in devices.stale,
        )
        for one in found
    ]
    return with_unread(devices, told)


def _confirm(planning: "Planning", later: str, format_: str) -> None:
    """Hold a later snapshot against the runbooks of the devices; ends the program."""
    if format_ not in ("table", "json", "jsonl"):
        raise click.UsageError(f"--confirm is for table, json and jsonl, not for {format_}")
    devices = planning.devices
    after = Devices(devices.site, devices.site.state(later))
    after.keep(set(devices.names))
    subjects = {one.device: planning.subject(one, judge) for one, judge in after}
    found, gone = [], []
    for device, judge in devices:
        if device.device not in subjects:
            gone.append(device.device)
            continue
        before = planning.subject(device, judge)
        found.append(followed(before, subjects[device.device], planning.asked))
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        context = after.context(planning.now)
        write_json(json.followed(context, found, gone), format_, "devices")
    else:
        from ovek.render.runbook import followed as lines

        write_lines(lines(found, gone))
    exit_code(bool(gone) or any(one.not_done or one.too_much for one in found), devices)


def shared_links(fleet: Fleet, found: list[Runbook]) -> list[str]:
    """What is to be copied over each link that several devices share, and how long that takes."""
    over: dict[tuple[int, str], list[Runbook]] = {}
    links = fleet.links()
    for one in found:
        link = links.get(one.device)
        if link is not None and one.copies:
            over.setdefault(link, []).append(one)
    return [
        f"the link of {name} is shared by {len(ours)} devices: their copies take "
        + show_minutes(-(-sum(one.copies for one in ours) // rate // 60))
        for (rate, name), ours in over.items()
        if len(ours) > 1
    ]


def _into(folder: Path, found: list[Runbook], context: Context) -> None:
    """Write a checklist for each device; raise InputError."""
    from ovek.render.runbook import checklist

    write_checklists(folder, {one.device: checklist([one], context) for one in found})


def _wanting(site: Site, devices: Devices, version: str) -> Policy:
    """The policy, with this version as everybody's target; raise UsageError where it is none."""
    known = devices.releases.by_version
    if version not in known:
        from difflib import get_close_matches

        near = get_close_matches(version, [*known, *_AIMS], n=1)
        hint = f"did you mean {near[0]!r}?" if near else "see ovek catalog show"
        what = f"{version!r} is neither {', '.join(_AIMS)} nor the version of a release; {hint}"
        raise click.BadParameter(what, param_hint="--for")
    return wanting(site.policy, version)


class Planning(Work[list[Runbook]]):
    """Makes the runbooks of the devices of a site."""

    makes = list[Runbook]

    def __init__(
        self,
        devices: Devices,
        now: datetime,
        shelf: ShelfFacts | None,
        policy: Policy,
        asked: Asked,
    ) -> None:
        self.devices, self.now, self.asked = devices, now, asked
        self.wants = Wants(policy, wants_of(devices.site).roles)
        self.answering = Answering(devices, now, shelf)
        self.made: list[Runbook] = []

    def subject(self, device: Device, judge: Judge) -> Subject:
        """A device as its plan looks at it; raises InputError."""
        return self.answering.subject(judge_device(device, judge), self.wants)

    def take(self, device: Device, judge: Judge) -> None:
        """Plan for one device."""
        subject = self.subject(device, judge)
        made = runbook(subject, self.wants, self.asked, self.answering.rates(device.device))
        answer = self.answering.answer(subject.judged)
        told = replace(made, answer=answer.answer, why=answer.detail, waived=answer.waived)
        self.made.append(told)

    def result(self) -> list[Runbook]:
        """The runbooks of the devices taken since the last call."""
        made, self.made = self.made, []
        return made

"""`ovek survey`: read the devices of the fleet into a snapshot."""

import asyncio
import shutil
import sys
from collections.abc import Callable, Iterable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec
from msgspec.structs import replace

from ovek.app.devices import named_devices, site_context
from ovek.cli.command import Command
from ovek.cli.completing import sheets as complete_sheets
from ovek.cli.options import format_option, size_option, write_json, write_lines
from ovek.cli.progress import bytes_bar
from ovek.cli.say import Shown, say, tell
from ovek.cli.selection import Selection, selecting
from ovek.files.errors import DamagedError, InputError, ManyInputError
from ovek.files.evidence import evidence_file, evidence_folder, read_evidence, write_evidence
from ovek.files.fleet import listed_at
from ovek.files.journal import Journal, journal_of, unfinished
from ovek.files.lock import locked
from ovek.files.sheets import find_sheet, sheet_names
from ovek.files.site import Site
from ovek.files.snapshot import newest_snapshot
from ovek.files.state import State, is_older, state_of, tried_file
from ovek.files.typed import read_bytes
from ovek.files.whole import write_whole
from ovek.model.age import AgeError, parse_age
from ovek.model.fleet import FleetDevice
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device
from ovek.model.surveyed import Surveyed
from ovek.model.typed import typed

if TYPE_CHECKING:
    from ovek.files.history import Claims
    from ovek.sources.interview import Expects
    from ovek.sources.trust import HostKeys
    from ovek.sources.ways.interface import Setup

Job = tuple[FleetDevice, Sheet]
LOCK = ".survey.lock"
SECONDS = click.FloatRange(min=0.1, max=86_400)


def _age(ctx: click.Context, param: click.Parameter, value: str | None) -> timedelta | None:
    """Read an age such as 90d."""
    try:
        return None if value is None else parse_age(value)
    except AgeError as error:
        raise click.BadParameter(str(error)) from None


@click.command("survey", cls=Command, examples=("survey", "survey gannet-bridge --fresh"))
@selecting
@format_option()
@click.option("-v", "--verbose", is_flag=True, help="Tell of every device, and what was met.")
@click.option("--at-once", type=click.IntRange(1, 1000), default=20, help="Devices at one time.")
@click.option(
    "--sheet",
    metavar="SHEET",
    shell_complete=complete_sheets,
    help="Read as this kind of device: a sheet's name or file.",
)
@click.option(
    "--capture",
    multiple=True,
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Read the one DEVICE from this saved session, wherever it lies.",
)
@click.option("--fresh", is_flag=True, help="Ask again for digests that are known from before.")
@click.option("--resume", is_flag=True, help="Take up the last survey, if it was cut off.")
@click.option(
    "--prune",
    metavar="AGE",
    callback=_age,
    help="Remove snapshots older than this (90d) that hold no newest line, and read nothing.",
)
@click.option("--replay", is_flag=True, help="Make the newest snapshot anew from its evidence.")
@click.option("--evidence/--no-evidence", default=True, help="Keep the raw answers, compressed.")
@click.option("--take-new-keys", is_flag=True, help="Trust host keys that are not known yet.")
@click.option("--ask-password", is_flag=True, help="Ask for the password, once for all devices.")
@click.option("--tries", type=click.IntRange(1, 10), default=3, help="Tries for what may pass.")
@click.option("--connect-limit", type=SECONDS, default=15.0, help="Seconds to connect.")
@click.option("--login-limit", type=SECONDS, default=20.0, help="Seconds to the first prompt.")
@click.option("--answer-limit", type=SECONDS, default=60.0, help="Seconds for an answer.")
@click.option("--device-limit", type=SECONDS, default=3600.0, help="Seconds for a whole device.")
@click.option(
    "--rate", callback=size_option, metavar="SIZE", help="Read files through at SIZE a second."
)
def command(selected: Selection, **options: Any) -> None:
    """Read the devices of the fleet (or each DEVICE, a name or glob) into a snapshot.

    Only the questions of the device's sheet are sent; nothing is changed. The snapshot goes to
    snapshots/, the raw answers beside it. A device that cannot be read costs its own line only;
    the exit code is 3 then. Ctrl-C keeps what is finished, and --resume takes the rest.
    """
    site = selected.site
    if options["prune"] is not None:
        _prune(site, options["prune"], options["format_"])
        return
    jobs, unknown = _jobs(selected, options["sheet"])
    if options["capture"]:
        jobs = _from_captures(jobs, options["capture"])
    if options["replay"]:
        snapshot, results = _replay(site, jobs)
    else:
        snapshot, results = _survey(site, jobs, options, unknown)
    results += unknown
    with suppress(InputError):
        state_of(site.folder / "snapshots")  # so that whoever asks next need not look
    _show(site, snapshot, results, options)
    if not options["replay"]:
        _remember(site)
    if any(one.result != "read" for one in results):
        sys.exit(3)


def _remember(site: Site) -> None:
    """Take what was read into the history; where that cannot be, the next survey catches up."""
    from ovek.app.history import caught_up

    try:
        try:
            caught_up(site, bytes_bar)
        except DamagedError as damaged:
            tell(f"{damaged.put_aside()}.")
            caught_up(site, bytes_bar)
    except (InputError, ManyInputError) as error:
        told = f"the history was not written: {error} The next survey catches up."
        tell(told)


def _from_captures(jobs: list[Job], files: tuple[Path, ...]) -> list[Job]:
    """One device, to be read from saved sessions instead of its own ways."""
    if len(jobs) != 1:
        told = f"--capture is of one device, and {len(jobs)} are meant; name it"
        raise click.UsageError(told)
    ((device, sheet),) = jobs
    named = tuple(str(file) for file in files)
    return [(replace(device, ways=("capture",), capture=named), sheet)]


def _jobs(selected: Selection, as_: str | None) -> tuple[list[Job], list[Surveyed]]:
    """The devices to read, each with its sheet, all checked before the first is asked.

    A device whose sheet is not there is not read: what to say of it comes second. Raises
    InputError where that is so of all.
    """
    from ovek.sources.rows import check_templates

    site, fleet = selected.site, {one.name: one for one in selected.site.fleet.device}
    if not fleet:
        do = "List a device there: ovek init --help says how; then run ovek survey again"
        raise InputError(site.folder / "fleet.toml", "lists no device", do)
    devices = named_devices(selected.names, fleet, site.folder / "fleet.toml")
    if selected.where:
        read = any((site.folder / "snapshots").glob("*.jsonl"))
        state = site.state() if read else State(site.folder / "fleet.toml", [], {})
        chosen = set(selected.of(state).names)
        devices = [one for one in devices if one.name in chosen]
    if as_ is not None:
        name = _findable(site, as_)
        devices = [replace(one, sheet=name) for one in devices]
    sheets: dict[str, Sheet] = {}
    unknown: dict[str, InputError] = {}
    for one in devices:
        if one.sheet not in sheets and one.sheet not in unknown:
            sheet = site.sheet(one.sheet)
            if sheet is None:
                unknown[one.sheet] = _no_sheet(site, one)
                continue
            for question, wrong in check_templates(sheet):
                met = f"the question {question!r}: {wrong}"
                raise InputError(f"{one.sheet}.toml", met, "See: ovek sheet check FILE")
            sheets[one.sheet] = sheet
    if not sheets:
        raise ManyInputError(list(unknown.values()))
    for error in unknown.values():
        tell(str(error))
    left = [_not_asked(one, unknown[one.sheet]) for one in devices if one.sheet in unknown]
    return [(one, sheets[one.sheet]) for one in devices if one.sheet in sheets], left


def _no_sheet(site: Site, device: FleetDevice) -> InputError:
    """That a device names a sheet which is not there: where it does, and what to do."""
    file, line = listed_at(site.folder, site.fleet, device.name)
    problem = f"the device {device.name!r} has the sheet {device.sheet!r}, which does not exist"
    near = get_close_matches(device.sheet, sheet_names(site.folder), n=1)
    do = f"Did you mean {near[0]!r}? " if near else ""
    do += f"Learn it from a saved session: ovek sheet learn {typed(device.sheet, 'NAME')} SESSION"
    return InputError(file, problem, do, line=line)


def _not_asked(device: FleetDevice, error: InputError) -> Surveyed:
    return Surveyed(
        device=device.name, result="not read", problem=f"the sheet {device.sheet!r} does not exist",
        do=error.do, missing=(), lost=(), notes=(), tries=0, seconds=0.0,
    )  # fmt: skip


def _findable(site: Site, sheet: str) -> str:
    """The name of a sheet that other commands find, too. Raises InputError."""
    from ovek.cli.sheet import file_of

    file = file_of(sheet, site.folder)
    known = find_sheet(site.folder, file.stem)
    if known is None or read_bytes(known) != read_bytes(file):
        do = f"Copy it to {site.folder / 'sheets'}, or name its folder as sheets in fleet.toml"
        raise InputError(file, "lies where no other command finds it by its name", do)
    return file.stem


def _survey(
    site: Site, jobs: list[Job], options: dict[str, Any], unknown: list[Surveyed]
) -> tuple[Path, list[Surveyed]]:
    """Read devices; `unknown` are those that cannot be, which the record beside it names, too."""
    from ovek.app.history import claims_of

    with (
        locked(site.folder / "snapshots" / LOCK, "a survey of this site"),
        claims_of(site) as claims,
    ):
        return _locked_survey(site, jobs, options, claims, unknown)


def _locked_survey(
    site: Site,
    jobs: list[Job],
    options: dict[str, Any],
    claims: "Claims | None",
    unknown: list[Surveyed],
) -> tuple[Path, list[Surveyed]]:
    from ovek.sources import trust
    from ovek.sources.survey import Outcome, survey

    folder = site.folder / "snapshots"
    # What may be refused comes first: a survey that never began leaves no journal.
    prompt = password_prompt() if options["ask_password"] else None
    keys = trust.HostKeys(site.folder / "known_hosts", take_new=options["take_new_keys"])
    snapshot, journal = _opened(folder, resume=options["resume"])
    for number in journal.bad:
        told = f"{journal.file}, line {number}: is no device, so it is read again"
        tell(told)
    todo = [job for job in jobs if job[0].name not in journal.names]
    earlier = {} if options["fresh"] else _earlier(folder, {job[0].name for job in todo})
    results: list[Surveyed] = []
    with _progress(len(todo)) as progress:

        def keep(outcome: Outcome) -> None:
            if outcome.device is not None:
                if options["evidence"]:
                    _keep_evidence(snapshot, outcome)
                journal.add_device(outcome.device)

        def done(outcome: Outcome) -> None:
            results.append(_surveyed(outcome))
            progress.advance()

        try:
            setup = _setup(site, options, keys, prompt, earlier, progress.expects)
        except (InputError, ManyInputError):
            journal.close()
            raise
        began = datetime.now(UTC)
        try:
            asyncio.run(survey(todo, setup, options["at_once"], keep, done, claims))
        except KeyboardInterrupt:
            journal.close()
            keys.save()
            _leave(snapshot, began, [*results, *unknown])
            left = len(todo) - len(results)
            say(
                f"\novek: stopped; {len(results)} done, {left} left. What is finished is kept in "
                f"{journal.file}; take the rest with: ovek survey --resume",
                err=True,
            )
            sys.exit(3)
    try:
        journal.finish(one.name for one in site.fleet.device)
    finally:
        keys.save()
    _leave(snapshot, began, [*results, *unknown])
    order = {device.name: at for at, (device, _) in enumerate(todo)}
    results.sort(key=lambda one: order[one.device])
    return snapshot, results


def _leave(snapshot: Path, began: datetime, results: list[Surveyed]) -> None:
    """Leave beside the snapshot what was tried, and what came of it; what was there stays."""
    from ovek.render import json

    file, before = tried_file(snapshot), list[Surveyed]()
    known = {one.device for one in results}
    if file.exists():
        whole = msgspec.json.decode(read_bytes(file), type=_Left)
        before, began = [one for one in whole.devices if one.device not in known], whole.began
    left = json.survey(None, snapshot.name, [*before, *results], began)
    write_whole(file, [json.encoded(left)])


class _Left(msgspec.Struct):
    """What a survey that was cut off left."""

    began: datetime
    devices: list[Surveyed]


def _prune(site: Site, age: timedelta, format_: str) -> None:
    """Remove old snapshots that hold no newest line, with what lies beside them."""
    with locked(site.folder / "snapshots" / LOCK, "a survey of this site"):
        state = state_of(site.folder / "snapshots").of_fleet(d.name for d in site.fleet.device)
        used, limit = set(state.used), datetime.now(UTC) - age
        gone, kept = list[str](), list[str]()
        for file in sorted((site.folder / "snapshots").glob("*.jsonl")):
            if not is_older(file, limit):
                continue
            if file in used:
                kept.append(file.name)
                continue
            gone.append(file.name)
            shutil.rmtree(evidence_folder(file), ignore_errors=True)
            tried_file(file).unlink(missing_ok=True)
            file.unlink()
    if format_ in ("json", "jsonl"):
        from ovek.render import json

        write_json(json.pruned(site_context(site), kept, gone), format_, "removed")
        return
    from ovek.render.survey import pruned

    write_lines(pruned(gone, kept))


def _setup(
    site: Site,
    options: dict[str, Any],
    keys: "HostKeys",
    prompt: Callable[[], str] | None,
    earlier: dict[str, Device],
    expects: "Expects",
) -> "Setup":
    """What all readings share, out of the site's files and what was typed."""
    from ovek.sources import ssh, trust
    from ovek.sources.interview import Wanted
    from ovek.sources.ways.interface import Setup

    known = site.fleet.logins()  # what cannot be was refused when the file was read
    return Setup(
        site=site.folder,
        wanted=Wanted(
            site.releases,
            earlier,
            oldest=site.policy.oldest_digest,
            oldest_started=site.policy.oldest_start_digest,
        ),
        keys=keys,
        secrets=trust.Secrets(prompt, site.folder),
        limits=ssh.Limits(
            connect=options["connect_limit"],
            login=options["login_limit"],
            answer=options["answer_limit"],
            device=options["device_limit"],
        ),
        tries=options["tries"],
        rate=options["rate"],
        captures=options["capture"],
        logins={device.name: login for device, login in known if not isinstance(login, str)},
        snmp=site.fleet.asked_by_snmp(),
        expects=expects,
    )


def password_prompt() -> Callable[[], str]:
    """What asks for the password; it is asked for before the first device is."""
    try:
        if not (sys.stdin.isatty() or sys.stderr.isatty()):
            raise click.Abort
        told: str = click.prompt("Password", hide_input=True, err=True)
    except click.Abort:
        raise click.UsageError(
            "there is no terminal to ask for the password at; put it into OVEK_PASSWORD"
        ) from None
    return lambda: told


def _opened(folder: Path, *, resume: bool) -> tuple[Path, Journal]:
    """The snapshot to write and its journal: a new one, or that of the survey that was cut off."""
    left = unfinished(folder)
    if resume:
        return _taken_up(folder, left)
    if left is not None:
        told = f"{left.name} was cut off and is left as it is"
        tell(f"{told}; take it up with --resume, or remove its journal")
    stamp, at = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%SZ"), 1
    snapshot = folder / f"{stamp}.jsonl"
    while any(one.exists() for one in (snapshot, journal_of(snapshot), tried_file(snapshot))):
        at += 1
        snapshot = folder / f"{stamp}-{at}.jsonl"
    return snapshot, Journal(snapshot)


def _taken_up(folder: Path, left: Path | None) -> tuple[Path, Journal]:
    if left is None:
        met = "holds no survey that was cut off"
        do = "Read the fleet with: ovek survey; or some of it with: ovek survey DEVICE"
        raise InputError(folder, met, do)
    since = max((f for f in folder.glob("*.jsonl") if f.is_file()), default=None, key=_changed)
    if since is not None and _changed(since) > _changed(journal_of(left)):
        met = f"the survey that was cut off is older than {since.name}"
        do = f"Read the fleet anew with: ovek survey; {journal_of(left).name} may be removed"
        raise InputError(folder, met, do)
    return left, Journal(left)


def _changed(file: Path) -> int:
    return file.stat().st_mtime_ns


def _earlier(folder: Path, names: Iterable[str]) -> dict[str, Device]:
    """The devices as they were last read, whose digests may be kept; none where there are none."""
    if not any(folder.glob("*.jsonl")):
        return {}
    state = state_of(folder)
    read = ((name, state.read(name)) for name in names)
    return {name: device for name, device in read if device is not None}


def _keep_evidence(snapshot: Path, outcome: Any) -> None:
    head = {
        "device": outcome.name,
        "taken_at": outcome.device.taken_at.isoformat(),
    }
    write_evidence(evidence_file(snapshot, outcome.name), head, outcome.evidence)


def _replay(site: Site, jobs: list[Job]) -> tuple[Path, list[Surveyed]]:
    """Make the newest snapshot that has evidence again, as NAME.replayed.jsonl."""
    with locked(site.folder / "snapshots" / LOCK, "a survey of this site"):
        return _locked_replay(site, jobs)


def _locked_replay(site: Site, jobs: list[Job]) -> tuple[Path, list[Surveyed]]:
    from ovek.sources.interview import Wanted
    from ovek.sources.survey import EvidenceError, Outcome, replay

    newest = newest_snapshot(site.folder / "snapshots")
    source = newest.with_name(newest.name.replace(".replayed.jsonl", ".jsonl"))
    target = source.with_name(f"{source.name.removesuffix('.jsonl')}.replayed.jsonl")
    journal, results = Journal(target), []
    for device, sheet in jobs:
        file = evidence_file(source, device.name)
        if not file.exists():
            continue
        try:
            outcome = replay(device, sheet, Wanted((), {}), read_evidence(file))
        except (InputError, EvidenceError) as error:
            told = error.met if isinstance(error, InputError) else str(error)
            do = "Read the device again"
            outcome = Outcome(name=device.name, device=None, problem=f"{file}: {told}", do=do)
        if outcome.device is not None:
            journal.add_device(outcome.device)
        results.append(_surveyed(outcome))
    if not results:
        journal.finish(())
        met = "has no evidence beside it"
        raise InputError(source, met, "Survey again, without --no-evidence")
    journal.finish(device.name for device, _ in jobs)
    return target, results


def _surveyed(outcome: Any) -> Surveyed:
    return Surveyed(
        device=outcome.name,
        result=outcome.result,
        problem=outcome.problem,
        do=outcome.do,
        missing=outcome.missing,
        lost=outcome.lost,
        notes=outcome.notes,
        tries=outcome.tries,
        seconds=outcome.seconds,
        digest_rate=outcome.digest_rate,
    )


def _show(site: Site, snapshot: Path, results: list[Surveyed], options: dict[str, Any]) -> None:
    if options["format_"] in ("json", "jsonl"):
        from ovek.render import json

        listed = {one.name: one for one in site.fleet.device}
        told = [placed(one, listed.get(one.device)) for one in results]
        whole = json.survey(site_context(site), str(snapshot), told, datetime.now(UTC))
        write_json(whole, options["format_"], "devices")
        return
    from ovek.render.survey import survey

    about: Iterable[str] = [f"Snapshot: {snapshot}"] if snapshot.exists() else []
    write_lines(survey(results, list(about), verbose=options["verbose"]))


def placed(one: Surveyed, listed: FleetDevice | None) -> Surveyed:
    """The same, with where the fleet file says that the device stands, and what it is."""
    if listed is None:
        return one
    return replace(one, site=listed.site, role=listed.role, sheet=listed.sheet)


class _Progress:
    """A bar on standard error with rate and time left; silent where that is no terminal."""

    def __init__(self, total: int) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

        console = Console(stderr=True)
        self._shown = console.is_terminal
        self._bar = Progress(
            TextColumn("{task.completed} of {task.total} devices"),
            BarColumn(complete_style="green"),
            TextColumn("{task.fields[rate]}"),
            TimeRemainingColumn(),
            TextColumn("left"),
            console=console,
            disable=not self._shown,
            transient=True,
        )
        self._task = self._bar.add_task("", total=total, rate="")

    def __enter__(self) -> "_Progress":
        self._bar.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._bar.stop()

    def advance(self) -> None:
        """One device is done."""
        self._bar.advance(self._task)
        speed = self._bar.tasks[0].speed
        self._bar.update(self._task, rate=f"{speed:.1f} a second" if speed else "")

    def expects(self, device: str, number: int, seconds: float, rate: int | None) -> None:
        """Say how long a device's digests may take, where it is long enough to wonder."""
        from ovek.render.survey import progress_note

        if self._shown and seconds >= 10:
            self._bar.console.print(Shown(progress_note(device, number, seconds, rate)))


def _progress(total: int) -> _Progress:
    return _Progress(total)

"""Read the devices of a fleet into a snapshot."""

import asyncio
import logging
import shutil
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager, suppress
from datetime import UTC, datetime, timedelta
from difflib import get_close_matches
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from msgspec import Struct
from msgspec.structs import asdict, replace

from ovek.app.devices import named_devices, site_context
from ovek.app.means import Bar
from ovek.app.selection import Condition, selected_in
from ovek.app.sheets import file_of
from ovek.files.decode import read_bytes
from ovek.files.errors import DamagedError, InputError, ManyInputError
from ovek.files.evidence import evidence_file, evidence_folder, read_evidence, write_evidence
from ovek.files.fleet import listed_at
from ovek.files.journal import Journal, journal_of, unfinished
from ovek.files.lock import locked
from ovek.files.sheets import find_sheet, sheet_names
from ovek.files.site import Site
from ovek.files.snapshot import newest_snapshot
from ovek.files.state import State, is_older, state_of, tried_file
from ovek.files.survey_tries import leave_tried
from ovek.model.fleet import FleetDevice
from ovek.model.plain_word import typed
from ovek.model.results.surveys import Pruned, SurveyResult
from ovek.model.sheet import Sheet
from ovek.model.snapshot import Device
from ovek.model.surveyed import Surveyed
from ovek.model.usage import UsageError
from ovek.sources.progress import Progress, Unwatched

if TYPE_CHECKING:
    from ovek.files.history import StoredClaims
    from ovek.sources.survey import DeviceOutcome
    from ovek.sources.trust import HostKeys
    from ovek.sources.ways.interface import Setup

_LOG = logging.getLogger(__name__)
_LOCK = ".survey.lock"
Job = tuple[FleetDevice, Sheet]


class Watcher(Progress, Protocol):
    """Who is told how far a survey is."""

    def done(self, surveyed: Surveyed) -> None:
        """One device is done, with what came of it."""


class _Nobody(Unwatched):
    """Nobody watches."""

    def done(self, surveyed: Surveyed) -> None:
        """One device is done."""


@contextmanager
def _unseen(total: int) -> Iterator[Watcher]:
    yield _Nobody()


class SurveyOptions(Struct, frozen=True, kw_only=True):
    """How devices are read.

    `sheet` is the kind that all are taken to be, `captures` are saved sessions of the one device.
    `fresh` asks again for digests that are known, `resume` takes up a survey that was cut off.
    Limits are seconds, `rate` is at how many bytes a second files are read through. `password` asks
    for the password. `watch` is told how many devices there are, and shows how far it is.
    """

    sheet: str | None = None
    captures: tuple[Path, ...] = ()
    fresh: bool = False
    resume: bool = False
    evidence: bool = True
    take_new_keys: bool = False
    password: Callable[[], str] | None = None
    at_once: int = 20
    tries: int = 3
    connect_limit: float = 15.0
    login_limit: float = 20.0
    answer_limit: float = 60.0
    device_limit: float = 3600.0
    rate: int | None = None
    watch: Callable[[int], AbstractContextManager[Watcher]] = _unseen
    bar: Bar | None = None


class StoppedError(Exception):
    """Somebody ended a survey: so many devices are done, so many left, kept in that journal."""

    def __init__(self, done: int, left: int, journal: Path) -> None:
        super().__init__(f"{done} done, {left} left")
        self.done, self.left, self.journal = done, left, journal


def survey(
    site: Site,
    names: Iterable[str] = (),
    where: Iterable[Condition] = (),
    options: SurveyOptions | None = None,
) -> SurveyResult:
    """Read devices of a site into a new snapshot: only the questions of their sheets are sent.

    A device that cannot be read costs its own line only. Raises InputError, UsageError;
    StoppedError where somebody ends it.

    >>> from pathlib import Path
    >>> from ovek import SurveyOptions, open_site, survey
    >>> site = open_site("skerrow-ferries")
    >>> saved = SurveyOptions(captures=(Path("skerrow-ferries/sessions/arle-core.txt"),))
    >>> survey(site, ["arle-core"], options=saved).devices[0].result
    'partly read'
    """
    options = options or SurveyOptions()
    jobs, unknown = _jobs(site, names, where, options.sheet)
    if options.captures:
        jobs = _from_captures(jobs, options.captures)
    snapshot, results = _survey(site, jobs, options, unknown)
    found = _result(site, snapshot, [*results, *unknown])
    _remember(site, options.bar)
    return found


def replay(site: Site, names: Iterable[str] = (), where: Iterable[Condition] = ()) -> SurveyResult:
    """Make the newest snapshot that has evidence again, as NAME.replayed.jsonl.

    Raises InputError.
    """
    jobs, unknown = _jobs(site, names, where, None)
    with locked(site.folder / "snapshots" / _LOCK, "a survey of this site"):
        snapshot, results = _locked_replay(site, jobs)
    return _result(site, snapshot, [*results, *unknown])


def _result(site: Site, snapshot: Path, results: list[Surveyed]) -> SurveyResult:
    """What is told of a survey."""
    with suppress(InputError):
        state_of(site.folder / "snapshots")  # so that whoever asks next need not look
    listed = {one.name: one for one in site.fleet.device}
    return SurveyResult(
        **asdict(site_context(site)),
        snapshot=str(snapshot),
        began=datetime.now(UTC),
        devices=[_placed(one, listed.get(one.device)) for one in results],
        written=snapshot.exists(),
    )


def _remember(site: Site, bar: Bar | None) -> None:
    """Take what was read into the history; where that cannot be, the next survey catches up."""
    from ovek.app.history import caught_up

    try:
        try:
            caught_up(site, bar)
        except DamagedError as damaged:
            _LOG.warning("%s.", damaged.put_aside())
            caught_up(site, bar)
    except (InputError, ManyInputError) as error:
        _LOG.warning("the history was not written: %s The next survey catches up.", error)


def _from_captures(jobs: list[Job], files: tuple[Path, ...]) -> list[Job]:
    """One device, to be read from saved sessions instead of its own ways."""
    if len(jobs) != 1:
        text = "--capture needs exactly one device: ovek survey DEVICE --capture FILE"
        raise UsageError(text)
    ((device, sheet),) = jobs
    named = tuple(str(file) for file in files)
    return [(replace(device, access=("capture",), capture=named), sheet)]


def _jobs(
    site: Site, names: Iterable[str], where: Iterable[Condition], as_: str | None
) -> tuple[list[Job], list[Surveyed]]:
    """The devices to read, each with its sheet, all checked before the first is asked.

    A device whose sheet is not there is not read: what to say of it comes second. Raises
    InputError where that is so of all.
    """
    from ovek.sources.rows import check_templates

    where, fleet = list(where), {one.name: one for one in site.fleet.device}
    names = list(names)
    if not fleet:
        do = "List a device there: ovek init --help says how; then run ovek survey again"
        raise InputError(site.folder / "fleet.toml", "lists no device", do)
    devices = named_devices(names, fleet, site.folder / "fleet.toml")
    if where:
        read = any((site.folder / "snapshots").glob("*.jsonl"))
        state = site.state() if read else State(site.folder / "fleet.toml", [], {})
        chosen = set(selected_in(site, state, names, where).names)
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
                text = f"the question {question!r}: {wrong}"
                raise InputError(f"{one.sheet}.toml", text, "See: ovek sheet check FILE")
            sheets[one.sheet] = sheet
    if not sheets:
        raise ManyInputError(list(unknown.values()))
    for error in unknown.values():
        _LOG.warning("%s", error)
    left = [_not_asked(one, unknown[one.sheet]) for one in devices if one.sheet in unknown]
    return [(one, sheets[one.sheet]) for one in devices if one.sheet in sheets], left


def _no_sheet(site: Site, device: FleetDevice) -> InputError:
    """That a device names a sheet which is not there: where it does, and what to do."""
    file, line = listed_at(site.folder, site.fleet, device.name)
    problem = f"device {device.name!r} uses sheet {device.sheet!r}, which does not exist"
    near = get_close_matches(device.sheet, sheet_names(site.folder), n=1)
    do = f"Did you mean {near[0]!r}? " if near else ""
    do += f"Learn it from a saved session: ovek sheet learn {typed(device.sheet, 'NAME')} SESSION"
    return InputError(file, problem, do, line=line)


def _not_asked(device: FleetDevice, error: InputError) -> Surveyed:
    return Surveyed(
        device=device.name, result="not read", problem=f"sheet {device.sheet!r} does not exist",
        do=error.do, missing=(), lost=(), notes=(), tries=0, seconds=0.0,
    )  # fmt: skip


def _findable(site: Site, sheet: str) -> str:
    """The name of a sheet that other commands find, too. Raises InputError."""
    file = file_of(site.folder, sheet)
    known = find_sheet(site.folder, file.stem)
    if known is None or read_bytes(known) != read_bytes(file):
        do = f"Copy it to {site.folder / 'sheets'}, or name its folder as sheets in fleet.toml"
        raise InputError(file, "is where no other command finds it by its name", do)
    return file.stem


def _survey(
    site: Site, jobs: list[Job], options: SurveyOptions, unknown: list[Surveyed]
) -> tuple[Path, list[Surveyed]]:
    """Read devices; `unknown` are those that cannot be, which the record beside it names, too."""
    from ovek.app.history import claims_of

    with (
        locked(site.folder / "snapshots" / _LOCK, "a survey of this site"),
        claims_of(site) as claims,
    ):
        return _locked_survey(site, jobs, options, claims, unknown)


def _locked_survey(
    site: Site,
    jobs: list[Job],
    options: SurveyOptions,
    claims: "StoredClaims | None",
    unknown: list[Surveyed],
) -> tuple[Path, list[Surveyed]]:
    from ovek.sources import trust
    from ovek.sources.survey import DeviceOutcome
    from ovek.sources.survey import survey as read_all

    folder = site.folder / "snapshots"
    # What may be refused comes first: a survey that never began leaves no journal.
    password = options.password() if options.password is not None else None
    keys = trust.HostKeys(site.folder / "known_hosts", take_new=options.take_new_keys)
    snapshot, journal = _opened(folder, resume=options.resume)
    for number in journal.bad:
        _LOG.warning("%s, line %d: not a device, so it is read again", journal.file, number)
    todo = [job for job in jobs if job[0].name not in journal.names]
    earlier = {} if options.fresh else _earlier(folder, {job[0].name for job in todo})
    results: list[Surveyed] = []
    with options.watch(len(todo)) as progress:

        def keep(outcome: DeviceOutcome) -> None:
            if outcome.device is not None:
                if options.evidence:
                    _keep_evidence(snapshot, outcome, outcome.device)
                journal.add_device(outcome.device)

        def done(outcome: DeviceOutcome) -> None:
            results.append(_surveyed(outcome))
            progress.done(results[-1])

        try:
            setup = _setup(site, options, keys, password, earlier, progress)
        except (InputError, ManyInputError):
            journal.close()
            raise
        began = datetime.now(UTC)
        try:
            asyncio.run(read_all(todo, setup, options.at_once, keep, done, claims))
        except KeyboardInterrupt:
            journal.close()
            keys.save()
            leave_tried(snapshot, began, [*results, *unknown])
            left = len(todo) - len(results)
            raise StoppedError(len(results), left, journal.file) from None
    try:
        journal.finish(one.name for one in site.fleet.device)
    finally:
        keys.save()
    leave_tried(snapshot, began, [*results, *unknown])
    order = {device.name: at for at, (device, _) in enumerate(todo)}
    results.sort(key=lambda one: order[one.device])
    return snapshot, results


def _setup(
    site: Site,
    options: SurveyOptions,
    keys: "HostKeys",
    password: str | None,
    earlier: dict[str, Device],
    progress: Progress,
) -> "Setup":
    """What all readings share, out of the site's files and what was typed."""
    from ovek.sources import ssh, trust
    from ovek.sources.device_session import WantedDigests
    from ovek.sources.ways.interface import Setup

    known = site.fleet.logins()  # what cannot be was refused when the file was read
    return Setup(
        site=site.folder,
        wanted=WantedDigests(
            site.releases,
            earlier,
            oldest=site.policy.oldest_digest,
            oldest_started=site.policy.oldest_start_digest,
        ),
        keys=keys,
        secrets=trust.Secrets(None if password is None else lambda: password, site.folder),
        limits=ssh.Limits(
            connect=options.connect_limit,
            login=options.login_limit,
            answer=options.answer_limit,
            device=options.device_limit,
        ),
        tries=options.tries,
        rate=options.rate,
        captures=options.captures,
        logins={device.name: login for device, login in known if not isinstance(login, str)},
        snmp=site.fleet.asked_by_snmp(),
        progress=progress,
    )


def _opened(folder: Path, *, resume: bool) -> tuple[Path, Journal]:
    """The snapshot to write and its journal: a new one, or that of the survey that was cut off."""
    left = unfinished(folder)
    if resume:
        return _taken_up(folder, left)
    if left is not None:
        text = f"{left.name} is from an interrupted survey and was not changed"
        _LOG.warning("%s; continue it with --resume, or delete its journal", text)
    stamp, at = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%SZ"), 1
    snapshot = folder / f"{stamp}.jsonl"
    while any(one.exists() for one in (snapshot, journal_of(snapshot), tried_file(snapshot))):
        at += 1
        snapshot = folder / f"{stamp}-{at}.jsonl"
    return snapshot, Journal(snapshot)


def _taken_up(folder: Path, left: Path | None) -> tuple[Path, Journal]:
    if left is None:
        text = "nothing to resume: no interrupted survey"
        do = "Start a new one: ovek survey"
        raise InputError(folder, text, do)
    since = max((f for f in folder.glob("*.jsonl") if f.is_file()), default=None, key=_changed)
    if since is not None and _changed(since) > _changed(journal_of(left)):
        text = f"the interrupted survey is older than {since.name}"
        do = f"Start a new one: ovek survey; {journal_of(left).name} may be deleted"
        raise InputError(folder, text, do)
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


def _keep_evidence(snapshot: Path, outcome: "DeviceOutcome", device: Device) -> None:
    head = {
        "device": outcome.name,
        "taken_at": device.taken_at.isoformat(),
    }
    write_evidence(evidence_file(snapshot, outcome.name), head, outcome.evidence)


def _locked_replay(site: Site, jobs: list[Job]) -> tuple[Path, list[Surveyed]]:
    from ovek.sources.device_session import WantedDigests
    from ovek.sources.survey import DeviceOutcome, EvidenceError
    from ovek.sources.survey import replay as read_again

    newest = newest_snapshot(site.folder / "snapshots")
    source = newest.with_name(newest.name.replace(".replayed.jsonl", ".jsonl"))
    target = source.with_name(f"{source.name.removesuffix('.jsonl')}.replayed.jsonl")
    journal, results = Journal(target), []
    for device, sheet in jobs:
        file = evidence_file(source, device.name)
        if not file.exists():
            continue
        try:
            outcome = read_again(device, sheet, WantedDigests((), {}), read_evidence(file))
        except (InputError, EvidenceError) as error:
            told = error.met if isinstance(error, InputError) else str(error)
            do = "Read the device again"
            outcome = DeviceOutcome(name=device.name, device=None, problem=f"{file}: {told}", do=do)
        if outcome.device is not None:
            journal.add_device(outcome.device)
        results.append(_surveyed(outcome))
    if not results:
        journal.finish(())
        text = "has no saved raw output (evidence) beside it"
        raise InputError(source, text, "Survey again, without --no-evidence")
    journal.finish(device.name for device, _ in jobs)
    return target, results


def _surveyed(outcome: "DeviceOutcome") -> Surveyed:
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


def _placed(surveyed: Surveyed, listed: FleetDevice | None) -> Surveyed:
    """The same, with where the fleet file says that the device stands, and what it is."""
    if listed is None:
        return surveyed
    return replace(surveyed, site=listed.site, role=listed.role, sheet=listed.sheet)


def prune(site: Site, age: timedelta) -> Pruned:
    """Remove old snapshots that hold no newest line, with what lies beside them."""
    with locked(site.folder / "snapshots" / _LOCK, "a survey of this site"):
        names = site.fleet_file.names
        state = state_of(site.folder / "snapshots").of_fleet(names, lists_none=not names)
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
    return Pruned(**asdict(site_context(site)), kept=kept, removed=gone)

"""What is left to do on each device, and what was done of it."""

from collections.abc import Iterable
from datetime import datetime
from difflib import get_close_matches

from msgspec.structs import asdict, replace

from ovek.app.answering import Answering, with_unread
from ovek.app.devices import Devices
from ovek.app.policy import check_policy
from ovek.app.runner import each_part
from ovek.app.selection import now_of
from ovek.app.shelves import shelf_of
from ovek.app.work import DeviceLine, Part, Work
from ovek.engine.plan import Asked
from ovek.engine.rules import Subject
from ovek.engine.runbook import followed, runbook
from ovek.engine.verdicts import JudgedDevice
from ovek.engine.wanted import Wants, wanting
from ovek.engine.waves import waves
from ovek.model.answer import Answered
from ovek.model.plan import Unlock
from ovek.model.policy import Policy
from ovek.model.results import tally_of
from ovek.model.results.runbooks import FleetRunbooks, RunbooksFollowed, SharedLink
from ovek.model.runbook import AIMS, AimKind, Runbook
from ovek.model.shelf import ShelfFacts
from ovek.model.usage import UsageError


def runbooks(
    devices: Devices,
    now: datetime | None = None,
    *,
    aim: str = "all",
    may_drop: Iterable[Unlock] = (),
) -> FleetRunbooks:
    """Plan what is left to do on devices, in which order, and when they reload together.

    `aim` is only what leads there: `start`, `target`, a version, `fallback` or `tidy`. Raises
    InputError; UsageError for an aim that is none.

    >>> from ovek import open_site, runbooks, select
    >>> (slip,) = runbooks(select(open_site("skerrow-ferries"), ["brack-slip"])).devices
    >>> slip.steps[0].do.change
    'copy'
    """
    now = now or now_of(devices.site)
    policy, asked = _asked(devices, aim, may_drop)
    shelf = shelf_of(devices)
    parts = each_part(devices, _PLAN, now, shelf, policy, asked)
    books = [one for part in parts for one in part]
    answered = _answers(devices, books)
    planned = waves(books, policy, datetime.now().replace(second=0, microsecond=0))
    return FleetRunbooks(
        **asdict(devices.context(now)),
        not_read=devices.not_read,
        answered=answered,
        devices=books,
        answers=tally_of(answered),
        waves=planned.waves,
        misfits=planned.misfits,
        links=shared_links(devices, books),
        caption=devices.caption(now),
    )


def follow_runbooks(
    devices: Devices,
    later: str,
    now: datetime | None = None,
    *,
    aim: str = "all",
    may_drop: Iterable[Unlock] = (),
) -> RunbooksFollowed:
    """Hold a later snapshot against the runbooks of devices: what was done, what was not.

    `later` is a snapshot of the site, by its name or file. Raises InputError, UsageError.

    >>> from ovek import follow_runbooks, open_site, select
    >>> slip = select(open_site("skerrow-ferries"), ["brack-slip"])
    >>> follow_runbooks(slip, "2026-11-20").as_planned
    False
    """
    now = now or now_of(devices.site)
    policy, asked = _asked(devices, aim, may_drop)
    planning = Planning(devices, now, shelf_of(devices), policy)
    after = Devices(devices.site, devices.site.state(later))
    after.keep(set(devices.names))
    subjects = {one.judged.device.device: one for one in map(planning.subject, after.judged())}
    done, gone = [], []
    for judged in devices.judged():
        name = judged.device.device
        if name in subjects:
            done.append(followed(planning.subject(judged), subjects[name], asked))
        else:
            gone.append(name)
    return RunbooksFollowed(**asdict(after.context(now)), devices=done, not_there=gone)


def _asked(devices: Devices, aim: str, may_drop: Iterable[Unlock]) -> tuple[Policy, Asked]:
    """What is wanted, and what is asked of a plan. Raises InputError, UsageError."""
    site = devices.site
    check_policy(site, devices.releases)
    policy = site.policy if aim in AIMS else _wanting(devices, aim)
    kind: AimKind = next((each for each in AIMS if each == aim), "target")
    return policy, Asked(aim=kind, may_drop=frozenset(may_drop), waivers=site.waivers)


def _wanting(devices: Devices, version: str) -> Policy:
    """The policy, with this version as everybody's target; raise UsageError where it is none."""
    known = devices.releases.by_version
    if version not in known:
        near = get_close_matches(version, [*known, *AIMS], n=1)
        hint = f"did you mean {near[0]!r}?" if near else "see ovek catalog show"
        what = (
            f"{version!r} is not valid. Use {', '.join(AIMS)}, or the version of a release; {hint}"
        )
        raise UsageError(what, "--for")
    return wanting(devices.site.policy, version)


def _answers(devices: Devices, books: Iterable[Runbook]) -> list[Answered]:
    """The answers of devices as they stand, and of those that were not read."""
    answered = [
        Answered(
            device=one.device,
            answer=one.answer or "unclear",
            detail=one.why,
            waived=one.waived,
            read=one.device not in devices.stale,
        )
        for one in books
    ]
    return with_unread(devices, answered)


def shared_links(devices: Devices, books: Iterable[Runbook]) -> list[SharedLink]:
    """What is to be copied over each link that several devices share, and how long that takes."""
    over: dict[tuple[int, str], list[Runbook]] = {}
    for book in books:
        link = devices.link(book.device)
        if link is not None and book.copies:
            over.setdefault(link, []).append(book)
    return [
        SharedLink(
            name=name,
            devices=len(ours),
            minutes=-(-sum(book.copies for book in ours) // rate // 60),
        )
        for (rate, name), ours in over.items()
        if len(ours) > 1
    ]


class Planning:
    """Looks at the devices of a site as plans do."""

    def __init__(
        self, devices: Devices, now: datetime, shelf: ShelfFacts | None, policy: Policy
    ) -> None:
        self.wants = Wants(policy, devices.roles)
        self.answering = Answering(devices, now, shelf)

    def subject(self, judged: JudgedDevice) -> Subject:
        """A device as its plan looks at it; raises InputError."""
        return self.answering.subject(judged, self.wants)


def _planning(
    devices: Devices, now: datetime, shelf: ShelfFacts | None, policy: Policy, asked: Asked
) -> Part[list[Runbook]]:
    """What plans for some devices of a site."""
    planning = Planning(devices, now, shelf, policy)
    answering = planning.answering

    def plan_one(line: DeviceLine) -> Runbook:
        subject = planning.subject(line.judged())
        book = runbook(subject, planning.wants, asked, answering.rates(line.name))
        answer = answering.answer(subject.judged)
        return replace(book, answer=answer.answer, why=answer.detail, waived=answer.waived)

    return lambda lines: list(map(plan_one, lines))


_PLAN = Work(_planning, list[Runbook])

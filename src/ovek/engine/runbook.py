"""All that is left to do to bring a device to what policy wants, in the order engineers work.

1. First what is in the way of any work: a configuration that is not saved or not backed up, and a
   device that would not start again.
2. Then the wanted release on every member, by its route; a trial that does well is committed; the
   second bank; components.
3. Then a way back, and what is left to tidy up.

Each phase ends the findings that belong to it by what `remedies` advises, on the device as the
phases before leave it; what is so already is not asked again. Where a fact is missing that a plan
would rest on, nothing is planned: the runbook then says what to find out.
"""

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from ovek.engine.advice import Advice, GoalKind
from ovek.engine.audit import finding_of
from ovek.engine.bootwalk import walk_device
from ovek.engine.changes import NO_RATES, Rates, middle, undoing
from ovek.engine.heard import Heard, heard
from ovek.engine.remedies import Remedies, subject_after
from ovek.engine.replay import Stage as Replayed
from ovek.engine.rules import RULES, Subject
from ovek.engine.telling import do_of, starts_of, words_of
from ovek.engine.verdicts import rejudge
from ovek.engine.waivers import waive
from ovek.engine.wanted import Wants
from ovek.model.advice import Do
from ovek.model.change import (
    BackUp,
    Change,
    Commit,
    Copy,
    CopyBank,
    Delete,
    LoadComponent,
    Measure,
    Reload,
    Save,
    WriteBank,
)
from ovek.model.ofdevice import of_device
from ovek.model.place import Place
from ovek.model.runbook import (
    STAGES,
    Aim,
    Cut,
    Followed,
    Open,
    Runbook,
    RunbookStep,
    Stage,
)
from ovek.model.snapshot import Device, Member
from ovek.model.waiver import Waiver


class Phase(Struct, frozen=True):
    """The goals that are reached together; `critical` is whether only critical findings count."""

    goals: frozenset[GoalKind]
    aims: frozenset[Aim]
    critical: bool = False


def _phase(goals: str, aims: str, *, critical: bool = False) -> Phase:
    return Phase(frozenset(goals.split()), frozenset(aims.split()), critical)  # type: ignore[arg-type]


PHASES: tuple[Phase, ...] = (
    _phase("config-saved", "all target start"),
    _phase("backed-up image-backed-up", "all target"),
    _phase("starts config-heeded", "all start target", critical=True),
    _phase("runs-target", "all target"),
    _phase("committed", "all target start"),
    _phase("components", "all target"),
    _phase("bank-rule", "all way-back"),
    _phase("starts settings-saved config-heeded", "all start tidy"),
    _phase("way-back", "all way-back"),
    _phase("image-gone order-tidy room measured measured-anew", "all tidy"),
)
_MOST = 40  # findings that one device is brought out of


class Done(Struct, frozen=True):
    """A list that a runbook takes over: what it ends, and the device before it."""

    one: Heard
    advice: Advice
    before: Device


def runbook(
    subject: Subject,
    wants: Wants,
    aim: Aim = "all",
    waivers: Sequence[Waiver] = (),
    rates: Rates = NO_RATES,
) -> Runbook:
    """The runbook of one device; what somebody has accepted is let be.

    `rates` are those of the way there, and at which it worked out digests.
    """
    device, missing = subject.judged.device, tuple(_find_out(subject))
    taken, now = ([], subject) if missing else planned(subject, wants, aim, waivers)
    steps = tuple(step for done in taken for step in _steps(done, subject, rates))
    opened = tuple(_not_ended(now, aim, waivers)) if not missing else ()
    asked = set(_asked(subject, aim))
    server = _server(subject, steps)
    there = {step.stage for step in steps} | (asked & set(_barred(opened)))
    there |= {"server copy"} if server else set()
    left = tuple(stage for stage in STAGES if stage in there)
    return Runbook(
        **of_device(device),
        wants=subject.wanted.goal_version,
        done=tuple(each for each in STAGES if each in asked - there and not missing),
        left=left,
        steps=steps,
        minutes=sum(step.do.minutes or 0 for step in steps),
        untimed=sum(step.do.minutes is None for step in steps),
        reloads=sum(step.do.change == "reload" for step in steps),
        reload=subject.walk.reload,
        starts=starts_of(subject.walk),
        reload_after=now.walk.reload,
        starts_after=starts_of(now.walk),
        find_out=missing,
        open=opened,
        server=server,
        copies=sum(_brought(stage.change) for done in taken for stage in done.advice.replay.stages),
    )


def planned(
    subject: Subject, wants: Wants, aim: Aim = "all", waivers: Sequence[Waiver] = ()
) -> tuple[list[Done], Subject]:
    """The lists that lead to an aim, phase by phase, and the device as it is in the end."""
    taken, now = list[Done](), subject
    told, remedies = list(_counted(now, waivers)), Remedies(now, wants)
    for phase in PHASES:
        tried = set[object]()
        while aim in phase.aims and len(taken) < _MOST:
            left = (one for one in told if one.key not in tried and _is_of(phase, one))
            one = next(left, None)
            if one is None:
                break
            tried.add(one.key)
            advice = remedies.of(one)
            if advice is not None:
                taken.append(Done(one, advice, now.judged.device))
                now = subject_after(now, advice.after, wants)
                told, remedies = list(_counted(now, waivers)), Remedies(now, wants)
    return taken, now


def _is_of(phase: Phase, one: Heard) -> bool:
    """Whether a phase ends a finding."""
    # Room for the wanted release is made on the way to it, or for nothing.
    counts = one.severity == "critical" or not phase.critical
    return counts and one.rule.goal in phase.goals and one.rule.slug != "no-room-for-target"


def _counted(subject: Subject, waivers: Sequence[Waiver]) -> Iterator[Heard]:
    """What is heard of a device and nobody has accepted."""
    device, today = subject.judged.device.device, subject.times.now.day()
    for one in heard(subject):
        if waivers:
            ((told,), _) = waive([finding_of(one, subject)], device, waivers, today)
            if told.waived is not None and told.rule == one.rule.slug:
                continue
        yield one


def _find_out(subject: Subject) -> Iterator[str]:
    """The facts without which nothing can be planned, in words."""
    if not subject.up:
        yield "it was read at its boot loader: start it, then read it again"
    elif subject.walk.reload == "unknown" or not subject.members:
        for one in heard(subject):
            if one.rule.slug == "facts-missing":
                yield f"{one.said.saw}: {one.said.do or one.rule.remedy}"
        for member in subject.members:
            if member.walk.outcome == "unknown":
                yield f"what member {member.id} starts next is not known: {member.walk.note}"
        if not subject.members:
            yield "its members are not known: read it again"


def _server(subject: Subject, steps: Sequence[RunbookStep]) -> tuple[str, ...]:
    """The images that are to be brought, and that the shelf does not hold, proven."""
    shelf = subject.shelf
    if shelf is None:
        return ()
    brought = dict.fromkeys(step.do.image for step in steps if step.do.image is not None)
    known = subject.judged.judge.releases
    return tuple(
        name
        for name in brought
        if name is not None
        and not any(
            digest in shelf.proven
            for release in known.named(name, case_blind=False)
            for digests in release.digests.values()
            for digest in digests
        )
    )


def _brought(change: Change) -> int:
    """The bytes that a change brings over the way to the device."""
    return change.content.size or 0 if isinstance(change, Copy | WriteBank) else 0


def _barred(opened: Iterable[Open]) -> Iterator[Stage]:
    """The stages that cannot be done, since there is no way to the wanted release."""
    if any(RULES[each.rule].goal == "runs-target" for each in opened):
        yield from ("room", "image", "digest", "components", "reload")


def _not_ended(subject: Subject, aim: Aim, waivers: Sequence[Waiver]) -> Iterator[Open]:
    """What is left of warnings and worse that a runbook is for, once all is done."""
    found = sorted(_counted(subject, waivers), key=lambda one: one.rule.goal != "runs-target")
    ours = {goal for phase in PHASES if aim in phase.aims for goal in phase.goals}
    several = len(subject.members) > 1
    wanted = subject.wanted
    if wanted.asks_recommended and wanted.target is None and aim in ("all", "target"):
        models = [member.one.hardware.model for member in subject.members]
        why = "its model is not known" if None in models else "catalog/ names none for it"
        words = "Read its model (ovek survey), or name a target in policy.toml"
        if None not in models:
            words = "Say it in catalog/ (ovek catalog annotate), or name a target in policy.toml"
        saw = f"which release is recommended for it is not known: {why}"
        yield Open(rule="facts-missing", place=None, saw=saw, words=words)
    behind = any(one.rule.goal == "runs-target" for one in found)
    for one in found:
        hardware_unknown = (
            behind and one.rule.slug == "target-hardware-unknown" and aim in ("all", "target")
        )
        if hardware_unknown or (one.severity != "note" and (aim == "all" or one.rule.goal in ours)):
            said = one.said
            owner = said.member if several else None
            place = None if said.place is None else str(said.place.on(said.place.member and owner))
            words = said.do or one.rule.remedy
            yield Open(rule=one.rule.slug, place=place, saw=said.saw, words=words)


def _asked(subject: Subject, aim: Aim) -> Iterator[Stage]:
    """The stages that there are on a device."""
    wanted, layout = subject.wanted, subject.layout
    config = subject.judged.device.config is not None
    goal = wanted.goal_version
    told: dict[Stage, bool] = {
        "configuration": config and aim in ("all", "target"),
        "server copy": subject.shelf is not None and goal is not None and aim in ("all", "target"),
        "room": goal is not None and aim in ("all", "target"),
        "image": goal is not None and aim in ("all", "target"),
        "digest": goal is not None and aim in ("all", "target"),
        "components": bool(goal is not None and _components(subject)) and aim in ("all", "target"),
        "settings": aim != "way-back",
        "saved": aim != "way-back",
        "reload": goal is not None and aim in ("all", "target"),
        "commit": layout.pair,
        "second bank": wanted.bank_rule is not None and aim in ("all", "way-back"),
        "way back": subject.policy.keep > 1 and aim in ("all", "way-back"),
        "tidy": aim in ("all", "tidy"),
    }
    return (stage for stage in STAGES if told[stage])


def _components(subject: Subject) -> bool:
    """Whether the wanted release needs anything of components."""
    goals = ((one, subject.wanted.goal_of(one.id)) for one in subject.members)
    return any(
        goal is not None and bool(goal.needs_of(one.one.hardware.model).components)
        for one, goal in goals
    )


def _steps(done: Done, subject: Subject, rates: Rates) -> Iterator[RunbookStep]:
    device, sheet = done.before, subject.judged.judge.sheet
    several = len(device.members or ()) > 1
    for stage in done.advice.replay.stages:
        do = do_of(stage, device, sheet, several=several, rates=rates)
        yield RunbookStep(
            stage=_stage(stage.change, done.one),
            ends=done.one.rule.slug,
            do=do,
            words=words_of(do),
            free=_free(stage),
            cut=_cut(stage.change, device, subject),
            undo=tuple(words_of(one) for one in _undone(stage.change, device, subject)),
        )
        device = stage.device


def _undone(change: Change, device: Device, subject: Subject) -> Iterator[Do]:
    """What undoes a change, as results tell it."""
    sheet, several = subject.judged.judge.sheet, len(device.members or ()) > 1
    walk = subject.walk
    for back in undoing(change, device):
        stage = Replayed(change=back, device=device, walk=walk, harm=())
        yield do_of(stage, device, sheet, several=several)


def _cut(change: Change, device: Device, subject: Subject) -> Cut | None:
    """How the device stands after a power cut in the middle of a change."""
    half = middle(device, change, subject.judged.judge.sheet)
    if half is None:
        return None
    walk = walk_device(rejudge(subject.judged, half))
    return Cut(reload=walk.reload, starts=starts_of(walk))


def _free(stage: Replayed) -> int | None:
    """The bytes free on the volume that a change is about."""
    place = getattr(stage.change, "place", None)
    if place is None or place.is_bank:
        return None
    for member in stage.device.members or ():
        if member.id == place.member:
            volume = member.volume(place.volume)
            return volume.free if volume is not None else None
    return None


_BY_CHANGE: dict[type, Stage] = {
    Measure: "digest",
    LoadComponent: "components",
    Save: "saved",
    Reload: "reload",
    Commit: "commit",
    Copy: "image",
    WriteBank: "image",
    CopyBank: "image",
}
_BY_GOAL: dict[GoalKind, Stage] = {
    "bank-rule": "second bank",
    "way-back": "way back",
    "image-gone": "tidy",
    "order-tidy": "tidy",
    "room": "tidy",
    "measured": "digest",
    "measured-anew": "tidy",
}


def _stage(change: Change, one: Heard) -> Stage:
    """The stage of the work that a change belongs to."""
    goal = one.rule.goal
    if goal in ("backed-up", "config-saved"):
        return "configuration"
    if goal in _BY_GOAL:
        return _BY_GOAL[goal]
    if isinstance(change, BackUp | Delete):
        return "room"
    return _BY_CHANGE.get(type(change), "settings")


# What a device writes and throws away by itself.
_COMES_AND_GOES = ("log", "crash-file", "leftover")


def followed(
    subject: Subject, later: Subject, wants: Wants, aim: Aim, waivers: Sequence[Waiver]
) -> Followed:
    """Hold the runbook of a device against the same device in a later snapshot."""
    taken, _ = planned(subject, wants, aim, waivers)
    words = [step.words for done in taken for step in _steps(done, subject, NO_RATES)]
    left = [step.words for step in runbook(later, wants, aim, waivers).steps]
    done, not_done = list[str](), list[str]()
    for each in words:
        if each in left:
            left.remove(each)  # one that is asked for twice is done once
            not_done.append(each)
        else:
            done.append(each)
    return Followed(
        device=subject.judged.device.device,
        done=tuple(done),
        not_done=tuple(not_done),
        too_much=tuple(_too_much(subject, later, taken)),
        reload=later.walk.reload,
    )


def _too_much(subject: Subject, later: Subject, taken: Sequence[Done]) -> Iterator[str]:
    """Files that went, and settings that came, though no change of a runbook asks for it."""
    before, now = subject.judged, later.judged
    several = len(before.members or ()) > 1
    stages = [stage for done in taken for stage in done.advice.replay.stages]
    deleted = {
        place
        for stage in stages
        if isinstance(stage.change, Delete)
        for place in (stage.change.place, *stage.change.also)
    }
    for one in before.members or ():
        after = now.member(one.member.id)
        for volume in one.member.volumes or ():
            kept = after.member.volume(volume.name) if after is not None else None
            if kept is None or kept.files is None:
                continue
            there = {kept.folded(file.path) for file in kept.files}
            for file in volume.files or ():
                place = Place(volume.name, file.path, one.member.id)
                role = before.judge.naming.of(file.path, case_blind=volume.case_blind).role
                gone = volume.folded(file.path) not in there
                if gone and place not in deleted and role not in _COMES_AND_GOES:
                    shown = place if several else place.on(None)
                    yield f"{shown} is gone, and no change deletes it"
        if after is not None:
            yield from _other_settings(one.member, after.member, stages)


def _other_settings(was: Member, now: Member, stages: Sequence[Replayed]) -> Iterator[str]:
    """Saved settings that are neither what they were nor what any change makes them."""
    known = [was, *(m for stage in stages for m in stage.device.members or () if m.id == was.id)]
    for name, told in (("order", "order"), ("mode", "mode"), ("default_bank", "default bank")):
        values = [getattr(member.boot, name).saved for member in known if member.boot is not None]
        value = getattr(now.boot, name).saved if now.boot is not None else None
        if value is not None and _plain(value) not in map(_plain, values):
            yield f"the saved boot {told} is {_plain(value)}, which no change sets"


def _plain(value: object) -> str:
    """A setting in words."""
    if isinstance(value, tuple):
        names = [entry.place or entry.remote or entry.raw or "" for entry in value]
        return ", ".join(names) or "empty"
    return str(value)

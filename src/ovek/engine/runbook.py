"""The plan of a device as a person reads it: step by step, with words, undo, minutes and DANGER."""

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from ovek.engine.bootwalk import walk_device
from ovek.engine.change_text import do_of, starts_of
from ovek.engine.changes import NO_RATES, Rates, middle, undoing
from ovek.engine.components import loaded
from ovek.engine.plan import Asked, Plan, plan
from ovek.engine.plan.kinds import Kind
from ovek.engine.plan.plan_text import PlanText
from ovek.engine.plan.settings import kept_entries
from ovek.engine.plan.situation import Situation, Trial
from ovek.engine.replay import ReplayStage as Replayed
from ovek.engine.rules import Subject
from ovek.engine.run_rules import RuleFindings, findings_of
from ovek.engine.verdicts import JudgedDevice, rejudge
from ovek.engine.waivers import waive
from ovek.engine.wanted import Wants
from ovek.model.change import (
    BackUp,
    BootByHand,
    Change,
    CheckDigest,
    Commit,
    Copy,
    CopyBank,
    Delete,
    Reload,
    Save,
    SetOrder,
    WriteBank,
)
from ovek.model.finding import Finding
from ovek.model.ofdevice import of_device
from ovek.model.place import Place
from ovek.model.runbook import (
    STAGES,
    AimKind,
    Cut,
    Followed,
    OpenProblem,
    Runbook,
    RunbookStep,
    Stage,
)
from ovek.model.shelf import ShelfFacts
from ovek.model.snapshot import Boot, Device, Member


def runbook(subject: Subject, wants: Wants, asked: Asked, rates: Rates = NO_RATES) -> Runbook:
    """The runbook of one device; what somebody has accepted is let be.

    `rates` are those of the way there, and at which it worked out digests.
    """
    made = plan(subject, asked)
    return runbook_of(subject, made, wants, asked, rates)


def runbook_of(
    subject: Subject, made: Plan, wants: Wants, asked: Asked, rates: Rates = NO_RATES
) -> Runbook:
    """A plan as a runbook."""
    steps = tuple(steps_of(made.before, made.course.trial, subject.shelf, rates))
    there, after = dict.fromkeys(step.stage for step in steps), made.after
    server = _server(subject, steps)
    left = tuple(each for each in STAGES if each in there or (each == "server copy" and server))
    asks = tuple(_asked(subject, asked.aim))
    opened = tuple(_left(subject, made, wants, asked))
    return Runbook(
        **of_device(subject.judged.device),
        target=subject.wanted.goal_version,
        done=tuple(each for each in asks if each not in left and not made.barred),
        left=left,
        steps=steps,
        minutes=sum(step.do.minutes or 0 for step in steps),
        untimed=sum(step.do.minutes is None for step in steps),
        reloads=sum(step.do.change == "reload" for step in steps),
        danger=tuple(number for number, step in enumerate(steps, 1) if step.do.harm),
        next_boot=subject.walk.next_boot,
        boots=starts_of(subject.walk),
        next_boot_after=after.walk.next_boot,
        boots_after=starts_of(after.walk),
        find_out=made.find_out,
        open=opened,
        barred=made.barred,
        server=server,
        copies=sum(_brought(change) for change in made.changes),
    )


def _server(subject: Subject, steps: Sequence[RunbookStep]) -> tuple[str, ...]:
    """The images that are to be brought, and that the shelf does not hold, proven."""
    shelf = subject.shelf
    if shelf is None:
        return ()
    brought = dict.fromkeys(
        step.do.image
        for step in steps
        if step.do.change in ("copy", "write-bank") and step.do.source is None
        if step.do.from_ is None
    )
    return tuple(name for name in brought if name is not None)


def _brought(change: Change) -> int:
    """The bytes that a change brings over the way to the device."""
    if isinstance(change, Copy) and change.source is not None:
        return 0
    return change.content.size or 0 if isinstance(change, Copy | WriteBank) else 0


def _left(subject: Subject, made: Plan, wants: Wants, asked: Asked) -> Iterator[OpenProblem]:
    """What is left once all is done: findings of some weight, then parts that no step reaches."""
    told = PlanText(subject, made, wants)
    several, spoken = len(subject.members) > 1, set[str]()
    for found in findings_of(subject):
        if found.severity == "note" or _is_waived(found, subject, asked):
            continue
        if asked.aim != "all" and found.rule.stops not in _OF_AIM[asked.aim]:
            continue
        after, words = told.of(found)
        if after is None:
            said = found.said
            owner = said.member if several else None
            place = None if said.place is None else str(said.place.on(said.place.member or owner))
            spoken.add(words)
            yield OpenProblem(
                rule=found.rule.slug, member=owner, place=place, seen=said.seen, words=words
            )
    for barred in made.barred:
        if not any(barred.why.lower() in words.lower() for words in spoken):
            member = barred.member if several else None
            words = barred.words or (_FIND_OUT if barred.unknown else _BY_HAND)
            yield OpenProblem(
                rule=barred.part, member=member, place=None, seen=barred.why, words=words
            )


_FIND_OUT = "Find out that fact, read the device again (ovek survey), and run this command again"
_BY_HAND = "Fix it by hand, read the device again (ovek survey), and run this command again"
_OF_AIM = {
    "boot": ("boot", None),
    "target": ("boot", "target", "settings"),
    "fallback": ("fallback",),
    "tidy": ("nothing", "settings", "proof"),
}


def _is_waived(findings: RuleFindings, subject: Subject, asked: Asked) -> bool:
    """Whether somebody has accepted a finding."""
    if not asked.waivers:
        return False
    said, several = findings.said, len(subject.members) > 1
    place = None if said.place is None else str(said.place.on(said.member if several else None))
    finding = Finding(
        rule=findings.rule.slug, severity=findings.severity, place=place, seen="", words=""
    )
    device, today = subject.judged.device.device, subject.times.now.day()
    ((marked,), _) = waive([finding], device, asked.waivers, today)
    return marked.waived is not None


def _asked(subject: Subject, aim: AimKind) -> Iterator[Stage]:
    """The stages that there are on a device."""
    wanted, layout = subject.wanted, subject.layout
    config = subject.judged.device.config is not None
    goal, target = wanted.goal_version is not None, aim in ("all", "target")
    there: dict[Stage, bool] = {
        "boot loader": not subject.up,
        "configuration": config and target,
        "server copy": subject.shelf is not None and goal and target,
        "free space": goal and target,
        "image": goal and target,
        "digest": goal and target,
        "components": goal and _components(subject) and target,
        "boot settings": aim != "fallback",
        "save": aim != "fallback",
        "reload": goal and target,
        "commit": layout.pair,
        "other bank": wanted.bank_rule is not None and aim in ("all", "fallback"),
        "fallback": subject.policy.keep > 1 and aim in ("all", "fallback"),
        "tidy": aim in ("all", "tidy"),
    }
    return (stage for stage in STAGES if there[stage])


def _components(subject: Subject) -> bool:
    """Whether the wanted release needs anything of components."""
    goals = ((one, subject.wanted.goal_of(one.id)) for one in subject.members)
    return any(
        goal is not None and bool(goal.needs_of(one.one.hardware.model).components)
        for one, goal in goals
    )


def steps_of(
    before: Situation, trial: Trial, shelf: ShelfFacts | None = None, rates: Rates = NO_RATES
) -> Iterator[RunbookStep]:
    """The steps of a plan, each with what to expect of it."""
    device, sheet, judged = before.judged.device, before.judged.judge.sheet, before.judged
    several = len(device.members or ()) > 1
    for number, (stage, kind, there) in enumerate(
        zip(trial.stages, trial.kinds, trial.passed, strict=True), 1
    ):
        do = do_of(stage, device, sheet, several=several, rates=rates, shelf=shelf)
        undo = _undoing(stage.change, before)
        stages = (Replayed(change=back, device=device, walk=stage.walk, harm=()) for back in undo)
        yield RunbookStep(
            stage=_stage(stage.change, kind),
            do=replace(do, number=number),
            brings=tuple(_brings(stage.change, before)),
            free=_free(stage),
            cut=_cut(stage.change, device, judged),
            undo=tuple(do_of(back, device, sheet, several=several).words for back in stages),
        )
        device, before = stage.device, there


def _undoing(change: Change, before: Situation) -> tuple[Change, ...]:
    """What undoes a change; an order that names what does not boot is not worth going back to."""
    if isinstance(change, SetOrder):
        one = before.member(change.member)
        order = (one.member.boot or Boot()).order.live or ()
        if kept_entries(before, one, order) != order:
            return ()
    return undoing(change, before.judged.device)


def _all(made: Plan) -> Iterator[RunbookStep]:
    return steps_of(made.before, made.course.trial)


def _brings(change: Change, before: Situation) -> Iterator[str]:
    """What a reload makes of each component, in words."""
    if not isinstance(change, Reload | BootByHand):
        return
    versions: dict[tuple[str, str | None, str], list[str]] = {}
    for one in before.members:
        image = before.starting(one.member.id)
        release = image.judgement.release if image is not None else None
        for each in loaded(before.judged, one, release):
            component = each.component
            if each.then is not None and each.then != component.version:
                key = component.component, component.version, each.then
                member = f"{one.member.id}/" if len(before.members) > 1 else ""
                versions.setdefault(key, []).append(f"{member}{component.slot or ''}")
    for (name, old, new), slots in versions.items():
        named = [slot for slot in slots if slot]
        where = f" in slots {', '.join(named)}" if len(named) > 1 else ""
        where = f" in slot {named[0]}" if len(named) == 1 else where
        yield f"{name}{where}: {old or 'unknown'} to {new}"


def _cut(change: Change, device: Device, judged: JudgedDevice) -> Cut | None:
    """How the device stands after a power failure in the middle of a change."""
    half = middle(device, change, judged.judge.sheet)
    if half is None:
        return None
    walk = walk_device(rejudge(judged, half))
    return Cut(next_boot=walk.next_boot, boots=starts_of(walk))


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


_BY_KIND: dict[Kind, Stage] = {
    "at-loader": "boot loader",
    "backup": "configuration",
    "unsaved": "configuration",
    "component": "components",
    "commit": "commit",
    "other-bank": "other bank",
    "fallback": "fallback",
    "broken": "tidy",
    "unread": "digest",
    "old-proof": "tidy",
    "reserve": "tidy",
}


def _stage(change: Change, kind: Kind) -> Stage:
    """The stage of the work that a change belongs to."""
    if kind in _BY_KIND:
        return _BY_KIND[kind]
    match change:
        case BackUp() | Delete():
            return "free space"
        case CheckDigest():
            return "digest"
        case Copy() | WriteBank() | CopyBank():
            return "image"
        case Save():
            return "save"
        case Reload():
            return "reload"
        case Commit():
            return "commit"
        case _:
            return "boot settings"


# What a device writes and throws away by itself.
_COMES_AND_GOES = ("log", "crash-file", "leftover")


def followed(subject: Subject, later: Subject, asked: Asked) -> Followed:
    """Hold the runbook of a device against the same device in a later snapshot."""
    made = plan(subject, asked)
    words = [step.words for step in _all(made)]
    left = [step.words for step in _all(plan(later, asked))]
    done, not_done = list[str](), list[str]()
    for word in words:
        if word in left:
            left.remove(word)  # one that is asked for twice is done once
            not_done.append(word)
        else:
            done.append(word)
    return Followed(
        device=subject.judged.device.device,
        done=tuple(done),
        not_done=tuple(not_done),
        too_much=tuple(_too_much(subject, later, made.stages)),
        next_boot=later.walk.next_boot,
    )


def _too_much(subject: Subject, later: Subject, stages: Sequence[Replayed]) -> Iterator[str]:
    """Files that went, and settings that came, though no change of a runbook asks for it."""
    before, now = subject.judged, later.judged
    several = len(before.members or ()) > 1
    deleted = {
        place
        for stage in stages
        if isinstance(stage.change, Delete)
        for place in (stage.change.place, *stage.change.also)
    }
    for member in before.members or ():
        after = now.member(member.member.id)
        for volume in member.member.volumes or ():
            kept = after.member.volume(volume.name) if after is not None else None
            if kept is None or kept.files is None:
                continue
            there = {kept.folded(file.path) for file in kept.files}
            for file in volume.files or ():
                place = Place(volume.name, file.path, member.member.id)
                role = before.judge.naming.of(file.path, case_blind=volume.case_blind).role
                gone = volume.folded(file.path) not in there
                if gone and place not in deleted and role not in _COMES_AND_GOES:
                    shown = place if several else place.on(None)
                    yield f"{shown} is gone, and no step deletes it"
        if after is not None:
            yield from _other_settings(member.member, after.member, stages)


def _other_settings(was: Member, now: Member, stages: Sequence[Replayed]) -> Iterator[str]:
    """Saved settings that are neither what they were nor what any change makes them."""
    known = [was, *(m for stage in stages for m in stage.device.members or () if m.id == was.id)]
    for name, told in (("order", "order"), ("mode", "mode"), ("default_bank", "default bank")):
        values = [getattr(member.boot, name).saved for member in known if member.boot is not None]
        value = getattr(now.boot, name).saved if now.boot is not None else None
        if value is not None and _plain(value) not in map(_plain, values):
            yield f"the saved boot {told} is {_plain(value)}, which no step sets"


def _plain(value: object) -> str:
    """A setting in words."""
    if isinstance(value, tuple):
        names = [entry.shown for entry in value]
        return ", ".join(names) or "empty"
    return str(value)
